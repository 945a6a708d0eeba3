package naming

import (
	"fmt"
	"slices"
	"strings"
)

// Known is one account as the resolver knows it. ID identifies it to the
// caller; System is the system it lives on.
type Known struct {
	ID         string
	System     string
	Host       bool     // lives on a host (local account), not in a directory
	Store      bool     // lives in a data store
	Name       string   // account name
	UPN        string   // principal name
	DN         string   // distinguished name
	SID        string   // security identifier
	FormerSIDs []string // identifiers that it had in domains that it was moved from
	UID        string   // numeric uid
	Domains    []string // NetBIOS and DNS names of its directory
}

// Lookup finds candidates. The store implements it with indexed queries; Index
// implements it in memory.
type Lookup interface {
	ByDN(dn string) ([]Known, error)
	// BySID finds whose identifier it is, or, where it is nobody's, was.
	BySID(sid string) ([]Known, error)
	ByUPN(upn string) ([]Known, error)
	ByName(name string, where Where) ([]Known, error)
	ByUID(system, uid string) ([]Known, error)
	// GoneName is the name that the vanished account with an identifier had; "" when
	// none is remembered. It explains, and never resolves.
	GoneName(sid string) (string, error)
	// Domains are those that are read, and those that these trust.
	Domains() ([]Domain, error)
}

// Where narrows a look for a name: a thousand hosts may each have an account
// of it, and no lookup gives them all.
type Where struct {
	System string // on this system
	Domain string // in this domain, folded
	Host   Sort   // only those that live on hosts, or only others
	Store  Sort   // only those that live in data stores, or only others
}

// Sort says whether accounts of a sort are meant.
type Sort int

// Sorts.
const (
	Also Sort = iota
	Only
	Never
)

func (s Sort) admits(is bool) bool { return s == Also || (s == Only) == is }

// Admits reports whether an account is one of those meant.
func (w Where) Admits(k Known) bool {
	if w.System != "" && k.System != w.System || !w.Host.admits(k.Host) || !w.Store.admits(k.Store) {
		return false
	}
	return w.Domain == "" || slices.ContainsFunc(k.Domains, func(d string) bool { return Fold(d) == w.Domain })
}

// State is the verdict on a reference.
type State string

// Verdicts.
const (
	Resolved  State = "resolved"
	Ambiguous State = "ambiguous"
	Unknown   State = "unknown"
	BuiltIn   State = "built-in"
)

// Resolution says what a reference means.
type Resolution struct {
	State    State
	Form     Form
	Accounts []Known // one when resolved, several when ambiguous
	Why      string  // in plain words
}

// Context says where a reference was found.
type Context struct {
	System string // id of the system; empty when a person typed it
	Host   bool   // that system has local accounts
	Copy   bool   // it stands beside a secret: programs sign in anywhere with it
}

// Resolve decides what a reference means in a context.
func Resolve(text string, context Context, lookup Lookup) (Resolution, error) {
	ref, err := Parse(text)
	if err != nil {
		return Resolution{State: Unknown, Why: err.Error()}, nil //nolint:nilerr // an answer: it names nobody
	}
	res := Resolution{Form: ref.Form}
	var found []Known
	switch ref.Form {
	case FormBuiltIn:
		res.State, res.Why = BuiltIn, "an identity of the machine itself"
		return res, nil
	case FormDN:
		found, err = lookup.ByDN(ref.DN)
	case FormSID:
		found, err = lookup.BySID(ref.Name)
	case FormUID:
		found, err = byNumber(ref, context, lookup)
	case FormPrincipal:
		found, err = byPrincipal(ref, lookup)
	case FormDomain:
		found, err = inDomain(ref, lookup)
	case FormLocal:
		found, err = lookup.ByName(ref.Name, Where{System: context.System, Host: Only})
	default:
		found, err = byBareName(ref.Name, context, lookup)
	}
	if err != nil {
		return Resolution{}, fmt.Errorf("look up %q: %w", text, err)
	}
	found = distinct(found)
	res.Accounts = found
	switch len(found) {
	case 0:
		res.State = Unknown
		if res.Why, err = whyUnknown(ref, lookup); err != nil {
			return Resolution{}, fmt.Errorf("look up %q: %w", text, err)
		}
	case 1:
		res.State = Resolved
		res.Why = fmt.Sprintf("the only known account with the %s \"%s\"", ref.Form, ref.Text)
		if ref.Form == FormSID && !strings.EqualFold(found[0].SID, ref.Name) {
			res.Why = fmt.Sprintf("the only known account that had the %s \"%s\", in a domain that it was moved from", ref.Form, ref.Text)
		}
	default:
		res.State = Ambiguous
		res.Why = fmt.Sprintf("%d known accounts answer to the %s \"%s\"", len(found), ref.Form, ref.Text)
	}
	return res, nil
}

