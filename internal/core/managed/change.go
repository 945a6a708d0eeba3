package managed

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Act is what is done about a managed account in its directory.
type Act string

// Acts.
const (
	Create Act = "create" // an account that is not there yet
	Permit Act = "permit" // let the hosts of a group ask for its password
	Forbid Act = "forbid" // let them no longer ask for it
)

// AccountChange is one act about one managed account.
type AccountChange struct {
	Act       Act    `json:"act"`
	Name      string `json:"name"`      // as it signs in: with a $ at the end
	Container string `json:"container"` // distinguished name of where it stands, or is to stand
	DN        string `json:"dn"`        // its own

	// Of create.
	DNSName    string     `json:"dns_name,omitempty"`
	Interval   int        `json:"interval_days,omitempty"` // after which its password changes; fixed once it is there
	Encryption Encryption `json:"encryption,omitempty"`
	Services   []string   `json:"services,omitempty"` // service principal names
	// Early is why it is created although no root key is in effect yet.
	Early string `json:"early,omitempty"`

	// Group may ask for the password, by its distinguished name: of permit and forbid, and of create
	// where one is named at once.
	Group string `json:"group,omitempty"`

	// Former is how it stood, in a form of its connector's own: given back with it, it is as it was.
	Former string `json:"former,omitempty"`
}

// Bounds of a name and an interval.
const (
	longestName     = 15 // characters, without the $: hosts cut longer ones
	IntervalDefault = 30
	intervalLongest = 3650
)

var (
	accountName  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]*$`)
	serviceName  = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.-]*/[A-Za-z0-9._-]+(:[0-9A-Za-z_-]{1,20})?(/[A-Za-z0-9._-]+)?$`)
	dnsNameLabel = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)
)

// Check refuses a change that no directory would take, or that would not be what was meant.
func (c AccountChange) Check() error {
	name, sign := strings.CutSuffix(c.Name, "$")
	switch {
	case c.Act != Create && c.Act != Permit && c.Act != Forbid:
		return fmt.Errorf("%q is no act about a managed account", c.Act)
	case !sign:
		return fmt.Errorf("the name of a managed account ends with a $, and %q does not", c.Name)
	case c.DN == "" || c.Container == "":
		return errors.New("it is not said where it stands")
	case c.Act != Create && c.Group == "":
		return errors.New("name the group whose hosts may ask for the password")
	case c.Act != Create:
		return nil
	case len(name) > longestName:
		return fmt.Errorf("%q has %d characters: a managed account has at most %d besides the $", name, len(name), longestName)
	case !accountName.MatchString(name):
		return fmt.Errorf("%q is no name for a managed account: letters, digits, - and _, and a letter or a digit first", name)
	case strings.Trim(name, "0123456789") == "":
		return fmt.Errorf("%q has digits only: that is no name of an account", name)
	case c.Interval < 1 || c.Interval > intervalLongest:
		return fmt.Errorf("a password changes after 1 to %d days, not %d", intervalLongest, c.Interval)
	case c.Encryption&encryptionAES == 0 || c.Encryption&^(encryptionAES|encryptionRC4) != 0:
		return fmt.Errorf("encryption types are AES128 and AES256, and RC4 besides where an old host needs it, not %s", c.Encryption.Words())
	}
	if err := checkDNSName(c.DNSName); err != nil {
		return err
	}
	for i, s := range c.Services {
		switch {
		case !serviceName.MatchString(s):
			return fmt.Errorf("%q is no service principal name: CLASS/HOST, with a port or a name after it if need be", s)
		case slices.ContainsFunc(c.Services[:i], func(other string) bool { return strings.EqualFold(other, s) }):
			return fmt.Errorf("the service principal name %s is given twice", s)
		}
	}
	return nil
}

func checkDNSName(name string) error {
	labels := strings.Split(name, ".")
	if len(name) > 253 || len(labels) < 2 || strings.Trim(labels[len(labels)-1], "0123456789") == "" || slices.ContainsFunc(labels, func(l string) bool { return !dnsNameLabel.MatchString(l) }) {
		return fmt.Errorf("%q is no whole DNS name: such as lockers.larkmoor.example", name)
	}
	return nil
}

// Thing is what the change is about, in words.
func (c AccountChange) Thing() string { return "the managed account " + c.Name }

// Words say what it does.
func (c AccountChange) Words() string {
	switch c.Act {
	case Permit:
		return "let the hosts of " + c.Group + " ask for the password of " + c.Name
	case Forbid:
		return "let the hosts of " + c.Group + " no longer ask for the password of " + c.Name
	case Create:
	}
	words := fmt.Sprintf("create %s in %s, with a password that changes every %d days", c.Thing(), c.Container, c.Interval)
	if c.Group != "" {
		words += ", for the hosts of " + c.Group
	}
	return words
}

// Details are what the words leave out, and who approves it should see: by name and value.
func (c AccountChange) Details() (out [][2]string) {
	if c.Act != Create {
		return nil
	}
	out = append(out, [2]string{"DNS name", c.DNSName}, [2]string{"encryption types", c.Encryption.Words()})
	if len(c.Services) > 0 {
		out = append(out, [2]string{"service principal names", strings.Join(c.Services, ", ")})
	}
	if c.Early != "" {
		out = append(out, [2]string{"before a root key is in effect", c.Early})
	}
	return out
}

// BackWords say what taking it back does.
func (c AccountChange) BackWords() string {
	other := c
	switch c.Act {
	case Permit:
		other.Act = Forbid
		return other.Words()
	case Forbid:
		other.Act = Permit
		return other.Words() + " again"
	case Create:
	}
	return "delete " + c.Thing() + " again"
}

// HostTitle is the restart of a host as a whole, the proof of it, or what becomes of both when
// everything else is undone, in a few words. from and to are those of its window; zero for none.
func HostTitle(host string, from, to time.Time, proof, undo bool) string {
	switch {
	case undo:
		return host + " is not restarted once more"
	case proof:
		return "prove that " + host + " is up again"
	case from.IsZero():
		return "restart the host " + host
	}
	const at = "2006-01-02 15:04"
	return "restart the host " + host + ", between " + from.UTC().Format(at) + " and " + to.UTC().Format(at) + " UTC"
}

// Title is a step about the change, or its undoing, in a few words.
func (c AccountChange) Title(confirm, undo bool) string {
	switch {
	case confirm && undo:
		return "prove that it is as it was: " + c.Thing()
	case confirm && c.Act == Permit:
		return "prove that the hosts of " + c.Group + " may ask for the password of " + c.Name
	case confirm && c.Act == Forbid:
		return "prove that the hosts of " + c.Group + " may not ask for the password of " + c.Name
	case confirm:
		return "prove that " + c.Thing() + " is there"
	case undo:
		return c.BackWords()
	}
	return c.Words()
}
