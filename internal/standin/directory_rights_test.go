package standin_test

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"net"
	"strconv"
	"testing"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	standindir "mossledger.example/moss/internal/standin/directory"
)

// The stand-in lets somebody do what its descriptors say, and nothing else: what the
// connector reads of them is what attempts come to.
func TestControlRightsAgainstAttempts(t *testing.T) {
	server, target := startDirectory(t, true)
	base := "DC=larkmoor,DC=example"
	password := "Person-Passw0rd-1"
	dn := func(name string) string { return "CN=" + name + "," + base }
	for i := range 3 {
		name := fmt.Sprint("tide", i)
		server.Add(standindir.Entry{DN: dn(name), Password: password, Never: true, Attributes: map[string][]string{"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {name}, "cn": {name}}})
	}
	for name, in := range map[string][]string{"inner": {dn("outer")}, "outer": {dn("inner")}, "crew": nil} { // two in a circle
		server.Add(standindir.Entry{DN: dn(name), Attributes: map[string][]string{"objectClass": {"top", "group"}, "sAMAccountName": {name}, "cn": {name}, "memberOf": in}})
	}
	server.Update(dn("tide1"), func(e *standindir.Entry) { e.Attributes["memberOf"] = []string{dn("inner")} })
	random := rand.New(rand.NewPCG(15, 21))
	grants := []struct {
		mask   uint32
		object string
	}{
		{descriptor.ControlAccess, "00299570-246d-11d0-a768-00aa006e0529"},
		{descriptor.ControlAccess, ""},
		{descriptor.WriteProperty, "bf9679c0-0de6-11d0-a285-00aa003049e2"},
		{descriptor.WriteProperty, "f3a64788-5306-11d1-a9c5-0000f80367c1"},
		{descriptor.WriteProperty, "bc0ac240-79a9-11d0-9020-00c04fc2d4cf"},
		{descriptor.WriteProperty, ""},
		{descriptor.ReadProperty, ""},
		{descriptor.FullControl, ""},
	}
	for _, of := range []string{"tide0", "tide1", "tide2", "crew", "inner"} {
		for range 2 {
			g := grants[random.IntN(len(grants))]
			server.Allow(dn(of), dn([]string{"tide0", "tide1", "outer", "inner"}[random.IntN(4)]), g.mask, g.object)
		}
	}
	var all connect.Rights
	_, err := directory.Connector{}.Rights(t.Context(), target, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
		all.Principals = append(all.Principals, b.Rights.Principals...)
		all.Memberships = append(all.Memberships, b.Rights.Memberships...)
		all.Lists = append(all.Lists, b.Rights.Lists...)
		return nil
	})
	require.NoError(t, err)
	for i := range 3 { // who lies in nothing and has nothing by name has what everyone has
		all.Principals = append(all.Principals, privilege.Principal{ID: fmt.Sprint("also", i), Kind: privilege.KindAccount, Name: fmt.Sprint("tide", i)})
	}
	m := privilege.NewModel(privilege.NewGraph(all.Principals, all.Memberships), all.Lists, nil)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(target.TrustedCA)))
	tried, worked := 0, 0
	for i := range 3 {
		name := fmt.Sprint("tide", i)
		ids := m.Graph.Named(func(p privilege.Principal) bool { return p.Name == name }, privilege.KindAccount)
		require.NotEmpty(t, ids, name)
		conn, err := ldap.DialURL("ldaps://"+net.JoinHostPort(target.Address, strconv.Itoa(target.Port)), ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: target.Address, MinVersion: tls.VersionTLS12}))
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		require.NoError(t, conn.Bind(dn(name), password))
		for _, of := range []string{"tide0", "tide1", "tide2", "crew", "inner"} {
			for verb, attribute := range map[string]string{descriptor.VerbResetPassword: "unicodePwd", descriptor.VerbWriteNames: "servicePrincipalName", descriptor.VerbWriteMembers: "member"} {
				if isGroup := of == "crew" || of == "inner"; isGroup != (attribute == "member") {
					continue
				}
				change := ldap.NewModifyRequest(dn(of), nil)
				switch attribute {
				case "unicodePwd": // to what it is, so that who signs in next can
					var raw []byte
					for _, u := range utf16.Encode([]rune(`"` + password + `"`)) {
						raw = append(raw, byte(u), byte(u>>8))
					}
					change.Replace(attribute, []string{string(raw)})
				case "member":
					change.Replace(attribute, []string{})
				default:
					change.Replace(attribute, []string{"HTTP/" + of})
				}
				err := conn.Modify(change)
				d := m.Decide(ids[0], privilege.Question{Verb: verb, Object: privilege.Object{Name: of}})
				assert.Equal(t, err == nil, d.Allowed, "%s: %s of %s: %v", name, verb, of, err)
				if tried++; err == nil {
					worked++
				}
			}
		}
	}
	assert.Equal(t, 24, tried)
	assert.Positive(t, worked)
	assert.Less(t, worked, tried)
}
