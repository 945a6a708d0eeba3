package standin_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/standin"
	standindir "mossledger.example/moss/internal/standin/directory"
)

// What a directory shows of managed accounts depends on who asks: an administrator is told of root
// keys and may create, somebody who was given no right is told neither, and that nothing is shown
// is not taken for that nothing is there.
func TestManagedAccountsAreTold(t *testing.T) {
	const base = "DC=larkmoor,DC=example"
	now := time.Now()
	begin := func(level int) (*standindir.Server, func(steward string, ask managed.Ask) managed.Seen) {
		d, address, trusted := served(t, standindir.Config{Level: level}, "reader")
		host, port := split(t, address)
		return d, func(steward string, ask managed.Ask) managed.Seen {
			seen, err := directory.Connector{}.Managing(t.Context(), connect.Target{
				SystemID: "d", Name: "dir", Kind: "directory", Address: host, Port: port, TrustedCA: trusted,
				Steward: connect.Steward{Account: "CN=" + steward + "," + base, Password: secret.New("Manager-Passw0rd")},
			}, ask)
			require.NoError(t, err)
			return seen
		}
	}
	d, ask := begin(0)
	seen := ask("mossmgr", managed.Ask{})
	assert.Equal(t, []any{7, 7, 7, estate.Yes, estate.Yes, "CN=Managed Service Accounts," + base, ""},
		[]any{seen.ControllerLevel, seen.DomainLevel, seen.ForestLevel, seen.Class, seen.MayCreate, seen.Container, seen.KeysUnread})
	assert.Empty(t, seen.Keys)
	assert.Contains(t, ask("reader", managed.Ask{}).KeysUnread, "only administrators")
	d.AddRootKey("6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11", now.Add(-time.Hour), now.Add(9*time.Hour))
	seen = ask("mossmgr", managed.Ask{})
	require.Len(t, seen.Keys, 1)
	assert.WithinDuration(t, now.Add(9*time.Hour), seen.Keys[0].Usable(), 2*time.Second)
	seen = ask("reader", managed.Ask{})
	assert.Empty(t, seen.Keys)
	assert.Contains(t, seen.KeysUnread, "only administrators")
	assert.Equal(t, estate.No, seen.MayCreate)
	d.Add(standindir.Entry{DN: "OU=Lockers," + base, Attributes: map[string][]string{"objectClass": {"organizationalUnit"}}})
	d.Allow("OU=Lockers,"+base, "CN=reader,"+base, descriptor.CreateChild, "bf967aba-0de6-11d0-a285-00aa003049e2")
	assert.Equal(t, estate.No, ask("reader", managed.Ask{Container: "OU=Lockers," + base}).MayCreate, "users only")
	d.Allow("OU=Lockers,"+base, "CN=reader,"+base, descriptor.CreateChild, "7b8b558a-93a5-4af7-adca-c017e67f1057")
	assert.Equal(t, estate.Yes, ask("reader", managed.Ask{Container: "OU=Lockers," + base}).MayCreate)
	assert.Contains(t, ask("reader", managed.Ask{Container: "OU=Nowhere," + base}).ContainerUnread, "no such object")

	// Hosts in a group, in a group within it, by itself, in circles; each with since when.
	computer := func(name string) string {
		dn := "CN=" + name + "," + base
		d.Add(standindir.Entry{DN: dn, Attributes: map[string][]string{"objectClass": {"user", "computer"}, "sAMAccountName": {name + "$"}, "dNSHostName": {name + ".larkmoor.example"}, "msDS-SupportedEncryptionTypes": {"28"}}})
		return dn
	}
	group := func(name string) string {
		dn := "CN=" + name + "," + base
		d.Add(standindir.Entry{DN: dn, Attributes: map[string][]string{"objectClass": {"group"}, "sAMAccountName": {name}}})
		return dn
	}
	outer, inner := group("Locker Hosts"), group("Kiosks, (all) <&>")
	one, two, own := computer("ONE"), computer("TWO"), computer("OWN")
	at := func(days int) time.Time { return now.AddDate(0, 0, -days).Truncate(time.Second) }
	for _, l := range []struct {
		group, member string
		at            time.Time
	}{{outer, one, at(30)}, {outer, inner, at(3)}, {inner, two, at(300)}, {inner, outer, at(1)}} {
		code, words := d.Join(l.group, l.member, l.at)
		require.Zero(t, code, words)
	}
	account := "CN=gmsa-lockers," + base
	d.Add(standindir.Entry{DN: account, Changed: at(12), Attributes: map[string][]string{"objectClass": {"user", "computer", standindir.ManagedClass}, "sAMAccountName": {"gmsa-lockers$"}, "msDS-ManagedPasswordInterval": {"30"}, "msDS-SupportedEncryptionTypes": {"24"}}})
	assert.Empty(t, ask("mossmgr", managed.Ask{Account: account}).Account.Permitted)
	d.Permit(account, outer, own)
	a := ask("mossmgr", managed.Ask{Account: account}).Account
	require.NotNil(t, a)
	assert.Equal(t, []any{"gmsa-lockers$", managed.SortGroup, 30, managed.EncryptionGood, estate.Yes, ""}, []any{a.Name, a.Sort, a.Interval, a.Encryption, a.Enabled, a.Partly})
	assert.WithinDuration(t, at(12), a.Changed, time.Second)
	require.Len(t, a.Permitted, 2)
	assert.Equal(t, []string{"group", "computer"}, []string{a.Permitted[0].Kind, a.Permitted[1].Kind})
	found := map[string]managed.HostSeen{}
	for _, h := range a.Hosts {
		found[h.Name] = h
	}
	require.Len(t, found, 3, "%+v", a.Hosts)
	assert.Equal(t, "", found["OWN"].Through)
	assert.Equal(t, []any{"Locker Hosts", at(30).UTC()}, []any{found["ONE"].Through, found["ONE"].Joined})
	assert.Equal(t, at(3).UTC(), found["TWO"].Joined, "it is permitted since its group is, although it has been in that for longer")
	assert.Equal(t, "ONE.larkmoor.example", found["ONE"].DNSName)
	assert.EqualValues(t, 28, found["ONE"].Encryption)
	assert.Nil(t, ask("mossmgr", managed.Ask{Account: outer}).Account, "a group is none")

	_, old := begin(4)
	seen = old("mossmgr", managed.Ask{})
	assert.Equal(t, []any{4, estate.No, estate.No}, []any{seen.ControllerLevel, seen.Class, seen.MayCreate})
	assert.Contains(t, seen.KeysUnread, "no such object")
}

