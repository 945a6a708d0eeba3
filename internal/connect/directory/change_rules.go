package directory

import (
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

// changeRules are what a password policy says of changing a password now, and back
// again (draft-behera-ldap-password-policy, section 5.2). They hold for whoever is not
// the database's own administrator. In the windows schema none holds for a reset by an
// administrator.
type changeRules struct {
	dn      string
	history int           // passwords that are remembered
	apart   time.Duration // between two changes
	safe    bool          // the former password must be given with the new one
	certain bool          // it is this policy that is in force
}

// changeRules reads them. Where an entry does not name its policy, the one of several
// that is the default stands in the server's configuration: then the strictest of what is
// shown counts, and nothing is certain.
func (s *session) changeRules(entry *ldap.Entry) (changeRules, *connect.Failure) {
	attributes := []string{"pwdInHistory", "pwdMinAge", "pwdSafeModify"}
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		policy, _, failure := s.base(dn, attributes...)
		if failure != nil || policy == nil {
			return changeRules{}, failure
		}
		rules := rulesOf(policy)
		rules.certain = true
		return rules, nil
	}
	policies, failure := s.find(s.contexts, 0, "(objectClass=pwdPolicy)", attributes...)
	if failure != nil {
		return changeRules{}, failure
	}
	var out changeRules
	for _, policy := range policies {
		rules := rulesOf(policy)
		if out.dn == "" || rules.history > out.history || rules.apart > out.apart {
			out.dn = rules.dn
		}
		out.history, out.apart, out.safe = max(out.history, rules.history), max(out.apart, rules.apart), out.safe || rules.safe
	}
	out.certain = len(policies) == 1
	return out, nil
}

func rulesOf(policy *ldap.Entry) changeRules {
	history, _ := strconv.Atoi(policy.GetAttributeValue("pwdInHistory"))
	seconds, _ := strconv.Atoi(policy.GetAttributeValue("pwdMinAge"))
	return changeRules{dn: policy.DN, history: history, apart: time.Duration(seconds) * time.Second, safe: policy.GetAttributeValue("pwdSafeModify") == "TRUE"}
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
	if rules.history == 0 && rules.apart == 0 {
		return nil
	}
	// The database's own administrator, whom no policy binds, is usually no entry of it.
	steward, _, failure := s.base(s.target.Steward.Account, "1.1")
	bound := failure == nil && steward != nil && rules.certain
	certainly := func(result string) string {
		if bound {
			return result
		}
		return connect.CheckWarning
	}
	var out []connect.Checked
	if rules.apart > 0 {
		changed := generalizedTime(entry.GetAttributeValue("pwdChangedTime"))
		if until := changed.Add(rules.apart); !changed.IsZero() && now.Before(until) {
			out = append(out, line("may be changed now", certainly(connect.CheckFailed), fmt.Sprintf("it was changed at %s, and the policy %s asks for %s between two changes", changed.Format(time.DateTime), rules.dn, rules.apart), "wait until "+until.Format(time.DateTime)+", or give the account a policy without pwdMinAge"))
		}
		out = append(out, line("undo possible", connect.CheckWarning, fmt.Sprintf("the policy %s asks for %s between two changes: until then putting the old value back is refused", rules.dn, rules.apart), "prefer the policies stop or continue over undo, or give the account a policy without pwdMinAge"))
	}
	if rules.history > 0 {
		out = append(out, line("undo possible", connect.CheckWarning, fmt.Sprintf("the policy %s remembers %d passwords: putting the old value back may be refused", rules.dn, rules.history), "prefer the policies stop or continue over undo"))
	}
	return out
}
