package directory

import (
	"context"
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

// Two accounts that take turns are in the same groups, and what they may do they may by
// these. A directory changes one entry at a time: the one whose turn begins is brought into
// its groups first, gets its password then, and is enabled last, so that it cannot sign in
// before it can do all that the other one can. What rests is disabled (ACCOUNTDISABLE,
// [MS-ADTS] 2.2.16), and stays in its groups.

// twinAttributes are read of both.
var twinAttributes = append([]string{"memberOf", "primaryGroupID", "accountExpires", "userWorkstations", "logonHours", "servicePrincipalName"}, policy.Guarding...)

// carried are attributes that are brought over, as they stand.
var carried = []string{"accountExpires", "userWorkstations", "logonHours"}

// Bits of userAccountControl that do not say what an account may: whether it is enabled,
// locked, or its password ends.
const uacPassing = uacDisabled | uacLocked | uacNeverExpires | 0x20 | 0x800000

// twins are the entries of two accounts that take turns.
type twins struct {
	was, next *ldap.Entry
}

func controlOf(e *ldap.Entry) int64 {
	uac, err := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64)
	if err != nil {
		return 0
	}
	return uac
}

// twins reads both, and says what is in the way of their turns.
func (s *session) twins(point connect.Point) (t twins, why string, failure *connect.Failure) {
	if t.was, failure = s.locate(point.Account, twinAttributes...); failure != nil {
		return t, "", failure
	}
	if t.next, failure = s.locate(point.Next, twinAttributes...); failure != nil {
		return t, "", failure
	}
	var out []string
	if !s.windows() {
		return t, "accounts of a directory without the Windows-domain schema have no switch with which one can rest", nil
	}
	for _, e := range []struct {
		*ldap.Entry
		name string
	}{{t.was, point.Account.Name}, {t.next, point.Next.Name}} {
		if refuse, _ := policy.Guard(e.Entry); refuse != "" {
			out = append(out, e.name+": "+refuse)
		}
		if spns := e.GetAttributeValues("servicePrincipalName"); len(spns) > 0 {
			out = append(out, fmt.Sprintf("%s has the service principal name %s, which one account alone can have", e.name, spns[0]))
		}
	}
	if a, b := t.was.GetAttributeValue("primaryGroupID"), t.next.GetAttributeValue("primaryGroupID"); a != b {
		out = append(out, fmt.Sprintf("their primary groups differ (%s, %s)", a, b))
	}
	if a, b := controlOf(t.was)&^uacPassing, controlOf(t.next)&^uacPassing; a != b {
		out = append(out, fmt.Sprintf("their account options differ (userAccountControl %#x, %#x)", a, b))
	}
	return t, strings.Join(out, "; "), nil
}

// groupsApart are the groups that one account must be added to and taken from.
func (t twins) groupsApart() (add, remove []string) {
	was, next := t.was.GetAttributeValues("memberOf"), t.next.GetAttributeValues("memberOf")
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

// Alternates implements connect.Accepter.
func (Connector) Alternates(ctx context.Context, target connect.Target, point connect.Point) (bool, string, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return false, "", failure
	}
	defer s.close()
	_, why, failure := s.twins(point)
	if failure != nil {
		return false, "", failure
	}
	return why == "", why, nil
}

// turning changes one entry after the other, and knows whether it changed any.
type turning struct {
	*session
	changed bool
}

func (t *turning) modify(dn string, fill func(*ldap.ModifyRequest)) *connect.Failure {
	request := ldap.NewModifyRequest(dn, nil)
	fill(request)
	if len(request.Changes) == 0 {
		return nil
	}
	if err := t.conn.Modify(request); err != nil {
		f := t.fail(connect.StageChange, err)
		f.Words = dn + ": " + f.Words
		f.Unclear = f.Unclear || t.changed
		return f
	}
	t.changed = true
	return nil
}

