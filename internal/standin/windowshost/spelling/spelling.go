// Package spelling is about the ways in which accounts are written on a host.
package spelling

import "strings"

// Names are those that a host goes by, and its domain.
type Names struct{ Own, Domain, NetBIOS string }

// BuiltIn reports whether an account is one of the machine itself.
func BuiltIn(account string) bool {
	name := strings.ToLower(account)
	return name == "localsystem" || name == "" || strings.HasPrefix(name, `nt authority\`) || strings.HasPrefix(name, `nt service\`) || strings.HasPrefix(name, `iis apppool\`)
}

// Managed reports whether an account is one of which the host fetches the password, by how it is
// written.
func Managed(account string) bool { return strings.HasSuffix(account, "$") }

// Canonical writes an account in one form: domain\name in lower case, with the host's own name for
// local ones.
func (n Names) Canonical(account string) string {
	fold := strings.ToLower
	if BuiltIn(account) {
		return fold(account)
	}
	if name, domain, found := strings.Cut(account, "@"); found {
		if strings.EqualFold(domain, n.Domain) {
			return fold(n.NetBIOS + `\` + name)
		}
		return fold(domain + `\` + name)
	}
	domain, name, found := strings.Cut(account, `\`)
	switch {
	case !found:
		return fold(n.Own + `\` + account)
	case domain == "." || domain == "":
		return fold(n.Own + `\` + name)
	case strings.EqualFold(domain, n.Domain):
		return fold(n.NetBIOS + `\` + name)
	}
	return fold(account)
}

// Split takes an account apart as events tell it: domain and name.
func (n Names) Split(account string) (domain, name string) {
	if before, after, found := strings.Cut(account, `\`); found {
		if before == "." {
			before = n.Own
		}
		return strings.ToUpper(before), after
	}
	if before, after, found := strings.Cut(account, "@"); found {
		first, _, _ := strings.Cut(after, ".")
		return strings.ToUpper(first), before
	}
	return strings.ToUpper(n.Own), account
}
