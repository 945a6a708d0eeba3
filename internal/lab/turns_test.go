package lab_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// Turns in a real OpenLDAP directory, as its own client sees them, and what is in their way:
// a policy without locks, one that a value is too young for, and a group that the steward
// may not write.
func TestTurnsOfOpenLDAP(t *testing.T) {
	const base = "dc=larkmoor,dc=example"
	dn := func(uid string) string { return "uid=" + uid + ",ou=services," + base }
	d := lab.OpenLDAPWith(t, "127.0.0.68", 636,
		lab.Policy("off", "pwdLockout: FALSE"), lab.Policy("young", "pwdLockout: TRUE\npwdMinAge: 3600"),
		lab.Person("svc-a", "default", ""), lab.Person("svc-b", "default", ""), lab.Person("svc-off", "off", ""), lab.Person("svc-off2", "off", ""),
		lab.Person("svc-young", "young", ""), lab.Person("svc-young2", "young", ""), lab.Person("svc-shut", "default", ""), lab.Person("svc-shut2", "default", ""),
		"dn: cn=unique,ou=groups,"+base+"\nobjectClass: groupOfUniqueNames\ncn: unique\nuniqueMember: "+dn("svc-a")+"\n\n",
		"dn: cn=posix,ou=groups,"+base+"\nobjectClass: posixGroup\ncn: posix\ngidNumber: 7001\nmemberUid: svc-a\n\n",
		"dn: cn=former,ou=groups,"+base+"\nobjectClass: groupOfNames\ncn: former\nmember: "+dn("svc-b")+"\nmember: "+dn("svc-off")+"\n\n",
		"dn: cn=closed,ou=services,"+base+"\nobjectClass: groupOfNames\ncn: closed\nmember: "+dn("svc-shut")+"\n\n")
	target := d.Target("openldap")
	accounts, _, _ := readDirectory(t, target)
	ref := func(name string) connect.AccountRef {
		return connect.AccountRef{StableID: accounts[name].StableID, Name: name, DN: accounts[name].DN}
	}
	c := directory.Connector{}
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	turn := func(was, who string, want connect.Accepted) error {
		return c.Accept(t.Context(), target, connect.Point{Account: ref(was), Next: ref(who)}, connect.Values{Old: old, New: next}, want)
	}
	binds := func(was, who bool, words string) {
		t.Helper()
		assert.Equal(t, was, lab.Binds(t, d, dn("svc-a"), lab.AccountPassword), "%s: the one that had its turn", words)
		assert.Equal(t, who, lab.Binds(t, d, dn("svc-b"), "Another-Passw0rd-2"), "%s: the next one", words)
	}
	require.NoError(t, turn("svc-a", "svc-b", connect.AcceptBoth))
	binds(true, true, "both")
	assert.False(t, lab.Binds(t, d, dn("svc-b"), lab.AccountPassword), "the one before is replaced")
	after, _, _ := readDirectory(t, target)
	assert.ElementsMatch(t, []string{"cn=unique,ou=groups," + base, "cn=posix,ou=groups," + base}, after["svc-b"].Groups, "in step: added, and taken from what the other one is not in")
	require.NoError(t, turn("svc-a", "svc-b", connect.AcceptNew))
	binds(false, true, "turned")
	verdict, err := c.Verify(t.Context(), target, ref("svc-a"), old)
	require.NoError(t, err)
	assert.True(t, verdict.Rests(), "%+v", verdict)
	assert.Contains(t, verdict.Words, "locked until somebody unlocks it")
	require.NoError(t, turn("svc-a", "svc-b", connect.AcceptOld))
	binds(true, false, "undone")
	require.NoError(t, turn("svc-a", "svc-b", connect.AcceptBoth))
	binds(true, true, "and again, with the value that it has")

	can, why, err := c.Alternates(t.Context(), target, connect.Point{Account: ref("svc-off"), Next: ref("svc-off2")})
	require.NoError(t, err)
	assert.False(t, can)
	assert.Contains(t, why, "pwdLockout")
	err = turn("svc-off", "svc-off2", connect.AcceptBoth)
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
	assert.False(t, connect.IsUnclear(err))

	require.NoError(t, c.Accept(t.Context(), target, connect.Point{Account: ref("svc-young2")}, connect.Values{Old: old, New: secret.New("Third-Passw0rd-33")}, connect.AcceptNew))
	err = turn("svc-young", "svc-young2", connect.AcceptBoth)
	require.Error(t, err)
	assert.Equal(t, connect.CodePolicy, connect.CodeOf(err), err)
	assert.True(t, lab.Binds(t, d, dn("svc-young"), lab.AccountPassword), "what works goes on working")

	err = turn("svc-shut", "svc-shut2", connect.AcceptBoth)
	require.Error(t, err)
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
	assert.ErrorContains(t, err, "cn=closed,ou=services")
	assert.True(t, lab.Binds(t, d, dn("svc-shut2"), lab.AccountPassword), "nothing of it was changed")
	assert.Equal(t, estate.Yes, accounts["svc-shut"].Enabled)
}
