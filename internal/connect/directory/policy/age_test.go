package policy

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
)

func TestPasswordsGrowOld(t *testing.T) {
	shown := func(dn, age string) *ldap.Entry {
		attributes := map[string][]string{"pwdLockout": {"TRUE"}}
		if age != "" {
			attributes["pwdMaxAge"] = []string{age}
		}
		return ldap.NewEntry(dn, attributes)
	}
	quarter, free, hidden := shown("cn=Quarter,ou=policies,dc=example", "7776000"), shown("cn=free,ou=policies,dc=example", ""), shown("cn=hidden,ou=policies,dc=example", "")
	all := LockRulesOf([]*ldap.Entry{quarter, free, hidden}, []*ldap.Entry{free, shown("cn=elsewhere,dc=example", "")})
	account := func(policy, changed string) *ldap.Entry {
		attributes := map[string][]string{}
		if policy != "" {
			attributes["pwdPolicySubentry"] = []string{policy}
		}
		if changed != "" {
			attributes["pwdChangedTime"] = []string{changed}
		}
		return ldap.NewEntry("uid=svc,dc=example", attributes)
	}
	const changed = "20260301080000Z"
	due := expiry.End{State: expiry.Ends, At: time.Date(2026, 5, 30, 8, 0, 0, 0, time.UTC)}
	unknown := expiry.End{State: expiry.Unknown, Why: "no password policy that can be read says it"}
	never := expiry.End{State: expiry.Never}
	for name, c := range map[string]struct {
		rules LockRules
		entry *ldap.Entry
		want  expiry.End
	}{
		"its own policy, however it is written": {all, account("cn=quarter, ou=policies,dc=example", changed), due},
		"a policy without an age":               {all, account("cn=free,ou=policies,dc=example", changed), never},
		"a policy whose age is hidden":          {all, account("cn=hidden,ou=policies,dc=example", changed), unknown},
		"a policy that is not shown":            {all, account("cn=other,ou=policies,dc=example", changed), unknown},
		"nobody saw it changed":                 {all, account("cn=Quarter,ou=policies,dc=example", ""), unknown},
		"the default, and they differ":          {all, account("", changed), unknown},
		"the default, of one":                   {LockRulesOf([]*ldap.Entry{quarter}, nil), account("", changed), due},
		"the default, of none":                  {LockRulesOf(nil, nil), account("", changed), unknown},
		"an age that is no number":              {LockRulesOf([]*ldap.Entry{shown("cn=x,dc=example", "a year")}, nil), account("", changed), unknown},
	} {
		assert.Equal(t, c.want, c.rules.Ends(c.entry), name)
	}
	a := estate.Account{MustChange: true}
	all.Tell(&a, account("cn=free,ou=policies,dc=example", ""))
	assert.False(t, a.NeverExpire, "it must be changed now")
}

// Only where it is certain that a password which was reset must be changed does resetting end it.
func TestWhoMustChange(t *testing.T) {
	shown := func(dn, change string) *ldap.Entry {
		return ldap.NewEntry(dn, map[string][]string{"pwdMustChange": {change}})
	}
	strict, lax := shown("cn=strict,dc=example", "TRUE"), shown("cn=lax,dc=example", "FALSE")
	own := func(policy string) *ldap.Entry {
		return ldap.NewEntry("uid=svc,dc=example", map[string][]string{"pwdPolicySubentry": {policy}})
	}
	none := ldap.NewEntry("uid=svc,dc=example", nil)
	both := LockRulesOf([]*ldap.Entry{strict, lax}, nil)
	assert.True(t, both.MakesChange(own("CN=Strict, dc=example")))
	assert.False(t, both.MakesChange(own("cn=lax,dc=example")))
	assert.False(t, both.MakesChange(own("cn=hidden,dc=example")))
	assert.False(t, both.MakesChange(none), "which one is the default is not shown")
	assert.True(t, LockRulesOf([]*ldap.Entry{strict}, nil).MakesChange(none))
	assert.False(t, LockRulesOf(nil, nil).MakesChange(none))
}
