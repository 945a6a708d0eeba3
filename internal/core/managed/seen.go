package managed

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Ask is what a directory is asked about managed accounts.
type Ask struct {
	// Container is where an account is to stand, as a distinguished name; "" for the one that the
	// directory has for them.
	Container string `json:"container,omitempty"`
	// Account is the distinguished name of one that is there already; "" for none.
	Account string `json:"account,omitempty"`
	// Group is one that is to be permitted, by its name or its distinguished name; "" for none.
	Group string `json:"group,omitempty"`
}

// Seen is what a directory says about managed accounts: what it needs to have them, and what the
// steward may do there.
type Seen struct {
	Now        time.Time `json:"now"`                  // by the clock of the directory
	Controller string    `json:"controller,omitempty"` // the server that answered
	// Levels are what the controller, the domain and the forest are said to offer
	// ([MS-ADTS], section 6.1.4); -1 where it is not told.
	ControllerLevel int `json:"controller_level"`
	DomainLevel     int `json:"domain_level"`
	ForestLevel     int `json:"forest_level"`

	Class      estate.Tristate `json:"class"` // the schema has such accounts
	Keys       []RootKey       `json:"root_keys" nullable:"false"`
	KeysUnread string          `json:"root_keys_unread,omitempty"` // why they could not be read, in the directory's words

	Container       string          `json:"container"`                  // where an account would stand
	ContainerUnread string          `json:"container_unread,omitempty"` // why it cannot be seen
	MayCreate       estate.Tristate `json:"may_create"`                 // the steward, there

	Account *AccountSeen `json:"account,omitempty"` // that was asked about
	Group   *Entitled    `json:"group,omitempty"`   // that was asked about
}

// RootKey is one that passwords of managed accounts are derived from: msKds-ProvRootKey of
// [MS-ADSC]. The key itself is never read.
type RootKey struct {
	ID      string    `json:"id"`
	Created time.Time `json:"created,omitzero"`
	Begins  time.Time `json:"begins,omitzero"` // from when on it was meant to be used
}

// KeyDelay is how long a root key has to be there before it is used: until then not every
// controller may have it, and controllers that do not have the same keys derive different passwords.
const KeyDelay = 10 * time.Hour

// Usable is from when on a key is used without a doubt.
func (k RootKey) Usable() time.Time {
	if at := k.Created.Add(KeyDelay); at.After(k.Begins) {
		return at
	}
	return k.Begins
}

// Backdated: it was made to begin before it was there, so that it is used at once.
func (k RootKey) Backdated() bool {
	return !k.Created.IsZero() && !k.Begins.IsZero() && k.Begins.Before(k.Created.Add(-time.Hour))
}

// Sort is what sort of account it is that has a password nobody needs to know.
type Sort string

// Sorts.
const (
	SortGroup  Sort = "hosts of a group" // msDS-GroupManagedServiceAccount
	SortSingle Sort = "one host"         // msDS-ManagedServiceAccount, the older kind
	SortOther  Sort = "another kind"     // of which nothing more is known here
)

// AccountSeen is a managed account as its directory has it.
type AccountSeen struct {
	Name       string          `json:"name"`
	DN         string          `json:"dn"`
	Sort       Sort            `json:"sort" enum:"hosts of a group,one host,another kind"`
	Enabled    estate.Tristate `json:"enabled"`
	DNSName    string          `json:"dns_name,omitempty"`
	Interval   int             `json:"interval_days,omitempty"` // after which the password changes
	Encryption Encryption      `json:"encryption"`
	Changed    time.Time       `json:"changed,omitzero"` // when its password last did
	Services   []string        `json:"services,omitempty"`
	// Permitted are those who may ask for the password; Hosts the computers that may, by
	// themselves or by a group.
	Permitted []Entitled `json:"permitted" nullable:"false"`
	Hosts     []HostSeen `json:"hosts" nullable:"false"`
	// Partly says why there may be more hosts than these; "" when these are all.
	Partly string `json:"partly,omitempty"`
}

// Entitled is somebody who may ask for the password.
type Entitled struct {
	SID  string `json:"sid"`
	Name string `json:"name,omitempty"`
	DN   string `json:"dn,omitempty"`
	Kind string `json:"kind" enum:"group,computer,user,unknown"`
}

// HostSeen is a computer that may ask for the password.
type HostSeen struct {
	Name       string          `json:"name"`
	DN         string          `json:"dn"`
	DNSName    string          `json:"dns_name,omitempty"`
	SID        string          `json:"sid,omitempty"`
	Enabled    estate.Tristate `json:"enabled"`
	Encryption Encryption      `json:"encryption"`
	Through    string          `json:"through,omitempty"` // the group that permits it; "" where it is permitted itself
	Within     string          `json:"within,omitempty"`  // the group that it is itself a member of, by its distinguished name: that one, or one within it
	// Joined is when it became a member, and Latest the time at the latest, where the directory
	// tells of a group only when it last changed. Zero where neither is told.
	Joined time.Time `json:"joined,omitzero"`
	Latest time.Time `json:"joined_at_latest,omitzero"`
}

// Encryption is a set of encryption types: msDS-SupportedEncryptionTypes of [MS-KILE],
// section 2.2.7. Zero says that the directory decides.
type Encryption uint32

// Encryption types.
const (
	encryptionDES  Encryption = 1 | 2
	encryptionRC4  Encryption = 4
	encryptionAES  Encryption = 8 | 16
	EncryptionGood            = encryptionAES                 // what an account gets that is created here
	EncryptionOld             = encryptionAES | encryptionRC4 // where a host has nothing better
)

// Old are those that are broken or about to be.
func (e Encryption) Old() Encryption { return e & (encryptionDES | encryptionRC4) }

// Words names the types.
func (e Encryption) Words() string {
	var out []string
	for _, one := range []struct {
		bit  Encryption
		name string
	}{{1, "DES-CBC-CRC"}, {2, "DES-CBC-MD5"}, {4, "RC4-HMAC"}, {8, "AES128"}, {16, "AES256"}} {
		if e&one.bit != 0 {
			out = append(out, one.name)
		}
	}
	return cmp.Or(strings.Join(out, ", "), "not set: the directory decides")
}

// Usable are the root keys that are used at a time, the one that is preferred first; Waiting those
// that will be.
func (s Seen) usable() (usable, waiting []RootKey) {
	for _, k := range s.Keys {
		if k.Usable().After(s.Now) {
			waiting = append(waiting, k)
		} else {
			usable = append(usable, k)
		}
	}
	slices.SortFunc(usable, func(a, b RootKey) int { return b.Created.Compare(a.Created) })
	slices.SortFunc(waiting, func(a, b RootKey) int { return a.Usable().Compare(b.Usable()) })
	return usable, waiting
}
