package standin_test

import (
	"crypto/tls"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
	standindir "mossledger.example/moss/internal/standin/directory"
)

// A membership that is given for a while: a client that others wrote gives it and sees what is
// left of it where it asks, a survey tells when it ends, and after that moment it is gone at
// either end.
func TestMembershipsForAWhile(t *testing.T) {
	const base = "DC=larkmoor,DC=example"
	var ahead atomic.Int64
	for _, timed := range []bool{true, false} {
		ahead.Store(0)
		d, address, trusted := served(t, standindir.Config{Timed: timed, Now: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }})
		d.Add(standindir.Entry{DN: "CN=svc-tide," + base, Attributes: map[string][]string{"objectClass": {"user"}, "sAMAccountName": {"svc-tide"}}, Password: "Tide-Passw0rd-1"})
		d.Add(standindir.Entry{DN: "CN=Night," + base, Attributes: map[string][]string{"objectClass": {"group"}, "sAMAccountName": {"Night"}}})
		conn, err := ldap.DialURL("ldaps://"+address, ldap.DialWithTLSConfig(&tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}))
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		require.NoError(t, conn.Bind("CN=mossmgr,"+base, "Manager-Passw0rd"))
		change := ldap.NewModifyRequest("CN=Night,"+base, nil)
		change.Add("member", []string{"<TTL=7200,CN=svc-tide," + base + ">"})
		if err = conn.Modify(change); !timed {
			assert.Error(t, err, "a forest without the feature knows no such value")
			continue
		}
		require.NoError(t, err)
		ask := func(of, attribute string, controls ...ldap.Control) []string {
			t.Helper()
			found, err := conn.Search(ldap.NewSearchRequest(of+","+base, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{attribute}, controls))
			require.NoError(t, err)
			return found.Entries[0].GetAttributeValues(attribute)
		}
		assert.Equal(t, []string{"CN=svc-tide," + base}, ask("CN=Night", "member"))
		assert.Regexp(t, `^<TTL=7[12][0-9]{2},CN=svc-tide,`+base+`>$`, ask("CN=Night", "member", ldap.NewControlString("1.2.840.113556.1.4.2309", false, ""))[0])
		host, port := split(t, address)
		var lies []privilege.Membership
		_, err = directory.Connector{}.Rights(t.Context(), connect.Target{
			SystemID: "d", Name: "dir", Kind: "directory", Address: host, Port: port, TrustedCA: trusted,
			Steward: connect.Steward{Account: "CN=mossmgr," + base, Password: secret.New("Manager-Passw0rd")},
		}, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
			for _, m := range b.Rights.Memberships {
				if !m.Until.IsZero() {
					lies = append(lies, m)
				}
			}
			return nil
		})
		require.NoError(t, err)
		require.Len(t, lies, 1)
		assert.WithinDuration(t, time.Now().Add(2*time.Hour), lies[0].Until, time.Minute)
		ahead.Store(int64(2 * time.Hour))
		assert.Empty(t, ask("CN=svc-tide", "memberOf"))
		assert.Empty(t, ask("CN=Night", "member"))
	}
}
