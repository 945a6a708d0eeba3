package membership

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
)

func group(dn string, attributes map[string][]string) *ldap.Entry {
	return ldap.NewEntry(dn, attributes)
}

// Groups of groups, of either schema: to any depth, in a circle, by name, by number, by a
// member that is written in another way.
func TestEffectiveGroups(t *testing.T) {
	m := New()
	for _, g := range []*ldap.Entry{
		group("cn=crews,dc=x", map[string][]string{"member": {"UID=svc-berth,dc=x", "cn=a,dc=x"}}),
		group("cn=a,dc=x", map[string][]string{"member": {"cn=b,dc=x"}}),
		group("cn=b,dc=x", map[string][]string{"member": {"cn=a, dc=X"}}), // a circle
		group("cn=named,dc=x", map[string][]string{"memberUid": {"svc-tide"}}),
		group("cn=numbered,dc=x", map[string][]string{"gidNumber": {"4711"}}),
		group("cn=bits,dc=x", map[string][]string{"uniqueMember": {"uid=svc-berth,dc=x#'0101'B"}}),
		group("cn=crews,dc=x", map[string][]string{"member": {"uid=svc-tide,dc=x"}}), // seen again from above
	} {
		m.Add(g, false)
	}
	assert.Equal(t, 6, m.Count())
	of := func(dn, name, number string) []string {
		attributes := map[string][]string{}
		if number != "" {
			attributes["gidNumber"] = []string{number}
		}
		return m.Of(ldap.NewEntry(dn, attributes), name)
	}
	assert.ElementsMatch(t, []string{"cn=crews,dc=x", "cn=bits,dc=x"}, of("uid=svc-berth,dc=x", "svc-berth", ""))
	assert.ElementsMatch(t, []string{"cn=named,dc=x", "cn=numbered,dc=x"}, of("uid=svc-tide,dc=x", "svc-tide", "4711"))
	assert.Empty(t, of("uid=svc-tide,dc=x", "SVC-TIDE", ""), "letters count in a memberUid")
	assert.ElementsMatch(t, []string{"cn=a,dc=x", "cn=b,dc=x", "cn=crews,dc=x"}, m.Effective([]string{"cn=b,dc=x"}), "a circle is walked once")
	assert.Nil(t, m.Effective(nil))
	assert.Nil(t, New().Of(ldap.NewEntry("uid=x,dc=x", nil), "x"), "nothing is known")
}

// The windows schema tells memberships at the member, and the primary group by a number.
func TestPrimaryGroups(t *testing.T) {
	m := New()
	sid := string([]byte{1, 5, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 3, 0, 0, 0, 1, 2, 0, 0}) // S-1-5-21-1-2-3-513
	m.Add(group("CN=Domain Users,DC=x", map[string][]string{"objectSid": {sid}, "memberOf": {"CN=Users,DC=x"}}), true)
	m.Add(group("CN=Users,DC=x", map[string][]string{"objectSid": {"no sid"}}), true)
	account := ldap.NewEntry("CN=svc,DC=x", map[string][]string{"memberOf": {"CN=Direct,DC=x"}, "primaryGroupID": {"513"}})
	assert.Equal(t, []string{"CN=Direct,DC=x", "CN=Domain Users,DC=x", "CN=Users,DC=x"}, m.Effective(m.WithPrimary(account, "S-1-5-21-1-2-3")))
	assert.Equal(t, []string{"CN=Direct,DC=x"}, m.WithPrimary(account, ""), "of a domain that shows no identity")
	assert.Equal(t, []string{"CN=Direct,DC=x"}, account.GetAttributeValues("memberOf"), "what was read is not written over")
}
