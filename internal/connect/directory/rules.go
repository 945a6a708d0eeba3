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

// base reads one entry; nil when it cannot be seen.
func (s *session) base(dn string, attributes ...string) (*ldap.Entry, error) {
	res, err := s.conn.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", attributes, nil))
	if err != nil {
		if f := s.fail(connect.StageRead, err); f.Unclear {
			f.Unclear = false // nothing but reading was tried
			return nil, f
		}
		return nil, nil
	}
	if len(res.Entries) != 1 {
		return nil, nil
	}
	return res.Entries[0], nil
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
	policy, err := s.base(dn, attribute)
	if err != nil {
		return connect.PasswordRules{}, err
	}
	var text string
	if policy != nil {
		text = policy.GetAttributeValue(attribute)
	}
	shortest, err := strconv.Atoi(text)
	if err != nil {
		return connect.PasswordRules{Unknown: from + " applies, and the log-on may not read it: a value of the usual length may be refused"}, nil
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
		policy, err := s.base(dn, lengths...)
		if err != nil {
			return rules, err
		}
		if policy == nil {
			return connect.PasswordRules{Unknown: "the policy " + dn + " applies, and the log-on may not read it"}, nil
		}
		policies, rules.From = []*ldap.Entry{policy}, "the policy "+policy.DN
	} else {
		// Which one is the default stands in the server's configuration.
		res, err := s.conn.Search(ldap.NewSearchRequest(s.facts.BaseDN, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=pwdPolicy)", lengths, nil))
		if err != nil {
			return connect.PasswordRules{Unknown: "which policy applies is not shown: " + s.fail(connect.StageRead, err).Words}, nil
		}
		policies = res.Entries
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
