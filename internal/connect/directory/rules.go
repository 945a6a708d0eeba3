package directory

import (
	"context"
	"fmt"
	"strconv"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

// PasswordRules implements connect.Ruler: the fine-grained policy that applies
// to the account, else that of the domain; the account's policy entry (draft
// Behera, section 5.2) elsewhere.
func (Connector) PasswordRules(ctx context.Context, t connect.Target, account connect.AccountRef) (connect.PasswordRules, error) {
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return connect.PasswordRules{}, failure
	}
	defer s.close()
	if s.windows() {
		return s.windowsRules(account)
	}
	return s.rfcRules(account)
}

func (s *session) windowsRules(account connect.AccountRef) (connect.PasswordRules, error) {
	entry, failure := s.locate(account, "msDS-ResultantPSO")
	if failure != nil {
		return connect.PasswordRules{}, failure
	}
	dn, attribute, from := s.root.GetAttributeValue("defaultNamingContext"), "minPwdLength", "the domain's policy"
	if fine := entry.GetAttributeValue("msDS-ResultantPSO"); fine != "" {
		dn, attribute, from = fine, "msDS-MinimumPasswordLength", "the fine-grained policy "+fine
	}
	policy, _, failure := s.base(dn, attribute)
	if failure != nil {
		return connect.PasswordRules{}, failure
	}
	var text string
	if policy != nil {
		text = policy.GetAttributeValue(attribute)
	}
	shortest, err := strconv.Atoi(text)
	if err != nil {
		return connect.PasswordRules{Unknown: from + " applies, and the steward may not read it: a value of the usual length may be refused"}, nil //nolint:nilerr // what cannot be read is told
	}
	return connect.PasswordRules{Shortest: shortest, From: fmt.Sprintf("%s asks for at least %d characters", from, shortest)}, nil
}

func (s *session) rfcRules(account connect.AccountRef) (connect.PasswordRules, error) {
	entry, failure := s.locate(account, "pwdPolicySubentry")
	if failure != nil {
		return connect.PasswordRules{}, failure
	}
	lengths := []string{"pwdMinLength", "pwdMaxLength"}
	var policies []*ldap.Entry
	rules := connect.PasswordRules{}
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		policy, _, failure := s.base(dn, lengths...)
		if failure != nil {
			return rules, failure
		}
		if policy == nil {
			return connect.PasswordRules{Unknown: "the policy " + dn + " applies, and the steward may not read it"}, nil
		}
		policies, rules.From = []*ldap.Entry{policy}, "the policy "+policy.DN
	} else {
		// Which one is the default stands in the server's configuration.
		shown, failure := s.find(s.contexts, 0, "(objectClass=pwdPolicy)", lengths...)
		if failure != nil {
			return connect.PasswordRules{Unknown: "which policy applies is not shown: " + failure.Words}, nil //nolint:nilerr // what cannot be read is told
		}
		policies = shown
		if len(policies) == 0 {
			return connect.PasswordRules{Unknown: "no policy is shown; whether one applies stands in the server's configuration"}, nil
		}
		rules.From = fmt.Sprintf("the strictest of %d policies", len(policies))
		rules.Unknown = "which policy is the default is not shown: the strictest that is shown is obeyed"
	}
	for _, policy := range policies {
		if n, err := strconv.Atoi(policy.GetAttributeValue("pwdMinLength")); err == nil {
			rules.Shortest = max(rules.Shortest, n)
		}
		if n, err := strconv.Atoi(policy.GetAttributeValue("pwdMaxLength")); err == nil && n > 0 && (rules.Longest == 0 || n < rules.Longest) {
			rules.Longest = n
		}
	}
	if rules.Shortest > 0 {
		rules.From += fmt.Sprintf(" asks for at least %d characters", rules.Shortest)
	}
	if rules.Longest > 0 {
		rules.From += fmt.Sprintf(" and at most %d", rules.Longest)
	}
	return rules, nil
}

var _ connect.Ruler = Connector{}
