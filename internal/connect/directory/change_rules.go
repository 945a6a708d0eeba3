package directory

import (
	"fmt"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/values"
)

// changeRules reads them. Where an entry does not name its policy, the one of several
// that is the default stands in the server's configuration: then the strictest of what is
// shown counts, and nothing is certain.
func (s *session) changeRules(entry *ldap.Entry) (policy.Change, *connect.Failure) {
	attributes := []string{"pwdInHistory", "pwdMinAge", "pwdSafeModify"}
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		shown, _, failure := s.base(dn, attributes...)
		if failure != nil || shown == nil {
			return policy.Change{}, failure
		}
		rules := policy.ChangeOf(shown)
		rules.Certain = true
		return rules, nil
	}
	policies, failure := s.find(s.contexts, 0, "(objectClass=pwdPolicy)", attributes...)
	if failure != nil {
		return policy.Change{}, failure
	}
	var out policy.Change
	for _, shown := range policies {
		rules := policy.ChangeOf(shown)
		if out.DN == "" || rules.History > out.History || rules.Apart > out.Apart {
			out.DN = rules.DN
		}
		out.History, out.Apart, out.Safe = max(out.History, rules.History), max(out.Apart, rules.Apart), out.Safe || rules.Safe
	}
	out.Certain = len(policies) == 1
	return out, nil
}

// rehearseChangeRules says whether the password may be changed now, and whether the old
// value could be put back.
func (s *session) rehearseChangeRules(entry *ldap.Entry, now time.Time) []connect.Checked {
	line := func(what, result, words, next string) connect.Checked {
		return connect.Checked{System: s.target.Name, What: what, Result: result, Words: words, Next: next}
	}
	rules, failure := s.changeRules(entry)
	if failure != nil {
		return []connect.Checked{line("undo possible", connect.CheckUnchecked, "the password policies cannot be read: "+failure.Words, "")}
	}
	if rules.History == 0 && rules.Apart == 0 {
		return nil
	}
	// The database's own administrator, whom no policy binds, is usually no entry of it.
	steward, _, failure := s.base(s.target.Steward.Account, "1.1")
	bound := failure == nil && steward != nil && rules.Certain
	certainly := func(result string) string {
		if bound {
			return result
		}
		return connect.CheckWarning
	}
	var out []connect.Checked
	if rules.Apart > 0 {
		changed := values.GeneralizedTime(entry.GetAttributeValue("pwdChangedTime"))
		if until := changed.Add(rules.Apart); !changed.IsZero() && now.Before(until) {
			out = append(out, line("may be changed now", certainly(connect.CheckFailed), fmt.Sprintf("it was changed at %s, and the policy %s asks for %s between two changes", changed.Format(time.DateTime), rules.DN, rules.Apart), "wait until "+until.Format(time.DateTime)+", or give the account a policy without pwdMinAge"))
		}
		out = append(out, line("undo possible", connect.CheckWarning, fmt.Sprintf("the policy %s asks for %s between two changes: until then putting the old value back is refused", rules.DN, rules.Apart), "prefer the policies stop or continue over undo, or give the account a policy without pwdMinAge"))
	}
	if rules.History > 0 {
		out = append(out, line("undo possible", connect.CheckWarning, fmt.Sprintf("the policy %s remembers %d passwords: putting the old value back may be refused", rules.DN, rules.History), "prefer the policies stop or continue over undo"))
	}
	return out
}
