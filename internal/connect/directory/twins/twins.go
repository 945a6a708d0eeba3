// Package twins works out what it takes that two accounts of a directory of the windows
// schema take turns. It asks and changes nothing: entries are given to it, and it gives the
// changes.
//
// Accounts that take turns are in the same groups, and what they may do they may by these. A
// directory changes one entry at a time: the one whose turn begins is brought into its
// groups first, gets its password then, and is enabled last, so that it cannot sign in
// before it can do all that the other one can. What rests is disabled (ACCOUNTDISABLE,
// [MS-ADTS] 2.2.16), and stays in its groups.
package twins

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/secret"
)

// Attributes are read of both.
var Attributes = append([]string{"memberOf", "primaryGroupID", "accountExpires", "userWorkstations", "logonHours", "servicePrincipalName"}, policy.Guarding...)

// carried are attributes that are brought over, as they stand.
var carried = []string{"accountExpires", "userWorkstations", "logonHours"}

// Bits of userAccountControl.
const (
	disabled     = 0x2
	locked       = 0x10
	notRequired  = 0x20
	neverExpires = 0x10000
	expired      = 0x800000
	// passing do not say what an account may: whether it is enabled, locked, or its password
	// ends.
	passing = disabled | locked | notRequired | neverExpires | expired
)

// Pair are the entries of two accounts that take turns.
type Pair struct {
	Was, Next *ldap.Entry
}

func controlOf(e *ldap.Entry) int64 {
	uac, err := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64)
	if err != nil {
		return 0
	}
	return uac
}

func nameOf(e *ldap.Entry) string {
	if name := e.GetAttributeValue("sAMAccountName"); name != "" {
		return name
	}
	return e.DN
}

// InTheWay says why they cannot take turns; "" when they can.
func (p Pair) InTheWay() string {
	var out []string
	for _, e := range []*ldap.Entry{p.Was, p.Next} {
		if refuse, _ := policy.Guard(e); refuse != "" {
			out = append(out, nameOf(e)+": "+refuse)
		}
		if spns := e.GetAttributeValues("servicePrincipalName"); len(spns) > 0 {
			out = append(out, fmt.Sprintf("%s has the service principal name %s, which one account alone can have", nameOf(e), spns[0]))
		}
	}
	if a, b := p.Was.GetAttributeValue("primaryGroupID"), p.Next.GetAttributeValue("primaryGroupID"); a != b {
		out = append(out, fmt.Sprintf("their primary groups differ (%s, %s)", a, b))
	}
	if a, b := controlOf(p.Was)&^passing, controlOf(p.Next)&^passing; a != b {
		out = append(out, fmt.Sprintf("their account options differ (userAccountControl %#x, %#x)", a, b))
	}
	return strings.Join(out, "; ")
}

// Groups are those that the one whose turn begins must be added to and taken from.
func (p Pair) Groups() (add, remove []string) {
	was, next := p.Was.GetAttributeValues("memberOf"), p.Next.GetAttributeValues("memberOf")
	apart := func(a, b []string) (out []string) {
		for _, dn := range a {
			if !slices.ContainsFunc(b, func(other string) bool { return values.Fold(other) == values.Fold(dn) }) {
				out = append(out, dn)
			}
		}
		return out
	}
	return apart(was, next), apart(next, was)
}

// Change is one of an entry, and what to do when the directory refuses it.
type Change struct {
	*ldap.ModifyRequest
	Next string
}

// Changes are those that bring about what is wanted, in their order. value is the new one of
// the account whose turn begins.
func (p Pair) Changes(want connect.Accepted, value secret.Value) (out []Change) {
	add := func(dn, next string, fill func(*ldap.ModifyRequest)) {
		m := ldap.NewModifyRequest(dn, nil)
		if fill(m); len(m.Changes) > 0 {
			out = append(out, Change{m, next})
		}
	}
	enable := func(e *ldap.Entry, enabled bool) {
		add(e.DN, "let the steward write userAccountControl of it", func(m *ldap.ModifyRequest) {
			if was, will := controlOf(e), p.control(e, enabled); was != will {
				m.Replace("userAccountControl", []string{strconv.FormatInt(will, 10)})
			}
		})
	}
	if want == connect.AcceptNew {
		enable(p.Was, false)
		return out
	}
	enable(p.Was, true) // where that is undone; it is so otherwise
	if want == connect.AcceptBoth {
		more, fewer := p.Groups()
		for _, group := range more {
			add(group, "let the steward write member of that group, or add "+p.Next.DN+" by hand", func(m *ldap.ModifyRequest) { m.Add("member", []string{p.Next.DN}) })
		}
		for _, group := range fewer {
			add(group, "let the steward write member of that group, or remove "+p.Next.DN+" by hand", func(m *ldap.ModifyRequest) { m.Delete("member", []string{p.Next.DN}) })
		}
		add(p.Next.DN, "let the steward write "+strings.Join(carried, ", ")+" of it", func(m *ldap.ModifyRequest) {
			for _, name := range carried {
				if has := p.Was.GetAttributeValues(name); !slices.Equal(has, p.Next.GetAttributeValues(name)) {
					m.Replace(name, has)
				}
			}
		})
	}
	add(p.Next.DN, "let the steward reset its password", func(m *ldap.ModifyRequest) { m.Replace("unicodePwd", []string{values.QuotedUTF16(value)}) })
	enable(p.Next, want == connect.AcceptBoth)
	return out
}

// control are an account's options when it is enabled or not: whether its password ends is
// that of the one whose turn ends.
func (p Pair) control(e *ldap.Entry, enabled bool) int64 {
	will := controlOf(e)&^(disabled|neverExpires) | controlOf(p.Was)&neverExpires
	if !enabled {
		will |= disabled
	}
	return will
}

// Words say what bringing the one into step comes to; "" for nothing.
func (p Pair) Words() string {
	var out []string
	add, remove := p.Groups()
	if len(add) > 0 {
		out = append(out, "it is added to "+strings.Join(add, "; "))
	}
	if len(remove) > 0 {
		out = append(out, "it is taken from "+strings.Join(remove, "; "))
	}
	return strings.Join(out, "; ")
}
