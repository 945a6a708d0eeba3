package ending

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/core/expiry"
)

// What is written and enforced by no policy is not called in force.
func TestPoliciesJudgePlans(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	rules := policy.LockRulesOf([]*ldap.Entry{
		ldap.NewEntry("cn=strict,dc=example", map[string][]string{"pwdLockout": {"TRUE"}, "pwdMustChange": {"TRUE"}}),
		ldap.NewEntry("cn=lax,dc=example", map[string][]string{"pwdLockout": {"FALSE"}}),
	}, nil)
	for _, c := range []struct {
		policy string
		act    expiry.Act
		of     expiry.What
		holds  bool
	}{
		{"cn=strict,dc=example", expiry.Disable, expiry.Account, true},
		{"cn=lax,dc=example", expiry.Disable, expiry.Account, false},
		{"cn=hidden,dc=example", expiry.Disable, expiry.Account, false},
		{"cn=strict,dc=example", expiry.Expire, expiry.Password, true},
		{"cn=lax,dc=example", expiry.Expire, expiry.Password, false},
		{"cn=hidden,dc=example", expiry.Expire, expiry.Password, false},
	} {
		e := ldap.NewEntry("uid=svc,dc=example", map[string][]string{"entryUUID": {"1"}, "uid": {"svc"}, "pwdPolicySubentry": {c.policy}, "pwdAccountLockedTime": {forGood}, "pwdReset": {"TRUE"}})
		change := expiry.EndChange{Act: c.act, Of: c.of, Name: "svc"}
		p := Of(e, false, change, now)
		p.Judge(e, change, rules)
		assert.True(t, p.There, "%+v", c)
		assert.Equal(t, c.holds, p.InForce, "%+v", c)
		assert.Equal(t, c.holds, p.Refused == "", "%+v: %s", c, p.Refused)
	}
}
