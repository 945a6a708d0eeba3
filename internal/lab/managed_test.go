package lab_test

import (
	"encoding/base64"
	"fmt"
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
)

// fileTime is a time as a directory of the Windows schema counts it.
func fileTime(t time.Time) int64 { return (t.Unix() + 11644473600) * 1e7 }

// What a real directory says of managed accounts: a root key that is not there, too young, and in
// effect; who may create accounts where; an account with its permitted groups, and the hosts in them.
func TestRealManagedAccounts(t *testing.T) {
	d := lab.Samba(t, "127.0.0.166", "svc-plain")
	ask := func(ask managed.Ask, as ...string) managed.Seen {
		target := d.Target("samba")
		if len(as) > 0 {
			target.Steward.Account, target.Steward.Password = as[0], secret.New(lab.AccountPassword)
		}
		seen, err := directory.Connector{}.Managing(t.Context(), target, ask)
		require.NoError(t, err)
		return seen
	}
	line := func(s managed.Seen, n int) managed.Line { return managed.Prerequisites(s)[n] }
	seen := ask(managed.Ask{})
	assert.WithinDuration(t, time.Now(), seen.Now, 5*time.Second)
	assert.Equal(t, estate.Yes, seen.Class)
	assert.Less(t, seen.ControllerLevel, managed.LevelManaged, "it has the objects, and gives out no password")
	assert.Equal(t, managed.Missing, line(seen, 1).Result)
	assert.Equal(t, "CN=Managed Service Accounts,"+d.Base, seen.Container)
	assert.Empty(t, seen.Keys)
	assert.NotEqual(t, managed.Met, line(seen, 2).Result)

	configuration := "CN=Configuration," + d.Base
	keys := "CN=Master Root Keys,CN=Group Key Distribution Service,CN=Services," + configuration
	d.Create(t, fmt.Sprintf("dn: CN=Group Key Distribution Service,CN=Services,%s\nobjectClass: container\n\ndn: %s\nobjectClass: container\n", configuration, keys))
	key := func(id string, created, begins time.Time) {
		d.Create(t, fmt.Sprintf("dn: CN=%s,%s\nobjectClass: msKds-ProvRootKey\nmsKds-Version: 1\nmsKds-KDFAlgorithmID: SP800_108_CTR_HMAC\nmsKds-KDFParam:: AAAAAAEAAAAOAAAAAAAAAFMASABBADUAMQAyAAAA\nmsKds-SecretAgreementAlgorithmID: DH\nmsKds-PublicKeyLength: 2048\nmsKds-PrivateKeyLength: 512\nmsKds-RootKeyData:: %s\nmsKds-DomainID: %s\nmsKds-CreateTime: %d\nmsKds-UseStartTime: %d\n",
			id, keys, base64.StdEncoding.EncodeToString(make([]byte, 64)), d.Base, fileTime(created), fileTime(begins)))
	}
	now := time.Now().Truncate(time.Second)
	key("11112222-3333-4444-5555-666677778888", now.Add(-time.Hour), now.Add(-time.Hour))
	seen = ask(managed.Ask{})
	assert.Empty(t, seen.Keys)
	assert.Equal(t, managed.Unknown, line(seen, 2).Result, "it is there, and hidden: %s", seen.KeysUnread)
	show := func(id, more string) { d.Permit(t, "CN="+id+","+keys, "(A;;RPLCRC"+more+";;;"+d.ManagerSID(t)+")") }
	show("11112222-3333-4444-5555-666677778888", "")
	seen = ask(managed.Ask{})
	require.Len(t, seen.Keys, 1)
	assert.Equal(t, managed.Doubt, line(seen, 2).Result, "when it was created is confidential")
	show("11112222-3333-4444-5555-666677778888", "CR")
	seen = ask(managed.Ask{})
	require.Len(t, seen.Keys, 1)
	assert.Equal(t, managed.Missing, line(seen, 2).Result, "too young")
	at, early := seen.Early()
	assert.True(t, early)
	assert.WithinDuration(t, now.Add(9*time.Hour), at, time.Second)
	key("99992222-3333-4444-5555-666677778888", now.AddDate(-1, 0, 0), now.AddDate(-1, 0, 0).Add(managed.KeyDelay))
	show("99992222-3333-4444-5555-666677778888", "CR")
	seen = ask(managed.Ask{})
	assert.Equal(t, managed.Met, line(seen, 2).Result, "%+v", seen)
	assert.Contains(t, line(seen, 2).Words, "99992222")

	group := func(name string, members ...string) string {
		dn := "CN=" + name + ",OU=Service Accounts," + d.Base
		text := "dn: " + dn + "\nobjectClass: group\nsAMAccountName: " + name + "\n"
		for _, m := range members {
			text += "member: " + m + "\n"
		}
		d.Create(t, text)
		return dn
	}
	computer := func(name string) string {
		dn := "CN=" + name + ",CN=Computers," + d.Base
		d.Create(t, "dn: "+dn+"\nobjectClass: computer\nsAMAccountName: "+name+"$\nuserAccountControl: 4096\ndNSHostName: "+name+".larkmoor.example\nmsDS-SupportedEncryptionTypes: 28\n")
		return dn
	}
	one, two := computer("LOCK1"), computer("LOCK2")
	inner := group("locker-kiosks", two)
	outer := group("locker-hosts", one, inner)
	sid, err := descriptor.ParseSID(d.SID(t, outer))
	require.NoError(t, err)
	account := "CN=gmsa-lock,CN=Managed Service Accounts," + d.Base
	d.Create(t, fmt.Sprintf("dn: %s\nobjectClass: msDS-GroupManagedServiceAccount\nsAMAccountName: gmsa-lock$\ndNSHostName: gmsa-lock.larkmoor.example\nmsDS-ManagedPasswordInterval: 30\nmsDS-GroupMSAMembership:: %s\nuserAccountControl: 4096\nservicePrincipalName: HTTP/lock.larkmoor.example\nmsDS-SupportedEncryptionTypes: 24\n",
		account, base64.StdEncoding.EncodeToString(descriptor.Build(sid, descriptor.Entry{Mask: descriptor.ReadProperty, Trustee: sid}))))
	d.Create(t, "dn: CN=smsa-one,CN=Managed Service Accounts,"+d.Base+"\nobjectClass: msDS-ManagedServiceAccount\nsAMAccountName: smsa-one$\nuserAccountControl: 4096\n")
	a := ask(managed.Ask{Account: account}).Account
	require.NotNil(t, a)
	assert.Equal(t, []any{"gmsa-lock$", managed.SortGroup, 30, managed.EncryptionGood, estate.Yes, ""}, []any{a.Name, a.Sort, a.Interval, a.Encryption, a.Enabled, a.Partly})
	require.Len(t, a.Permitted, 1)
	assert.Equal(t, []string{"locker-hosts", "group", sid.String()}, []string{a.Permitted[0].Name, a.Permitted[0].Kind, a.Permitted[0].SID})
	require.Len(t, a.Hosts, 2)
	for _, h := range a.Hosts {
		assert.Equal(t, "locker-hosts", h.Through)
		assert.EqualValues(t, 28, h.Encryption)
		when := h.Joined
		if when.IsZero() { // it tells of a group only when it was changed last
			when = h.Latest
		}
		assert.WithinDuration(t, now, when, 2*time.Minute, "%+v", h)
	}
	assert.Equal(t, managed.SortSingle, ask(managed.Ask{Account: "CN=smsa-one,CN=Managed Service Accounts," + d.Base}).Account.Sort)

	// Somebody without rights is told less, and what is hidden is not taken for missing.
	plain := ask(managed.Ask{Account: account}, d.DN("svc-plain"))
	assert.Equal(t, estate.No, plain.MayCreate)
	assert.Equal(t, managed.Missing, line(plain, 3).Result)
	if len(plain.Keys) == 0 {
		assert.Equal(t, managed.Unknown, line(plain, 2).Result, plain.KeysUnread)
	}

	// The steward is let do there what a preparation says, and nothing else. What is created is what was
	// asked for, by the directory's own tools; what is taken back is as it was.
	for _, p := range (directory.Connector{}).Prepare(d.Target("samba"), connect.Known{SID: d.ManagerSID(t), Flavor: directory.FlavorWindows}) {
		if p.For == connect.ForManage {
			d.Permit(t, "CN=Managed Service Accounts,"+d.Base, strings.ReplaceAll(p.Text, "\n", ""))
		}
	}
	seen = ask(managed.Ask{Group: "locker-hosts"})
	require.Equal(t, estate.Yes, seen.MayCreate)
	require.NotNil(t, seen.Group)
	gates := managed.AccountChange{
		Act: managed.Create, Name: "gmsa-gates$", Container: seen.Container, DN: "CN=gmsa-gates," + seen.Container, DNSName: "gates.larkmoor.example", Interval: 14,
		Encryption: managed.EncryptionGood, Services: []string{"HTTP/gates.larkmoor.example"}, Group: outer,
	}
	require.NoError(t, gates.Check())
	stands := func(c managed.AccountChange) (connect.ManagedStanding, error) {
		return directory.Connector{}.ManagedStanding(t.Context(), d.Target("samba"), c)
	}
	manage := func(c managed.AccountChange, back bool) error {
		return directory.Connector{}.Manage(t.Context(), d.Target("samba"), c, back)
	}
	taken := gates
	taken.Services = []string{"http/LOCK.larkmoor.example"}
	_, err = stands(taken)
	require.ErrorContains(t, err, account+" has the service principal name")
	is, err := stands(gates)
	require.NoError(t, err)
	assert.False(t, is.There)
	assert.Contains(t, strings.Join(is.Also, " "), "hosts cannot fetch its password from there")
	require.NoError(t, manage(gates, false))
	require.NoError(t, manage(gates, false), "what is so already is no failure")
	is, err = stands(gates)
	require.NoError(t, err)
	assert.True(t, is.There)
	assert.Equal(t, "14", d.Local(t, gates.DN, "msDS-ManagedPasswordInterval"))
	assert.Equal(t, "24", d.Local(t, gates.DN, "msDS-SupportedEncryptionTypes"))
	a = ask(managed.Ask{Account: gates.DN}).Account
	require.NotNil(t, a)
	assert.Len(t, a.Hosts, 2)
	assert.Equal(t, estate.Yes, a.Enabled)

	also := managed.AccountChange{Act: managed.Permit, Name: gates.Name, Container: seen.Container, DN: gates.DN, Group: inner}
	was, err := stands(also)
	require.NoError(t, err)
	assert.False(t, was.There)
	require.NoError(t, manage(also, false))
	is, err = stands(also)
	require.NoError(t, err)
	assert.True(t, is.There)
	assert.Len(t, ask(managed.Ask{Account: gates.DN}).Account.Permitted, 2)
	require.ErrorContains(t, manage(gates, true), "is not as it was created: others may ask", "they may use it by now")
	no := also
	no.Act = managed.Forbid
	before, err := stands(no)
	require.NoError(t, err)
	assert.False(t, before.There)
	require.NoError(t, manage(no, false))
	require.NoError(t, manage(no, false), "twice")
	assert.Len(t, ask(managed.Ask{Account: gates.DN}).Account.Permitted, 1)
	is, err = stands(no)
	require.NoError(t, err)
	assert.True(t, is.There)
	no.Former = before.Former
	require.NoError(t, manage(no, true))
	require.NoError(t, manage(no, true), "taken back twice")
	assert.Len(t, ask(managed.Ask{Account: gates.DN}).Account.Permitted, 2)
	also.Former = was.Former
	require.NoError(t, manage(also, true))
	assert.Len(t, ask(managed.Ask{Account: gates.DN}).Account.Permitted, 1)
	require.NoError(t, manage(also, true), "taken back twice")
	require.NoError(t, manage(gates, true))
	assert.Nil(t, ask(managed.Ask{Account: gates.DN}).Account)
	require.NoError(t, manage(gates, true), "deleted twice")
	elsewhere := gates
	elsewhere.Container = "CN=Users," + d.Base
	elsewhere.DN = "CN=gmsa-gates," + elsewhere.Container
	_, err = stands(elsewhere)
	require.ErrorContains(t, err, "the steward may create managed accounts: not in CN=Users")
	require.Error(t, manage(elsewhere, false), "and the directory says so itself")
}
