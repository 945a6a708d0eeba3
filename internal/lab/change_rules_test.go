package lab_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// What a policy says of changing a password is told before, and is what the directory
// itself does then: too young to be changed, or only with the former one beside it.
func TestPoliciesOfChanging(t *testing.T) {
	at := func(ago time.Duration) string { return time.Now().UTC().Add(-ago).Format("20060102150405Z") }
	d := lab.OpenLDAPWith(t, "127.0.0.66", 636,
		lab.Policy("young", "pwdMinAge: 3600"), lab.Policy("safe", "pwdSafeModify: TRUE"), lab.Policy("both", "pwdMinAge: 3600\npwdSafeModify: TRUE"), lab.Policy("free", "pwdMinAge: 0"),
		lab.Person("svc-young", "young", "pwdChangedTime: "+at(10*time.Minute)), lab.Person("svc-old-enough", "young", "pwdChangedTime: "+at(2*time.Hour)),
		lab.Person("svc-safe", "safe", ""), lab.Person("svc-both", "both", "pwdChangedTime: "+at(2*time.Hour)), lab.Person("svc-free", "free", "pwdChangedTime: "+at(time.Second)))
	target := d.Target("openldap")
	accounts, _, _ := readDirectory(t, target)
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	for name, want := range map[string]struct {
		now, undo bool // may be changed now, and back again at once
	}{"svc-young": {false, false}, "svc-old-enough": {true, false}, "svc-safe": {true, true}, "svc-both": {true, false}, "svc-free": {true, true}} {
		ref := connect.AccountRef{StableID: accounts[name].StableID, Name: name, DN: accounts[name].DN}
		lines := directory.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{Change: &ref}})
		says := func(what string) string {
			if i := slices.IndexFunc(lines, func(c connect.Checked) bool { return c.What == what }); i >= 0 {
				return lines[i].Result
			}
			return connect.CheckOK
		}
		assert.Equal(t, want.now, says("may be changed now") == connect.CheckOK, "%s: %+v", name, lines)
		assert.Equal(t, want.undo, says("undo possible") == connect.CheckOK, "%s: %+v", name, lines)
		set := func(want connect.Accepted) error {
			return directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: old, New: next}, want)
		}
		err := set(connect.AcceptNew)
		assert.Equal(t, want.now, err == nil, "%s: the directory itself: %v", name, err)
		if err == nil {
			err := set(connect.AcceptOld)
			assert.Equal(t, want.undo, err == nil, "%s: the directory itself, back again: %v", name, err)
		}
	}
}

// A real controller lets the former password bind for an hour, which is told with the
// answer, and counts wrong ones, whose time is told as well.
func TestFormerPasswordsOfSamba(t *testing.T) {
	d := lab.Samba(t, "127.0.0.79", "svc-former")
	target := d.Target("samba")
	accounts, _, _ := readDirectory(t, target)
	ref := connect.AccountRef{StableID: accounts["svc-former"].StableID, Name: "svc-former", DN: accounts["svc-former"].DN}
	verify := func(value string) connect.Verdict {
		v, err := directory.Connector{}.Verify(t.Context(), target, ref, secret.New(value))
		require.NoError(t, err)
		return v
	}
	require.True(t, verify(lab.AccountPassword).Accepted)
	require.NoError(t, directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: secret.New(lab.AccountPassword), New: secret.New("Another-Passw0rd-2")}, connect.AcceptNew))
	former := verify(lab.AccountPassword)
	assert.True(t, former.Accepted, "a real directory takes it for an hour")
	assert.Equal(t, time.Hour, former.Lingers)
	before := verify("Another-Passw0rd-2").Trials
	require.NotNil(t, before)
	begun := time.Now().Add(-time.Second)
	assert.False(t, lab.Binds(t, d, d.DN("svc-former"), "Forgotten-Passw0rd-9"))
	after := verify("Another-Passw0rd-2").Trials
	require.NotNil(t, after)
	assert.True(t, after.Last.After(before.Last) && after.Last.After(begun), "before %v, after %v", before, after)
}
