package twins

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/directory/policy"
)

func plainAccount(uid string, more map[string][]string) *ldap.Entry {
	attributes := map[string][]string{"uid": {uid}, "pwdPolicySubentry": {"cn=Hour, ou=policies,dc=example"}}
	for k, v := range more {
		attributes[k] = v
	}
	return ldap.NewEntry("uid="+uid+",ou=services,dc=example", attributes)
}

var shown = policy.LockRules{"cn=hour,ou=policies,dc=example": {}, "cn=off,ou=policies,dc=example": {Off: true}}

func TestPlainAccountsTakeTurns(t *testing.T) {
	const a, b = "uid=a,ou=services,dc=example", "uid=b,ou=services,dc=example"
	group := func(name, attribute string, members ...string) *ldap.Entry {
		return ldap.NewEntry("CN="+name+",dc=example", map[string][]string{attribute: members})
	}
	p := Plain{Was: plainAccount("a", nil), Next: plainAccount("b", map[string][]string{policy.LockAttribute: {policy.LockedForGood}}), Locks: shown, Groups: []*ldap.Entry{
		group("both", "member", a, b), group("his", "member", "UID=a , ou=Services,dc=example"), group("hers", "uniqueMember", "uid=other", b), group("posix", "memberUid", "a", "x"), group("old", "memberUid", "b"),
	}}
	assert.Empty(t, p.InTheWay())
	assert.Equal(t, "his 0 member="+b+"\nhers 1 uniqueMember="+b+"\nposix 0 memberUid=b\nold 1 memberUid=b", told(p.Step()))
	assert.Equal(t, "it is added to CN=his,dc=example (member); it is taken from CN=hers,dc=example (uniqueMember); it is added to CN=posix,dc=example (memberUid); it is taken from CN=old,dc=example (memberUid)", p.Words())
	assert.Equal(t, "(|(member="+a+")(uniqueMember="+a+")(memberUid=a)(member="+b+")(uniqueMember="+b+")(memberUid=b))", p.GroupFilter())
	assert.True(t, p.Locked(p.Next))
	assert.False(t, p.Locked(p.Was))
	assert.Equal(t, "uid=a 2 pwdAccountLockedTime=000001010000Z", told([]Change{Lock(p.Was, true)}))
	assert.Equal(t, "uid=b 2 pwdAccountLockedTime=", told([]Change{Lock(p.Next, false)}))
}

func TestWhatIsInTheWayOfPlainAccounts(t *testing.T) {
	for words, next := range map[string]map[string][]string{
		"uid=b,ou=services,dc=example cannot rest": {"pwdPolicySubentry": {"cn=off,ou=policies,dc=example"}},
		"no password policy is shown":              {"pwdPolicySubentry": {"cn=hidden,ou=policies,dc=example"}},
		`their gidNumber differs ("", "7001")`:     {"gidNumber": {"7001"}},
		"their pwdEndTime differs":                 {"pwdEndTime": {"20300101000000Z"}},
	} {
		assert.Contains(t, Plain{Was: plainAccount("a", nil), Next: plainAccount("b", next), Locks: shown}.InTheWay(), words)
	}
	// Without a policy of their own all that are shown must say the same.
	none := map[string][]string{"pwdPolicySubentry": nil}
	p := Plain{Was: plainAccount("a", none), Next: plainAccount("b", none), Locks: shown}
	assert.Contains(t, p.InTheWay(), "cannot rest")
	p.Locks = policy.LockRules{"cn=hour,ou=policies,dc=example": {}}
	assert.Empty(t, p.InTheWay())
	p.Locks = nil
	assert.Contains(t, p.InTheWay(), "cannot rest", "a directory without policies")
	// A lock that does not count is none: it would be told as resting, and let in.
	off := plainAccount("b", map[string][]string{"pwdPolicySubentry": {"cn=off,ou=policies,dc=example"}, policy.LockAttribute: {policy.LockedForGood}})
	assert.False(t, Plain{Locks: shown}.Locked(off))
}
