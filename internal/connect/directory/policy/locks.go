package policy

import (
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
)

const LockAttribute = "pwdAccountLockedTime"

// LockedForGood is the time that an administrator's lock has.
const LockedForGood = "000001010000Z"

// LockRule is what one policy (draft-behera-ldap-password-policy, sections 5.2.11, 5.2.12 and
// 5.3.3) says of locks, and of how old passwords may grow.
type LockRule struct {
	Off      bool          // accounts are not locked
	Duration time.Duration // 0: until somebody unlocks
	MaxAge   time.Duration // of a password; 0: any, below 0: not shown
	Change   bool          // a password that was reset must be changed
}

// LockRules are those of all policies that are shown.
type LockRules map[string]LockRule // by normal DN

// LockRulesOf reads them of policies, and of those that can be seen to let passwords grow as
// old as they like: that a policy shows no age says nothing by itself.
func LockRulesOf(policies, ageless []*ldap.Entry) LockRules {
	out := LockRules{}
	for _, shown := range policies {
		seconds, _ := strconv.Atoi(shown.GetAttributeValue("pwdLockoutDuration"))
		age, err := strconv.Atoi(shown.GetAttributeValue("pwdMaxAge"))
		if err != nil {
			age = -1
		}
		out[values.Fold(shown.DN)] = LockRule{Off: shown.GetAttributeValue("pwdLockout") != "TRUE", Duration: time.Duration(seconds) * time.Second, MaxAge: time.Duration(age) * time.Second, Change: shown.GetAttributeValue("pwdMustChange") == "TRUE"}
	}
	for _, e := range ageless {
		if rule, shown := out[values.Fold(e.DN)]; shown {
			rule.MaxAge = 0
			out[values.Fold(e.DN)] = rule
		}
	}
	return out
}

func (r LockRule) holds(since time.Time, forGood bool, now time.Time) bool {
	return !r.Off && (forGood || r.Duration == 0 || now.Before(since.Add(r.Duration)))
}

// State says whether a lock that is shown still holds. Without a policy of its
// own an account has the default one, and which that is stands in the server's
// configuration: then all that are shown must agree. One that is hidden could
// say otherwise, so nothing is undone on the strength of this (restoreLock).
func (rules LockRules) State(entry *ldap.Entry, now time.Time) estate.Tristate {
	text := entry.GetAttributeValue(LockAttribute)
	since, forGood := values.GeneralizedTime(text), text == LockedForGood
	if since.IsZero() && !forGood {
		return estate.Yes // in whatever form: it is locked
	}
	if dn := entry.GetAttributeValue("pwdPolicySubentry"); dn != "" {
		rule, shown := rules[values.Fold(dn)]
		if !shown {
			return estate.Unknown
		}
		return estate.Known(rule.holds(since, forGood, now))
	}
	holds := 0
	for _, rule := range rules {
		if rule.holds(since, forGood, now) {
			holds++
		}
	}
	switch {
	case len(rules) == 0:
		return estate.Unknown
	case holds == len(rules):
		return estate.Yes
	case holds == 0:
		return estate.No
	}
	return estate.Unknown
}
