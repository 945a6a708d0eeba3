package directory

import (
	"context"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/naming"
)

// memberships knows which group lies in which.
type memberships struct {
	parents map[string][]string // folded DN of a group or member to groups
	named   map[string][]string // memberUid to groups
	groups  map[string]bool     // folded DNs
	numbers map[string][]string // gidNumber or SID to DNs, for primary groups
}

func newMemberships() *memberships {
	return &memberships{parents: map[string][]string{}, named: map[string][]string{}, groups: map[string]bool{}, numbers: map[string][]string{}}
}

func (m *memberships) count() int { return len(m.groups) }

// readGroups reads the groups of the whole directory: accounts below a base lie
// in groups beyond it. Where only the base may be read, that is told.
func (v *visit) readGroups(ctx context.Context) error {
	filter, attributes := rfcGroups, []string{"cn", "member", "uniqueMember", "memberUid", "gidNumber"}
	if v.windows() {
		filter, attributes = windowsGroups, []string{"memberOf", "objectSid"}
	}
	read := func(base string) error {
		return v.pages(ctx, base, filter, attributes, func(entries []*ldap.Entry) error {
			for _, e := range entries {
				v.groups.add(e, v.windows())
			}
			return nil
		})
	}
	var covered []string // folded
	for _, base := range v.contexts {
		if v.closed[base] != "" {
			continue
		}
		err := read(base)
		if err == nil {
			covered = append(covered, values.Fold(base))
			continue
		}
		f := asFailure(v.target, err)
		if v.reads(base) || f.Code != connect.CodeGone && f.Code != connect.CodeNotPermitted {
			return err
		}
		problem := connect.Unread{Stage: connect.StageRead, Place: base, What: "groups beyond the base cannot be read, so groups of groups may be missing: " + f.Words, Next: "grant the steward the right to read groups there"}
		if err := v.emit(connect.Batch{Problems: []connect.Unread{problem}}); err != nil {
			return err
		}
	}
	for _, base := range v.bases {
		below := func(context string) bool { return naming.Below(values.Fold(base), context) }
		if v.closed[base] == "" && !slices.ContainsFunc(covered, below) {
			if err := read(base); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *memberships) add(e *ldap.Entry, windows bool) {
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

// of returns the groups of an account by its DN, its name and the number of its
// primary group.
func (m *memberships) of(e *ldap.Entry, name string) []string {
	if len(m.groups) == 0 {
		return nil
	}
	direct := append(append([]string(nil), m.parents[values.Fold(e.DN)]...), m.named[name]...)
	if number := e.GetAttributeValue("gidNumber"); number != "" {
		direct = append(direct, m.numbers[number]...)
	}
	return m.effective(direct)
}

// withPrimary adds the primary group, which memberOf does not have
// ([MS-ADTS] 3.1.1.2.3.3): its SID is the domain's with that number.
func (m *memberships) withPrimary(e *ldap.Entry, domain string) []string {
	direct := e.GetAttributeValues("memberOf")
	if number := e.GetAttributeValue("primaryGroupID"); number != "" && domain != "" {
		direct = append(append([]string(nil), direct...), m.numbers[domain+"-"+number]...)
	}
	return direct
}

// effective adds to direct groups all that these lie in. A group that contains
// itself, at any depth, is walked once.
func (m *memberships) effective(direct []string) []string {
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
