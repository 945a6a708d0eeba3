package twins

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
)

// Plain are two accounts of a directory of another schema. There an account rests by an
// administrator's lock (pwdAccountLockedTime, draft-behera-ldap-password-policy, section
// 5.3.3), which counts where the policy of the account has locks at all. Groups name their
// members, by distinguished name or by uid (RFC 4519, section 2.17 and 2.40; RFC 2307).
type Plain struct {
	Was, Next *ldap.Entry
	Groups    []*ldap.Entry // that name either
	Locks     policy.LockRules
}

// PlainAttributes are read of both accounts, and MemberAttributes of groups.
var (
	PlainAttributes  = []string{"uid", "cn", "gidNumber", "pwdPolicySubentry", policy.LockAttribute, "pwdStartTime", "pwdEndTime"}
	MemberAttributes = []string{"member", "uniqueMember", "memberUid"}
)

// GroupFilter finds the groups that name either.
func (p Plain) GroupFilter() string {
	var out strings.Builder
	for _, e := range []*ldap.Entry{p.Was, p.Next} {
		for _, attribute := range MemberAttributes {
			if name := memberName(e, attribute); name != "" {
				fmt.Fprintf(&out, "(%s=%s)", attribute, ldap.EscapeFilter(name))
			}
		}
	}
	return "(|" + out.String() + ")"
}

// memberName is how a group names an entry.
func memberName(e *ldap.Entry, attribute string) string {
	if attribute == "memberUid" {
		return e.GetAttributeValue("uid")
	}
	return e.DN
}

// Locked reports whether an entry has an administrator's lock, and whether it counts.
func (p Plain) Locked(e *ldap.Entry) bool {
	return e.GetAttributeValue(policy.LockAttribute) == policy.LockedForGood && p.lockCounts(e)
}

// lockCounts reports whether an administrator's lock would keep an account from signing in.
func (p Plain) lockCounts(e *ldap.Entry) bool {
	return p.Locks.State(ldap.NewEntry(e.DN, map[string][]string{
		policy.LockAttribute: {policy.LockedForGood}, "pwdPolicySubentry": e.GetAttributeValues("pwdPolicySubentry"),
	}), time.Time{}) == estate.Yes
}

// InTheWay says why they cannot take turns; "" when they can.
func (p Plain) InTheWay() string {
	var out []string
	for _, e := range []*ldap.Entry{p.Was, p.Next} {
		if !p.lockCounts(e) {
			out = append(out, e.DN+" cannot rest: no password policy is shown by which an administrator's lock counts for it (pwdLockout)")
		}
	}
	for _, attribute := range []string{"gidNumber", "pwdPolicySubentry", "pwdStartTime", "pwdEndTime"} {
		if a, b := p.Was.GetAttributeValue(attribute), p.Next.GetAttributeValue(attribute); values.Fold(a) != values.Fold(b) {
			out = append(out, fmt.Sprintf("their %s differs (%q, %q)", attribute, a, b))
		}
	}
	return strings.Join(out, "; ")
}

// Step is how one whose turn begins is brought into step.
func (p Plain) Step() (out []Change) {
	for _, group := range p.Groups {
		m := ldap.NewModifyRequest(group.DN, nil)
		for _, attribute := range MemberAttributes {
			was, next := names(group, attribute, p.Was), names(group, attribute, p.Next)
			switch {
			case was != "" && next == "" && memberName(p.Next, attribute) != "":
				m.Add(attribute, []string{memberName(p.Next, attribute)})
			case was == "" && next != "":
				m.Delete(attribute, []string{next})
			}
		}
		if len(m.Changes) > 0 {
			out = append(out, Change{m, "let the steward write the members of that group, or have it name both by hand"})
		}
	}
	return out
}

// names is how a group names an account, as it stands there; "" when it does not.
func names(group *ldap.Entry, attribute string, e *ldap.Entry) string {
	own := memberName(e, attribute)
	i := slices.IndexFunc(group.GetAttributeValues(attribute), func(v string) bool {
		return own != "" && (v == own || attribute != "memberUid" && values.Fold(v) == values.Fold(own))
	})
	if i < 0 {
		return ""
	}
	return group.GetAttributeValues(attribute)[i]
}

// Lock gives an entry an administrator's lock, or takes it away.
func Lock(e *ldap.Entry, locked bool) Change {
	m := ldap.NewModifyRequest(e.DN, nil)
	if locked {
		m.Replace(policy.LockAttribute, []string{policy.LockedForGood})
	} else {
		m.Replace(policy.LockAttribute, nil)
	}
	return Change{m, "let the steward write " + policy.LockAttribute + " of it"}
}

// Words say what bringing the one into step comes to; "" for nothing.
func (p Plain) Words() string {
	var out []string
	for _, c := range p.Step() {
		for _, m := range c.Changes {
			what := "it is added to "
			if m.Operation == ldap.DeleteAttribute {
				what = "it is taken from "
			}
			out = append(out, what+c.DN+" ("+m.Modification.Type+")")
		}
	}
	return strings.Join(out, "; ")
}