func byPrincipal(ref Reference, lookup Lookup) ([]Known, error) {
	found, err := lookup.ByUPN(ref.Name + "@" + ref.Domain)
	if err != nil || len(found) > 0 {
		return found, err
	}
	// Without a userPrincipalName the implicit one is name@DNS domain.
	return inDomain(ref, lookup)
}

func inDomain(ref Reference, lookup Lookup) ([]Known, error) {
	return lookup.ByName(ref.Name, Where{Domain: ref.Domain})
}

// byBareName: what a host runs as is looked up in its own account files first,
// and then in directories. A name beside a secret may be of any system that a
// program signs in to: there the host's own account is one candidate of several.
// Elsewhere every account of the name is one.
func byBareName(name string, context Context, lookup Lookup) ([]Known, error) {
	if !context.Host {
		return lookup.ByName(name, Where{})
	}
	own, err := lookup.ByName(name, Where{System: context.System, Host: Only})
	if err != nil || len(own) > 0 && !context.Copy {
		return own, err
	}
	elsewhere := Where{Host: Never}
	if !context.Copy {
		elsewhere.Store = Never
	}
	found, err := lookup.ByName(name, elsewhere)
	return append(own, found...), err
}

// byNumber: a number is a uid where a host runs something as it, and a name
// where nobody has that uid. Beside a secret it is a name first, because
// programs sign in by name. What a person typed may be either.
func byNumber(ref Reference, context Context, lookup Lookup) ([]Known, error) {
	host := ""
	if context.Host {
		host = context.System
	}
	byUID, err := lookup.ByUID(host, ref.Name)
	if err != nil || len(byUID) > 0 && context.Host && !context.Copy {
		return byUID, err
	}
	byName, err := byBareName(Fold(ref.Written), context, lookup)
	if err != nil || len(byName) > 0 && context.Host {
		return byName, err
	}
	return append(byUID, byName...), nil
}

func keep(all []Known, want func(Known) bool) []Known {
	var out []Known
	for _, k := range all {
		if want(k) {
			out = append(out, k)
		}
	}
	return out
}

func distinct(all []Known) []Known {
	seen := map[string]bool{}
	return keep(all, func(k Known) bool {
		if seen[k.ID] {
			return false
		}
		seen[k.ID] = true
		return true
	})
}

// Index is a Lookup in memory.
type Index struct {
	all     []Known
	domains []Domain
}

// NewIndex makes an Index of accounts.
func NewIndex(all []Known, domains ...Domain) *Index { return &Index{all, domains} }

// GoneName implements Lookup: what is listed is there.
func (x *Index) GoneName(string) (string, error) { return "", nil }

// Domains implements Lookup.
func (x *Index) Domains() ([]Domain, error) { return x.domains, nil }

func (x *Index) where(match func(Known) bool) ([]Known, error) { return keep(x.all, match), nil }

// ByDN implements Lookup.
func (x *Index) ByDN(dn string) ([]Known, error) {
	return x.where(func(k Known) bool {
		normal, err := NormalDN(k.DN)
		return err == nil && normal == dn
	})
}

// BySID implements Lookup.
func (x *Index) BySID(sid string) ([]Known, error) {
	own, _ := x.where(func(k Known) bool { return strings.EqualFold(k.SID, sid) })
	if len(own) > 0 {
		return own, nil
	}
	return x.where(func(k Known) bool {
		return slices.ContainsFunc(k.FormerSIDs, func(former string) bool { return strings.EqualFold(former, sid) })
	})
}

// ByUPN implements Lookup.
func (x *Index) ByUPN(upn string) ([]Known, error) {
	return x.where(func(k Known) bool { return k.UPN != "" && Fold(k.UPN) == upn })
}

// ByName implements Lookup.
func (x *Index) ByName(name string, where Where) ([]Known, error) {
	return x.where(func(k Known) bool { return Fold(k.Name) == name && where.Admits(k) })
}

// ByUID implements Lookup.
func (x *Index) ByUID(system, uid string) ([]Known, error) {
	return x.where(func(k Known) bool { return k.Host && k.UID == uid && (system == "" || k.System == system) })
}
