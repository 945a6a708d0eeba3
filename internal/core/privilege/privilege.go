// Package privilege says who may do what on a system, and through what.
//
// Systems keep rights in lines: a rule for sudo, an entry of a security
// descriptor, a GRANT, a rule of an access list. Such a line is an Entry: it gives
// one principal a verb, or takes it. Entries stand in Lists, each with the objects
// that it is about and with the way in which it decides: any entry that allows is
// enough (grants of databases), the last that matches decides (sudo), or the first
// one does (security descriptors, access rules of directories). Principals are
// accounts, groups, roles and "everyone"; Memberships say which lies in which.
//
// From these three, which connectors read and the store keeps, everything is
// computed: what an account may do, with the chain of groups by which it may, and
// who may do something to an object. Nothing is asked; what a system did not show
// is in Unknown, and is never taken for a no.
package privilege

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// NamedPrefix begins the ids of principals of which a system knows no more than a name of
// somewhere else, such as an account of its domain.
const NamedPrefix = "name:"

// Kind of a principal.
type Kind string

// Kinds of principal.
const (
	KindAccount  Kind = "account"
	KindGroup    Kind = "group"
	KindRole     Kind = "role"
	KindEveryone Kind = "everyone" // whoever may sign in, without being named
	KindUnknown  Kind = "unknown"  // what is named is not there, or of another system
)

// Principal is whom a right may be given to.
type Principal struct {
	ID   string `json:"id"` // stable on its system: that of the account where it is one
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
	DN   string `json:"dn,omitempty"` // distinguished name, of groups in directories
}

// Membership says that one principal has what another one is given.
type Membership struct {
	Member string `json:"member"`        // id of the one that lies in the other
	Group  string `json:"group"`         // id of the other
	How    string `json:"how,omitempty"` // other than by being listed: "primary group"
	Term   string `json:"term,omitempty"`
	// Until is when it ends by itself; zero where it does not.
	Until time.Time `json:"until,omitzero"`
}

// Verbs that mean the same everywhere. Others are the words of their kind of system
// (see Verbs of a connector's description).
const (
	VerbEverything = "everything" // each verb that there is for the object
	VerbRun        = "run"        // a command
	VerbSignIn     = "sign in"
	VerbOwn        = "own" // it may give itself what it has not
)

// Ways of signing in that systems tell apart: what narrows VerbSignIn there.
const (
	AsService = "as a service"
	AsBatch   = "as a batch job"
)

// Decides is the way in which the entries of a list decide.
type Decides string

// Ways to decide.
const (
	DecidesAny   Decides = "any"   // an entry that allows is enough
	DecidesFirst Decides = "first" // the first entry that is about it
	DecidesLast  Decides = "last"  // the last one
	// DecidesAlone is as DecidesFirst, and nothing else on the system gives or takes it: what
	// the list says holds, also where not everything was read.
	DecidesAlone Decides = "alone"
)

// SharedKey begins the keys of lists that are known by what they say, and shared by all
// objects whose lists say the same: one that says something else is another one.
const SharedKey = "rules:"

// Object is what something may be done to.
type Object struct {
	Kind string `json:"kind"`           // host, table, database, entry, file, keys
	Name string `json:"name"`           // as its system names it
	Like bool   `json:"like,omitempty"` // the name is a pattern of SQL: % for any, _ for one character
	// Except are patterns of names that a pattern is not about.
	Except []string `json:"except,omitempty"`
}

// AllNames is the name of all objects of a kind.
const AllNames = "*"

// ObjectSystem is the kind of the object that is the whole system.
const ObjectSystem = "system"

// Entry is one line of a list.
type Entry struct {
	To    string   `json:"to"`              // id of a principal
	Not   []string `json:"not,omitempty"`   // principals that the line leaves out
	Verb  string   `json:"verb"`            //
	Deny  bool     `json:"deny,omitempty"`  // it takes the right
	As    string   `json:"as,omitempty"`    // whose rights a command runs with, as the rule says it
	What  string   `json:"what,omitempty"`  // narrows the object: a command, columns, a pattern of keys
	Terms []string `json:"terms,omitempty"` // what else must be so
	// Through is what those must do first who have it by lying in the principal; "" for
	// nothing.
	Through string   `json:"through,omitempty"`
	Means   []string `json:"means,omitempty"` // what a name in What stands for, where the system told
	Unsure  string   `json:"unsure,omitempty"`
	Default bool     `json:"default,omitempty"` // it has this because nothing says otherwise
	Text    string   `json:"text,omitempty"`    // the line in the system's own language
	Source  string   `json:"source,omitempty"`  // where it stands
	// Until is when it ends by itself; zero where it does not.
	Until time.Time `json:"until,omitzero"`
}