// switched enables or disables an account, with other bits of its options as given.
func (t *turning) switched(e *ldap.Entry, enabled bool, bits int64) *connect.Failure {
	was := controlOf(e)
	will := was&^(uacDisabled|uacNeverExpires) | bits&uacNeverExpires
	if !enabled {
		will |= uacDisabled
	}
	if was == will {
		return nil
	}
	return t.modify(e.DN, func(m *ldap.ModifyRequest) {
		m.Replace("userAccountControl", []string{strconv.FormatInt(will, 10)})
	})
}

// inStep gives the one whose turn begins the groups and limits of the other one.
func (t *turning) inStep(both twins) *connect.Failure {
	add, remove := both.groupsApart()
	for _, group := range add {
		if f := t.modify(group, func(m *ldap.ModifyRequest) { m.Add("member", []string{both.next.DN}) }); f != nil {
			f.Next = "let the steward write member of that group, or add " + both.next.DN + " by hand"
			return f
		}
	}
	for _, group := range remove {
		if f := t.modify(group, func(m *ldap.ModifyRequest) { m.Delete("member", []string{both.next.DN}) }); f != nil {
			f.Next = "let the steward write member of that group, or remove " + both.next.DN + " by hand"
			return f
		}
	}
	return t.modify(both.next.DN, func(m *ldap.ModifyRequest) {
		for _, name := range carried {
			if has := both.was.GetAttributeValues(name); !slices.Equal(has, both.next.GetAttributeValues(name)) {
				m.Replace(name, has)
			}
		}
	})
}

// acceptTurn lets both, or one of two accounts sign in.
func acceptTurn(ctx context.Context, target connect.Target, point connect.Point, given connect.Values, want connect.Accepted) error {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // nothing was sent
		return failure
	}
	defer s.close()
	both, why, failure := s.twins(point)
	if failure != nil {
		return failure
	}
	t := &turning{session: s}
	if failure := t.accept(both, why, given.New, want); failure != nil {
		failure.Words = secret.Scrub(failure.Words, given.Old, given.New)
		return failure
	}
	return nil
}

func (t *turning) accept(both twins, why string, value secret.Value, want connect.Accepted) *connect.Failure {
	switch {
	case want == connect.AcceptNew:
		return t.switched(both.was, false, controlOf(both.was))
	case want == connect.AcceptBoth && why != "":
		return t.target.Fail(connect.StageChange, connect.CodeNotPermitted, why, "nothing was changed", nil)
	}
	if f := t.switched(both.was, true, controlOf(both.was)); f != nil { // undoing; it is otherwise
		return f
	}
	if want == connect.AcceptBoth {
		if f := t.inStep(both); f != nil {
			return f
		}
	}
	if f := t.modify(both.next.DN, func(m *ldap.ModifyRequest) { m.Replace("unicodePwd", []string{values.QuotedUTF16(value)}) }); f != nil {
		return f
	}
	return t.switched(both.next, want == connect.AcceptBoth, controlOf(both.was))
}

// rehearseTurn tells what bringing an account into step would come to.
func (s *session) rehearseTurn(point connect.Point) []connect.Checked {
	line := connect.Checked{System: s.target.Name, What: point.Next.Name + " can do all that " + point.Account.Name + " can", Result: connect.CheckOK}
	both, why, failure := s.twins(point)
	switch {
	case failure != nil:
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return []connect.Checked{line}
	case why != "":
		line.Result, line.Words = connect.CheckFailed, why
		return []connect.Checked{line}
	}
	var words []string
	add, remove := both.groupsApart()
	if len(add) > 0 {
		words = append(words, "it is added to "+strings.Join(add, "; "))
	}
	if len(remove) > 0 {
		words = append(words, "it is taken from "+strings.Join(remove, "; "))
	}
	line.Words = strings.Join(words, "; ")
	return []connect.Checked{line, {
		System: s.target.Name, What: "rights that name " + point.Account.Name + " itself", Result: connect.CheckUnchecked, Words: "what it may by an entry that names it, and no group of it, is not read: " + point.Next.Name + " may that only where it is named too",
		Next: "grant rights to groups of both",
	}}
}
