package planning

import (
	"cmp"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Whoever accepts Kerberos tickets as an account has a key that was made of its password,
// mostly in a key tab. With the change of the password the key distribution center has
// another one, and new tickets cannot be read with the former; those that were given out
// before go on for hours, and hide it. So key tabs are copies: they are given the new key
// beside the former ones. Where a service principal name has none that is known, a person
// must say why.

// keyTab takes a principal of a key tab into the plan, or says why not.
func (p *planner) keyTab(d records.Dependent) {
	decision := p.decisions[d.SystemID][d.Place]
	other := func(kind string) bool { return !slices.Contains(made, kind) }
	switch {
	case decision.Decision == records.CopyLeave:
		p.note(rotation.NoteLeft, "%s on %s holds a key made of the password and stays as it is: %s decided so (%s)", d.Place, d.System, decision.By, decision.Reason)
	case p.account.KeyVersion == 0:
		p.note(rotation.NoteAcceptor, "%s on %s holds a key of it, and the directory does not tell which number its keys have: grant the steward the right to read msDS-KeyVersionNumber, or say what makes the key tab anew", d.Place, d.System)
	case d.Key.Version != p.account.KeyVersion:
		p.note(rotation.NoteAcceptor, "%s on %s holds version %d of the key, and the directory is at version %d: tickets cannot be read with it as it is", d.Place, d.System, d.Key.Version, p.account.KeyVersion)
	case slices.ContainsFunc(d.Key.Encryption, other):
		p.note(rotation.NoteAcceptor, "%s on %s holds keys of the types %s, of which not all are made here", d.Place, d.System, strings.Join(d.Key.Encryption, ", "))
	default:
		p.place(d, held.Locator{Layout: layout.KeyTab, Key: d.Key.Principal, Part: held.PartValue, Salts: strings.Join(p.salts(d.Key.Principal), "\n")}, "")
	}
}

// made are the types of keys that are made here.
var made = []string{"aes128-cts-hmac-sha1-96", "aes256-cts-hmac-sha1-96", "aes128-cts-hmac-sha256-128", "aes256-cts-hmac-sha384-192", "rc4-hmac"}

// salts are those that come into question for the keys of the account: the realm and a
// name. Which one it is, the keys that stand there prove.
func (p *planner) salts(principal string) []string {
	name, realm, _ := strings.Cut(principal, "@")
	local, _, _ := strings.Cut(p.account.UPN, "@")
	account := strings.TrimSuffix(p.account.Name, "$")
	out := []string{realm + p.account.Name, realm + local, realm + strings.ReplaceAll(name, "/", ""), realm + account, realm + "host" + strings.ToLower(account) + "." + strings.ToLower(realm)}
	for _, spn := range p.account.Principals {
		out = append(out, realm+strings.ReplaceAll(spn, "/", ""))
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(salt string) bool { return salt == realm })
}

// acceptors looks for who accepts tickets as each service principal name of the account.
func (p *planner) acceptors(tied []records.Dependent) {
	for _, spn := range p.account.Principals {
		_, at, _ := strings.Cut(spn, "/")
		host, _, _ := strings.Cut(at, "/")
		host, _, _ = strings.Cut(host, ":")
		known := slices.ContainsFunc(tied, func(d records.Dependent) bool {
			switch {
			case d.Kind == estate.DependentKeytab:
				name, _, _ := strings.Cut(d.Key.Principal, "@")
				return strings.EqualFold(name, spn) // in the plan, or told already
			case p.logOns[logOnKey(d)]:
				return sameHost(host, d.System) // its keys come from the log-on itself
			}
			return false
		})
		switch {
		case known:
		case p.wish.NoAcceptors != "":
			p.note(rotation.NoteLeft, "nothing that was found accepts tickets as %s; whoever asked for this says: %s", spn, p.wish.NoAcceptors)
		default:
			p.note(rotation.NoteAcceptor, "%s is a service principal name of it, and neither a key tab with it nor a service of %s that logs on as the account was found: whatever accepts tickets there breaks", spn, cmp.Or(host, "its host"))
		}
	}
}

// sameHost: a name of a principal and a system's may differ in their domain.
func sameHost(a, b string) bool {
	first := func(s string) string { s, _, _ = strings.Cut(strings.ToLower(s), "."); return s }
	return first(a) == first(b)
}
