package twins

import (
	"fmt"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

func account(name string, more map[string][]string) *ldap.Entry {
	attributes := map[string][]string{"sAMAccountName": {name}, "userAccountControl": {"512"}, "primaryGroupID": {"513"}, "objectClass": {"top", "person", "organizationalPerson", "user"}}
	for k, v := range more {
		attributes[k] = v
	}
	return ldap.NewEntry("CN="+name+",DC=larkmoor,DC=example", attributes)
}

// told is a change in one line.
func told(list []Change) string {
	var out []string
	for _, c := range list {
		for _, m := range c.Changes {
			v := strings.Join(m.Modification.Vals, ",")
			if m.Modification.Type == "unicodePwd" {
				v = "***"
			}
			dn, _, _ := strings.Cut(c.DN, ",")
			out = append(out, fmt.Sprintf("%s %d %s=%s", strings.TrimPrefix(dn, "CN="), m.Operation, m.Modification.Type, v))
		}
	}
	return strings.Join(out, "\n")
}

func TestChangesInTheirOrder(t *testing.T) {
	quay, boats := "CN=Quay,DC=larkmoor,DC=example", "CN=Boats,DC=larkmoor,DC=example"
	p := Pair{
		account("svc-a", map[string][]string{"memberOf": {strings.ToUpper(quay)}, "userAccountControl": {"66048"}, "userWorkstations": {"QUAY1"}}),
		account("svc-b", map[string][]string{"memberOf": {boats}, "userAccountControl": {"514"}, "accountExpires": {"0"}}),
	}
	assert.Empty(t, p.InTheWay())
	assert.Equal(t, "QUAY 0 member=CN=svc-b,DC=larkmoor,DC=example\nBoats 1 member=CN=svc-b,DC=larkmoor,DC=example\nsvc-b 2 accountExpires=\nsvc-b 2 userWorkstations=QUAY1\nsvc-b 2 unicodePwd=***\nsvc-b 2 userAccountControl=66048", told(p.Changes(connect.AcceptBoth, secret.New("x"))), "enabled last, and its password ends as the other one's")
	assert.Equal(t, "svc-a 2 userAccountControl=66050", told(p.Changes(connect.AcceptNew, secret.New("x"))))
	assert.Equal(t, "svc-b 2 unicodePwd=***\nsvc-b 2 userAccountControl=66050", told(p.Changes(connect.AcceptOld, secret.New("x"))), "what rests again has the new value all the same")
	p.Was, p.Next = account("svc-a", map[string][]string{"userAccountControl": {"514"}}), account("svc-b", nil)
	assert.Equal(t, "svc-a 2 userAccountControl=512\nsvc-b 2 unicodePwd=***", told(p.Changes(connect.AcceptBoth, secret.New("x"))), "undoing lets the former one sign in first")
}

func TestWhatIsInTheWay(t *testing.T) {
	for words, next := range map[string]map[string][]string{
		"service principal name HTTP/quay": {"servicePrincipalName": {"HTTP/quay"}},
		"primary groups differ (513, 512)": {"primaryGroupID": {"512"}},
		"account options differ":           {"userAccountControl": {"524800"}}, // trusted for delegation
	} {
		assert.Contains(t, Pair{account("svc-a", nil), account("svc-b", next)}.InTheWay(), words)
	}
	assert.Empty(t, Pair{account("svc-a", nil), account("svc-b", map[string][]string{"userAccountControl": {"66050"}})}.InTheWay(), "that it is disabled, or never expires, is not")
}
