package lab_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// readDirectory visits a directory and gives what it saw, by name.
func readDirectory(t *testing.T, target connect.Target) (map[string]estate.Account, []connect.Unread, connect.Coverage) {
	t.Helper()
	out := map[string]estate.Account{}
	var problems []connect.Unread
	coverage, err := directory.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
		problems = append(problems, b.Problems...)
		for _, a := range b.Accounts {
			assert.NotContains(t, out, a.Name, "seen once")
			out[a.Name] = a
		}
		return nil
	})
	require.NoError(t, err)
	return out, problems, coverage
}

// The directory's own bind is the judge of what is said about locks.
func TestUnfriendlyOpenLDAP(t *testing.T) {
	d := lab.UnfriendlyOpenLDAP(t, "127.0.0.65", 636)
	target := d.Target("openldap")
	accounts, problems, coverage := readDirectory(t, target)
	for name, want := range map[string]struct {
		locked estate.Tristate
		binds  bool
	}{
		"lock-ran-out": {estate.No, true}, "lock-held": {estate.Yes, false}, "lock-forgood": {estate.Yes, false}, "lock-administrator": {estate.Yes, false},
		"lock-off": {estate.No, true}, "lock-none": {estate.No, true},
		// Which policy is the default, and what may not be read, is not known.
		"lock-default": {estate.Unknown, true}, "hidden-locked": {estate.Unknown, false}, "hidden-free": {estate.Unknown, true},
	} {
		a, found := accounts[name]
		if !assert.True(t, found, name) {
			continue
		}
		assert.Equal(t, want.locked, a.Locked, name)
		lines := directory.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{Change: &connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}}})
		at := slices.IndexFunc(lines, func(c connect.Checked) bool { return c.What == "account not locked" })
		require.GreaterOrEqual(t, at, 0, name)
		assert.Equal(t, map[estate.Tristate]string{estate.Yes: connect.CheckFailed, estate.No: connect.CheckOK, estate.Unknown: connect.CheckWarning}[want.locked], lines[at].Result, name)
		// Last, because a sign-in takes a lock away that has run out.
		assert.Equal(t, want.binds, lab.Binds(t, d, a.DN, lab.AccountPassword), "%s: the directory itself", name)
	}

	// Names, classes and groups.
	for name, groups := range map[string][]string{
		"Tide Board":  {"cn=boards,ou=groups," + d.Base, "cn=all,ou=groups," + d.Base},
		"Kern, Odile": {"cn=boards,ou=groups," + d.Base, "cn=all,ou=groups," + d.Base},
		"svc-two":     nil,
		"svc-posix":   {"cn=crew,ou=groups," + d.Base},
		"svc-second":  nil, // of another naming context
	} {
		if assert.Contains(t, slices.Collect(maps.Keys(accounts)), name) {
			assert.Equal(t, groups, accounts[name].Groups, name)
		}
	}
	assert.NotContains(t, accounts, "Passenger", "a person without a password")
	assert.NotContains(t, accounts, "Another Name")
	assert.NotContains(t, accounts, "alias-two")

	// What is closed makes the reading incomplete, and says so.
	assert.False(t, coverage.Complete[connect.ScopeAccounts])
	assert.Contains(t, coverage.Why[connect.ScopeAccounts], "dc=closed,dc=example")
	assert.True(t, slices.ContainsFunc(problems, func(p connect.Unread) bool { return p.Place == "dc=closed,dc=example" }))
	assert.NotEmpty(t, coverage.Facts.Identity)
	report := directory.Connector{}.Check(t.Context(), target)
	assert.False(t, report.OK(), "a check tells of it too")

	// Below a base nothing is closed, and groups beyond it count.
	below := target
	below.Options = map[string]string{directory.OptionBase: "ou=services," + d.Base}
	part, problems, coverage := readDirectory(t, below)
	assert.True(t, coverage.Complete[connect.ScopeAccounts])
	assert.Empty(t, problems)
	assert.NotContains(t, part, "svc-second")
	assert.Equal(t, accounts["Tide Board"].Groups, part["Tide Board"].Groups)
	assert.Equal(t, coverage.Facts.Identity, report.Facts.Identity, "one directory, whatever is read of it")

	// Acts reach the second naming context as well.
	second := accounts["svc-second"]
	there, err := directory.Connector{}.StillThere(t.Context(), target, []connect.AccountRef{{StableID: second.StableID, Name: second.Name, DN: second.DN}})
	require.NoError(t, err)
	assert.Equal(t, []connect.Presence{connect.PresenceThere}, there)

	// An administrator's lock stays although the policy of today does not lock.
	off := accounts["lock-off"]
	ref := connect.AccountRef{StableID: off.StableID, Name: off.Name, DN: off.DN}
	lab.Modify(t, d, "dn: "+off.DN+"\nchangetype: modify\nreplace: pwdAccountLockedTime\npwdAccountLockedTime: 000001010000Z\n")
	require.NoError(t, connect.SetPassword(t.Context(), directory.Connector{}, target, ref, secret.New("Locks-Stay-As-They-Were-2")))
	assert.Equal(t, "000001010000Z", lab.Attribute(t, d, off.DN, "pwdAccountLockedTime"))

	// A reset takes a lock away: one that holds is put back, one that ran out is not.
	for name, binds := range map[string]bool{"lock-ran-out": true, "lock-held": false} {
		a := accounts[name]
		require.NoError(t, connect.SetPassword(t.Context(), directory.Connector{}, target, connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}, secret.New("Locks-Stay-As-They-Were-1")))
		assert.Equal(t, binds, lab.Binds(t, d, a.DN, "Locks-Stay-As-They-Were-1"), name)
	}
}
