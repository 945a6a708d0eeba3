// Package membership works out in which groups of a directory an account is, also by
// groups of groups. It asks nothing: the groups are given to it.
package membership

import (
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
)

// Memberships knows which group lies in which.
type Memberships struct {
	parents map[string][]string // folded DN of a group or member to groups
	named   map[string][]string // memberUid to groups
	groups  map[string]bool     // folded DNs
	numbers map[string][]string // gidNumber or SID to DNs, for primary groups
}

// New knows of none.
func New() *Memberships {
	return &Memberships{parents: map[string][]string{}, named: map[string][]string{}, groups: map[string]bool{}, numbers: map[string][]string{}}
}

// Count is how many groups there are.
func (m *Memberships) Count() int { return len(m.groups) }

// Add takes a group in, with its members or what it is a member of.
func (m *Memberships) Add(e *ldap.Entry, windows bool) {
	key := values.Fold(e.DN)
	if m.groups[key] {
		return // seen from a base above
	}
	m.groups[key] = true
	if windows {
		m.parents[key] = e.GetAttributeValues("memberOf")
		if sid := values.SIDText(e.GetRawAttributeValue("objectSid")); sid != "" {
			m.numbers[sid] = append(m.numbers[sid], e.DN)
		}
		return
	}
	if number := e.GetAttributeValue("gidNumber"); number != "" {
		m.numbers[number] = append(m.numbers[number], e.DN)
	}
	for _, attribute := range []string{"member", "uniqueMember"} {
		for _, member := range e.GetAttributeValues(attribute) {
			member = values.Fold(withoutBits(member))
			m.parents[member] = append(m.parents[member], e.DN)
		}
	}
	for _, name := range e.GetAttributeValues("memberUid") { // letters count (RFC 2307, section 3)
		m.named[name] = append(m.named[name], e.DN)
	}
}

// withoutBits takes the optional unique identifier off (RFC 4517, section
// 3.3.21: DN#'0101'B).
func withoutBits(member string) string {
	if at := strings.LastIndex(member, "#'"); at > 0 && strings.HasSuffix(member, "'B") {
		return member[:at]
	}
	return member
}

// Of returns the groups of an account by its DN, its name and the number of its
// primary group.
func (m *Memberships) Of(e *ldap.Entry, name string) []string {
	if len(m.groups) == 0 {
		return nil
	}
	direct := append(append([]string(nil), m.parents[values.Fold(e.DN)]...), m.named[name]...)
	if number := e.GetAttributeValue("gidNumber"); number != "" {
		direct = append(direct, m.numbers[number]...)
	}
	return m.Effective(direct)
}

// WithPrimary adds the primary group, which memberOf does not have
// ([MS-ADTS] 3.1.1.2.3.3): its SID is the domain's with that number.
func (m *Memberships) WithPrimary(e *ldap.Entry, domain string) []string {
	direct := e.GetAttributeValues("memberOf")
	if number := e.GetAttributeValue("primaryGroupID"); number != "" && domain != "" {
		direct = append(append([]string(nil), direct...), m.numbers[domain+"-"+number]...)
	}
	return direct
}

// Effective adds to direct groups all that these lie in. A group that contains
// itself, at any depth, is walked once.
func (m *Memberships) Effective(direct []string) []string {
	if len(direct) == 0 {
		return nil
	}
	seen := make(map[string]bool, len(direct))
	var out []string
	queue := direct
	for len(queue) > 0 {
		group := queue[0]
		queue = queue[1:]
		key := values.Fold(group)
		if seen[key] {
			continue
		}
		seen[key] = true
		out = append(out, group)
		queue = append(queue, m.parents[key]...)
	}
	return out
}