// A client that others wrote creates one, and reads what the directory works out: what is enforced
// is enforced for everybody.
func TestOthersCreateManagedAccounts(t *testing.T) {
	lab.Require(t)
	const base = "DC=larkmoor,DC=example"
	d, address, trusted := served(t, standindir.Config{})
	folder := t.TempDir()
	for name, content := range map[string]string{"ca.pem": trusted, "pw": "Manager-Passw0rd"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(content), 0o600))
	}
	run := func(tool, input string, args ...string) (string, error) {
		cmd := exec.CommandContext(t.Context(), tool, append([]string{"-x", "-H", "ldaps://" + address, "-D", "CN=mossmgr," + base, "-y", filepath.Join(folder, "pw")}, args...)...)
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+filepath.Join(folder, "ca.pem"))
		cmd.Stdin = strings.NewReader(input)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	entry := func(name, service string) string {
		return "dn: CN=" + name + ",CN=Managed Service Accounts," + base + "\nobjectClass: msDS-GroupManagedServiceAccount\nsAMAccountName: " + name + "$\ndNSHostName: " + name + ".larkmoor.example\nservicePrincipalName: " + service + "\nmsDS-ManagedPasswordInterval: 30\n"
	}
	out, err := run("ldapadd", entry("gmsa-one", "HTTP/one.larkmoor.example"))
	require.Error(t, err)
	assert.Contains(t, out, "there is no root key in effect")
	d.AddRootKey("6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11", time.Now().Add(-11*time.Hour), time.Now().Add(-time.Hour))
	out, err = run("ldapadd", entry("gmsa-one", "HTTP/one.larkmoor.example"))
	require.NoError(t, err, out)
	out, err = run("ldapadd", entry("gmsa-one", "HTTP/one.larkmoor.example"))
	require.Error(t, err)
	assert.Contains(t, out, "Already exists (68)")
	out, err = run("ldapadd", entry("gmsa-two", "http/ONE.larkmoor.example"))
	require.Error(t, err)
	assert.Contains(t, out, "is not unique in the forest")
	out, err = run("ldapadd", entry("gmsa-of-all-the-gates", "HTTP/gates.larkmoor.example"))
	require.Error(t, err)
	assert.Contains(t, out, "at most 15 characters")
	out, err = run("ldapadd", "dn: CN=somebody,"+base+"\nobjectClass: user\nsAMAccountName: somebody\n")
	require.Error(t, err)
	assert.Contains(t, out, "creates managed accounts only")
	out, err = run("ldapsearch", "", "-LLL", "-b", "CN=Managed Service Accounts,"+base, "-s", "base", "allowedChildClassesEffective")
	require.NoError(t, err, out)
	assert.Contains(t, out, "allowedChildClassesEffective: msDS-GroupManagedServiceAccount")
	out, err = run("ldapsearch", "", "-LLL", "-b", base, "(sAMAccountName=gmsa-one$)", "objectClass", "objectSid")
	require.NoError(t, err, out)
	assert.Contains(t, out, "objectClass: computer")
	assert.Contains(t, out, "objectSid:: ")
}

// served is a directory of the Windows-domain schema with an administrator, mossmgr, and others
// who may do nothing; and the authority that its certificate is of.
func served(t *testing.T, config standindir.Config, others ...string) (d *standindir.Server, address, trusted string) {
	t.Helper()
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config.Base, config.NetBIOS, config.Windows = "DC=larkmoor,DC=example", "LARKMOOR", true
	config.TLS, err = authority.Server("127.0.0.1")
	require.NoError(t, err)
	d = standindir.New(config)
	for _, name := range append([]string{"mossmgr"}, others...) {
		d.Add(standindir.Entry{DN: "CN=" + name + "," + config.Base, Attributes: map[string][]string{"objectClass": {"user"}, "sAMAccountName": {name}}, Password: "Manager-Passw0rd", Admin: name == "mossmgr"})
	}
	address, err = d.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d, address, authority.PEM
}