// List is what one place says of some objects.
type List struct {
	Key     string   `json:"key"` // stable on its system
	Decides Decides  `json:"decides"`
	Objects []Object `json:"objects" nullable:"false"`
	Entries []Entry  `json:"entries"`
}

// Lower makes objects and lists come in an order of their own, so that what is the same
// is told to be the same.
func (l *List) Lower() {
	slices.SortFunc(l.Objects, func(a, b Object) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name)) })
	if l.Decides == DecidesAny {
		slices.SortStableFunc(l.Entries, func(a, b Entry) int {
			return cmp.Or(cmp.Compare(a.To, b.To), cmp.Compare(a.Verb, b.Verb), cmp.Compare(a.What, b.What), cmp.Compare(a.Text, b.Text))
		})
	}
}

// RightChange is what somebody would have otherwise: one membership or right, given or taken.
type RightChange struct {
	Give   bool   `json:"give"`  // else take
	To     string `json:"to"`    // name of the principal that is changed
	ToID   string `json:"to_id"` // of the principal on its system
	ToDN   string `json:"to_dn,omitempty"`
	ToKind Kind   `json:"to_kind"`

	Group   string `json:"group,omitempty"` // a membership of it; "" where it is a right
	GroupID string `json:"group_id,omitempty"`
	GroupDN string `json:"group_dn,omitempty"`

	Verb   string `json:"verb,omitempty"`
	Object Object `json:"object,omitzero"`
	What   string `json:"what,omitempty"`
	As     string `json:"as,omitempty"`
	Text   string `json:"text,omitempty"`   // of what is taken: as it stands in the system's own language
	Source string `json:"source,omitempty"` // where it stands
}

// Words say what is given or taken.
func (c RightChange) Words() string {
	if c.Group != "" {
		return "the membership of " + c.Group
	}
	words := "the right to " + c.Verb
	if c.What != "" {
		words += " " + c.What
	}
	if c.Object.Name != "" {
		words += " on " + c.Object.Name
	}
	if c.As != "" {
		words += " as " + c.As
	}
	return words
}

// Link is one link of the chain from an account to the principal that a right is given to.
type Link struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
	How  string `json:"how,omitempty"`
	Term string `json:"term,omitempty"`
}

// Right is one thing that a principal may do, and why.
type Right struct {
	Verb    string   `json:"verb"`
	Objects []Object `json:"objects" nullable:"false"`
	As      string   `json:"as,omitempty"`
	What    string   `json:"what,omitempty"`
	Terms   []string `json:"terms,omitempty"` // of the entry and of the path
	Means   []string `json:"means,omitempty"` // what a name in What stands for, where the system told
	Unsure  string   `json:"unsure,omitempty"`
	Deny    bool     `json:"deny,omitempty"`
	Default bool     `json:"-"`                     // nothing says otherwise
	Path    []Link   `json:"path" nullable:"false"` // from the account to whom it is given; the first is the account
	Text    string   `json:"text,omitempty"`
	Source  string   `json:"source,omitempty"`
	List    string   `json:"list"` // key
	Seq     int      `json:"seq"`  // which entry of it
}

// Through is the path in one line.
func (r Right) Through() string {
	names := make([]string, 0, len(r.Path))
	for _, s := range r.Path[min(1, len(r.Path)):] {
		name := s.Name
		if s.How != "" {
			name += " (" + s.How + ")"
		}
		names = append(names, name)
	}
	return strings.Join(names, " > ")
}

// Covers reports whether having one verb means having another one. Whoever may do
// everything once he is in is not let in by that.
func Covers(has, wanted string) bool {
	return has == wanted || has == VerbEverything && wanted != VerbSignIn
}

// May says in words what an entry gives or takes.
func May(verb string, deny bool, unsure string) string {
	if deny {
		verb = "not " + verb
	}
	if unsure != "" {
		verb = "perhaps " + verb
	}
	return verb
}

// On names objects in words.
func On(objects []Object) string {
	words := make([]string, 0, len(objects))
	for _, o := range objects {
		switch {
		case o.Kind == ObjectSystem:
			words = append(words, "the system")
		case o.Name == AllNames:
			words = append(words, "all "+plural(o.Kind))
		default:
			words = append(words, o.Kind+" "+o.Name)
		}
	}
	if len(words) > 2 {
		return fmt.Sprintf("%s and %d more", words[0], len(words)-1)
	}
	return strings.Join(words, ", ")
}

func plural(kind string) string {
	if strings.HasSuffix(kind, "s") {
		return kind
	}
	return kind + "s"
}
