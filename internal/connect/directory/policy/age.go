package policy

import (
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
)

// Ends says when a password does: so long after its last change as its policy lets it grow old
// (draft-behera-ldap-password-policy, section 5.2.3). Without a policy of its own an account
// has the default one: then all that are shown must agree, as about locks.
func (rules LockRules) Ends(entry *ldap.Entry) expiry.End {
	unknown := expiry.End{State: expiry.Unknown, Why: "no password policy that can be read says it"}
	var age time.Duration
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		rule, shown := rules[values.Fold(dn)]
		if !shown {
			return unknown
		}
		age = rule.MaxAge
	} else {
		agreed := map[time.Duration]bool{}
		for _, rule := range rules {
			agreed[rule.MaxAge], age = true, rule.MaxAge
		}
		if len(agreed) != 1 {
			return unknown
		}
	}
	if age == 0 {
		return expiry.End{State: expiry.Never}
	}
	changed := values.GeneralizedTime(entry.GetAttributeValue("pwdChangedTime"))
	if age < 0 || changed.IsZero() {
		return unknown
	}
	return expiry.At(changed.Add(age))
}

// Tell tells an account when its password ends.
func (rules LockRules) Tell(a *estate.Account, entry *ldap.Entry) {
	end := rules.Ends(entry)
	a.PasswordExpires, a.NeverExpire = end.At, end.State == expiry.Never && !a.MustChange
}

// MakesChange reports whether it is certain that a password which was reset is not accepted for
// anything but being changed (draft-behera-ldap-password-policy, section 5.2.13).
func (rules LockRules) MakesChange(entry *ldap.Entry) bool {
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		return rules[values.Fold(dn)].Change
	}
	for _, rule := range rules {
		if !rule.Change {
			return false
		}
	}
	return len(rules) > 0
}
