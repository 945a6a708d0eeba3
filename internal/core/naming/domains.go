package naming

import (
	"fmt"
	"slices"
	"strings"
)

// Domain is a domain of accounts: one that a system here reads, or one that is only
// trusted by such a domain, so that its accounts may sign in all the same.
type Domain struct {
	Names     []string // NetBIOS and DNS names
	SID       string   // that the identifiers of its accounts begin with; "" where not known
	ReadBy    string   // name of the system that reads it; "" where it is only trusted
	TrustedBy string   // name of the system whose domain trusts it
}

// whyUnknown says in plain words why a reference resolves to nobody: its domain is not
// read here, or it is, and has no such account.
func whyUnknown(ref Reference, lookup Lookup) (string, error) {
	words := fmt.Sprintf("no known account answers to the %s \"%s\"", ref.Form, ref.Text)
	var ofIt func(Domain) bool
	switch ref.Form {
	case FormDomain, FormPrincipal:
		ofIt = func(d Domain) bool {
			return slices.ContainsFunc(d.Names, func(name string) bool { return Fold(name) == ref.Domain })
		}
	case FormSID:
		ofIt = func(d Domain) bool { return d.SID != "" && strings.HasPrefix(ref.Name, strings.ToUpper(d.SID)+"-") }
	default:
		return words, nil
	}
	domains, err := lookup.Domains()
	if err != nil {
		return "", err
	}
	if ref.Form == FormSID {
		name, err := lookup.GoneName(ref.Name)
		if err != nil {
			return "", err
		}
		if name != "" {
			return fmt.Sprintf("%s: it was that of %s, which vanished", words, name), nil
		}
	}
	var trusted Domain
	for _, d := range domains {
		switch {
		case !ofIt(d):
		case d.ReadBy != "":
			return fmt.Sprintf("%s, although %s reads that domain: the account was deleted, or the steward may not see it", words, d.ReadBy), nil
		case trusted.TrustedBy == "":
			trusted = d
		}
	}
	switch {
	case trusted.TrustedBy != "":
		return fmt.Sprintf("%s: the domain %s is trusted by that of %s, and no system here reads it: add its directory", words, strings.Join(trusted.Names, ", "), trusted.TrustedBy), nil
	case ref.Form == FormSID && strings.HasPrefix(ref.Name, "S-1-5-21-"):
		return words + ": it is of a domain or a host that no system here reads, and that none of the domains that are read trusts", nil
	}
	return words, nil
}
