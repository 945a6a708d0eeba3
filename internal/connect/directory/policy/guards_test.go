package policy

import (
	"encoding/binary"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
)

// sid is a binary SID of a domain, with this last number.
func sid(last uint32) string {
	out := []byte{1, 5, 0, 0, 0, 0, 0, 5}
	for _, n := range []uint32{21, 1004336348, 1177238915, 682003330, last} {
		out = binary.LittleEndian.AppendUint32(out, n)
	}
	return string(out)
}

func TestGuards(t *testing.T) {
	user := []string{"top", "person", "organizationalPerson", "user"}
	for name, v := range map[string]struct {
		attributes  map[string][]string
		refuse, ask bool
	}{
		"a service account":        {map[string][]string{"objectClass": user, "sAMAccountName": {"svc-berth"}, "objectSid": {sid(1113)}, "userAccountControl": {"66048"}}, false, false},
		"the key of all tickets":   {map[string][]string{"objectClass": user, "sAMAccountName": {"krbtgt"}, "objectSid": {sid(502)}}, true, false},
		"the same, renamed":        {map[string][]string{"objectClass": user, "sAMAccountName": {"harbour"}, "objectSid": {sid(502)}}, true, false},
		"of a read-only one":       {map[string][]string{"objectClass": user, "sAMAccountName": {"krbtgt_4711"}, "objectSid": {sid(1200)}, "msDS-SecondaryKrbTgtNumber": {"4711"}}, true, false},
		"a group-managed one":      {map[string][]string{"objectClass": append(user, "computer", "msDS-GroupManagedServiceAccount"), "sAMAccountName": {"gmsa$"}}, true, false},
		"a managed one":            {map[string][]string{"objectClass": append(user, "computer", "msDS-ManagedServiceAccount"), "sAMAccountName": {"smsa$"}}, true, false},
		"a computer":               {map[string][]string{"objectClass": append(user, "computer"), "sAMAccountName": {"TIDE1$"}}, true, false},
		"smart card only":          {map[string][]string{"objectClass": user, "sAMAccountName": {"card"}, "userAccountControl": {"328192"}}, true, false},
		"the first administrator":  {map[string][]string{"objectClass": user, "sAMAccountName": {"harbourmaster"}, "objectSid": {sid(500)}, "adminCount": {"1"}}, false, true},
		"an administrator":         {map[string][]string{"objectClass": user, "sAMAccountName": {"ines"}, "objectSid": {sid(1500)}, "adminCount": {"1"}}, false, true},
		"numbers that only end so": {map[string][]string{"objectClass": user, "sAMAccountName": {"svc"}, "objectSid": {sid(1502)}}, false, false},
		"of another schema":        {map[string][]string{"objectClass": {"inetOrgPerson"}, "uid": {"krbtgt"}}, false, false},
	} {
		refuse, ask := Guard(ldap.NewEntry("cn=x", v.attributes))
		assert.Equal(t, [2]bool{v.refuse, v.ask}, [2]bool{refuse != "", ask != ""}, name)
	}
}
