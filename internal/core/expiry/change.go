package expiry

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Act is what is done about an end. None of them is a rotation: the value stays what it is.
type Act string

// Acts.
const (
	SetEnd  Act = "set-end" // at a moment to come, or never
	Extend  Act = "extend"  // later than it ends now
	Expire  Act = "expire"  // now
	Disable Act = "disable" // refused until it is enabled, whatever its end is
	Enable  Act = "enable"
	Delete  Act = "delete" // for good
	Issue   Act = "issue"  // a further key is accepted, which ends when its certificate does
)

// Acts are all of them.
func Acts() []Act { return []Act{SetEnd, Extend, Expire, Disable, Enable, Delete, Issue} }

// Takes reports whether what the act does takes access away.
func (a Act) Takes() bool { return a == Expire || a == Disable || a == Delete }

// EndChange is one act about the end of one thing on its system.
type EndChange struct {
	Act  Act    `json:"act"`
	Of   What   `json:"of"`
	Name string `json:"name"`         // of the account, as its system writes it
	ID   string `json:"id"`           // the stable id of the account
	DN   string `json:"dn,omitempty"` // in directories
	// Account is the number of the account in the picture.
	Account string `json:"account,omitempty"`
	// Gives: it lasts longer by it, or is let in again.
	Gives bool `json:"gives,omitempty"`
	// Of an entry that lets the holder of a key in: the file, and which key.
	Path        string `json:"path,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	KeyID       string `json:"key_id,omitempty"` // of a key that its issuer numbers
	End         End    `json:"end,omitzero"`     // for set-end, extend and issue
	// Certificate introduces the key of issue, in PEM. It is public: the private half is
	// with who made it.
	Certificate string `json:"certificate,omitempty"`
	// Former is how it stood, in a form of its connector's own: given back with it, it is
	// as it was.
	Former string `json:"former,omitempty"`
}

// Check refuses a change that says nothing.
func (c EndChange) Check(now time.Time) error {
	switch {
	case !slices.Contains(Acts(), c.Act):
		return fmt.Errorf("%q is no act about an end", c.Act)
	case !slices.Contains(Whats(), c.Of):
		return fmt.Errorf("%q is nothing that ends", c.Of)
	case c.Act == Issue && c.Certificate == "":
		return errors.New("a key is issued by a certificate of it, and none is given")
	case c.Act != SetEnd && c.Act != Extend && c.Act != Issue:
		return nil
	case c.End.State == Never:
		return nil
	case c.End.State != Ends:
		return errors.New("no end is given")
	case c.End.Past(now) && c.Act == Issue:
		return fmt.Errorf("the certificate ended: %s", c.End)
	case c.End.Past(now):
		return fmt.Errorf("%s has passed: 'expire' ends it now", c.End)
	}
	return nil
}

// Thing is what the change is about, in words.
func (c EndChange) Thing() string {
	switch {
	case c.Fingerprint != "":
		return "the entry of the key " + c.Fingerprint + " in " + c.Path
	case c.KeyID != "":
		return "the key " + c.KeyID + " of " + c.Name
	case c.Of == Account:
		return "the account " + c.Name
	case c.Of == Role:
		return "the role " + c.Name
	}
	return "the " + string(c.Of) + " of " + c.Name
}

// Words say what it does.
func (c EndChange) Words() string {
	switch c.Act {
	case SetEnd, Extend:
		verb := map[Act]string{SetEnd: "have", Extend: "extend"}[c.Act]
		switch {
		case c.End.State == Never:
			return "have " + c.Thing() + " never end"
		case c.Act == Extend:
			return verb + " " + c.Thing() + " until " + c.End.String()
		}
		return verb + " " + c.Thing() + " end at " + c.End.String()
	case Expire:
		return "have " + c.Thing() + " end now"
	case Issue:
		if c.End.State == Never {
			return "accept " + c.Thing() + ", for ever"
		}
		return "accept " + c.Thing() + " until " + c.End.String()
	}
	return string(c.Act) + " " + c.Thing()
}

// BackWords say what taking it back does.
func (c EndChange) BackWords() string {
	switch c.Act {
	case Disable:
		return "enable " + c.Thing() + " again"
	case Enable:
		return "disable " + c.Thing() + " again"
	case Issue:
		return "delete " + c.Thing() + " again"
	case Delete:
		return "bring " + c.Thing() + " back"
	}
	return "give " + c.Thing() + " the end back that it had"
}

// Possible is an act that systems of a kind offer about something.
type Possible struct {
	Act Act    `json:"act"`
	Of  What   `json:"of"`
	How string `json:"how"` // by what the system keeps it, in its own words
}

// Choose finds what an act is about where a person did not say: what comes first among what
// the system offers. The error names what there is.
func Choose(possible []Possible, act Act, of What) (Possible, error) {
	var known []string
	for _, p := range possible {
		if p.Act == act && (of == "" || p.Of == of) {
			return p, nil
		}
		if p.Act == act {
			known = append(known, string(p.Of))
		}
	}
	if len(known) == 0 {
		return Possible{}, fmt.Errorf("'%s' is not offered there: %s", act, cmp.Or(offered(possible), "nothing about ends is"))
	}
	return Possible{}, fmt.Errorf("'%s' there is about the %s, not the %s", act, strings.Join(known, " or the "), of)
}

func offered(possible []Possible) string {
	var acts []string
	for _, p := range possible {
		if word := string(p.Act); !slices.Contains(acts, word) {
			acts = append(acts, word)
		}
	}
	if len(acts) == 0 {
		return ""
	}
	return "what is, is " + strings.Join(acts, ", ")
}
