// Package charter says what an account of a role must have, may have and must never have,
// and compares that with what it has.
//
// A charter is a text that people read and keep under version control. It is bound to
// accounts by a label. What it asks for is put to the rights that surveys read (package
// privilege), on each system where such an account is: what is missing will break
// something, what is beyond is excess, what is forbidden is told at once, and what cannot
// be seen is told as that. Nothing here asks a system, and nothing changes one.
package charter

import (
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/reach"
)

// Document is a charter as it is written.
type Document struct {
	Name        string   `yaml:"charter"`
	Description string   `yaml:"description,omitempty"`
	Label       string   `yaml:"label,omitempty"`
	Must        []Item   `yaml:"must,omitempty"`
	May         []Item   `yaml:"may,omitempty"`
	Never       []Item   `yaml:"never,omitempty"`
	Account     *Account `yaml:"account,omitempty"`
	OneOn       []string `yaml:"one_on,omitempty"`
	Groups      []Group  `yaml:"groups,omitempty"`
}

// Item is one thing that an account has or not: one of MemberOf, Run, Do and Reach is given.
type Item struct {
	MemberOf string   `yaml:"member_of,omitempty"`
	Run      string   `yaml:"run,omitempty"`
	As       string   `yaml:"as,omitempty"` // of Run: root where it is not given
	Do       string   `yaml:"do,omitempty"` // a verb
	To       string   `yaml:"to,omitempty"`
	What     string   `yaml:"what,omitempty"`
	Reach    string   `yaml:"reach,omitempty"`
	Status   int      `yaml:"status,omitempty"`   // of Reach
	Contains string   `yaml:"contains,omitempty"` // of Reach
	On       []string `yaml:"systems,omitempty"`
	Because  string   `yaml:"because,omitempty"`
}

// Account is how the account itself must be; nil for either way.
type Account struct {
	Enabled               *bool `yaml:"enabled,omitempty"`
	PasswordExpires       *bool `yaml:"password_expires,omitempty"`
	AccountEnds           *bool `yaml:"account_ends,omitempty"`
	PasswordChangedWithin int   `yaml:"password_changed_within,omitempty"` // days
	Shell                 *bool `yaml:"shell,omitempty"`
}

// Group is a group or role that must exist.
type Group struct {
	Name    string   `yaml:"name"`
	On      []string `yaml:"systems,omitempty"`
	Because string   `yaml:"because,omitempty"`
}

// Words say what an item is, in one line.
func (i Item) Words() string {
	var out string
	switch {
	case i.MemberOf != "":
		out = "member of " + i.MemberOf
	case i.Run != "":
		out = "run " + i.Run
		if i.As != "" {
			out += " as " + i.As
		}
	case i.Reach != "":
		out = "reach " + i.Reach
		if i.Status != 0 {
			out += fmt.Sprintf(", status %d", i.Status)
		}
		if i.Contains != "" {
			out += fmt.Sprintf(", with %q in it", i.Contains)
		}
	default:
		out = i.Do
		if i.To != "" {
			kind, name, found := strings.Cut(i.To, ":")
			switch {
			case found && name == "*":
				out += " on every " + kind
			case found:
				out += " on " + kind + " " + name
			default:
				out += " on " + i.To
			}
		}
	}
	if i.What != "" {
		out += " (" + i.What + ")"
	}
	return out
}

// isOn reports whether something of a charter is about a system: by its name, in which *
// stands for anything, or by its kind.
func isOn(on []string, name, kind string) bool {
	if len(on) == 0 {
		return true
	}
	for _, o := range on {
		if of, isKind := strings.CutPrefix(o, "kind:"); isKind {
			if of == kind {
				return true
			}
			continue
		}
		if fits(strings.ToLower(o), strings.ToLower(name)) {
			return true
		}
	}
	return false
}

// fits matches a pattern in which * stands for anything. Where it fails it goes back to the
// last * only: a pattern costs no more than its length times that of the text.
func fits(pattern, text string) bool {
	at, back, from := 0, -1, 0
	for i := 0; i < len(text); {
		switch {
		case at < len(pattern) && pattern[at] == '*':
			at++
			back, from = at, i
			continue
		case at < len(pattern) && pattern[at] == text[i]:
			at, i = at+1, i+1
			continue
		case back < 0:
			return false
		}
		from++
		at, i = back, from
	}
	return strings.Trim(pattern[at:], "*") == ""
}

// Ask is what an item of the kind reach asks of a port.
func (i Item) Ask() reach.Ask {
	target := i.Reach
	if place, err := reach.Parse(target); err == nil {
		target = place.String()
	}
	return reach.Ask{Target: target, Status: i.Status, Contains: i.Contains}
}

// Reaches are the ports that a charter is about on a system.
func (d *Document) Reaches(name, kind string) (out []reach.Ask) {
	for _, list := range [][]Item{d.Must, d.Never} {
		for _, i := range list {
			if i.Reach != "" && isOn(i.On, name, kind) {
				out = append(out, i.Ask())
			}
		}
	}
	return out
}
