package lab_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// Two real controllers, of which one learns of a change later. It is not asked with the
// new value before it has: that would be a wrong password there.
func TestTwoControllers(t *testing.T) {
	a, b, replicate := lab.Controllers(t, "127.0.0.101", "127.0.0.102", "svc-twice")
	target := a.Target("domain")
	target.Options = map[string]string{directory.OptionServers: fmt.Sprintf("%s:%d", b.Address, b.Port)}
	report := directory.Connector{}.Check(t.Context(), target)
	require.True(t, report.OK(), "%+v", report.Stages)
	target.Identity = report.Facts.Identity
	accounts, _, _ := readDirectory(t, target)
	ref := connect.AccountRef{StableID: accounts["svc-twice"].StableID, Name: "svc-twice", DN: accounts["svc-twice"].DN}
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	verify := func(value secret.Value) connect.Verdict {
		t.Helper()
		v, err := directory.Connector{}.Verify(t.Context(), target, ref, value)
		require.NoError(t, err)
		require.Len(t, v.Elsewhere, 1)
		return v
	}
	accept := func(at connect.Target, want connect.Accepted) {
		t.Helper()
		require.NoError(t, directory.Connector{}.Accept(t.Context(), at, connect.Point{Account: ref}, connect.Values{Old: old, New: next}, want))
	}
	rehearsed := func() connect.Checked {
		lines := directory.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{Change: &ref}})
		i := slices.IndexFunc(lines, func(c connect.Checked) bool { return strings.HasSuffix(c.What, "learns of changes") })
		require.GreaterOrEqual(t, i, 0, "%+v", lines)
		return lines[i]
	}
	v := verify(old)
	assert.True(t, v.Accepted)
	assert.Equal(t, connect.ServerAsked, v.Elsewhere[0].State, v.Elsewhere[0].Words)
	assert.True(t, v.Elsewhere[0].Verdict.Accepted)
	assert.Equal(t, connect.CheckOK, rehearsed().Result)

	accept(target, connect.AcceptNew)
	v = verify(next)
	assert.True(t, v.Accepted, v.Words)
	assert.Equal(t, connect.ServerBehind, v.Elsewhere[0].State)
	assert.Equal(t, connect.CheckFailed, rehearsed().Result, "what signs in there would be refused")
	assert.Equal(t, "0", b.Local(t, ref.DN, "badPwdCount"), "nothing was tried there")
	assert.False(t, lab.Binds(t, b, ref.DN, next.RevealString()), "the server itself")
	replicate(a, b)
	v = verify(next)
	assert.Equal(t, connect.ServerAsked, v.Elsewhere[0].State, v.Elsewhere[0].Words)
	assert.True(t, v.Elsewhere[0].Verdict.Accepted)

	// Undone at the one that has not heard of the last change: it says that the old value
	// is in force, and is given it all the same. When both have learned of everything, both
	// have the old one.
	accept(target, connect.AcceptOld)
	replicate(a, b)
	accept(target, connect.AcceptNew)
	stale := b.Target("domain")
	is, err := directory.Connector{}.Probe(t.Context(), stale, connect.Point{Account: ref}, connect.Values{Old: old, New: next})
	require.NoError(t, err)
	assert.Equal(t, connect.AnswerYes, is.Old, "what was once taken for: nothing to undo")
	accept(stale, connect.AcceptOld)
	replicate(b, a)
	replicate(a, b)
	for _, d := range []*lab.Directory{a, b} {
		assert.True(t, lab.Binds(t, d, ref.DN, old.RevealString()), d.Address)
	}

	// A server that is away is neither a proof nor a failure.
	target.Options[directory.OptionServers] = "127.0.0.250:636"
	v = verify(old)
	assert.True(t, v.Accepted)
	assert.Equal(t, connect.ServerAway, v.Elsewhere[0].State)
	assert.Equal(t, connect.CheckWarning, rehearsed().Result)
}

// The same of OpenLDAP, whose replica asks for what is new once in a while: behind, then
// as far, by itself.
func TestAReplicaThatLags(t *testing.T) {
	provider, replica := lab.Replicated(t, "127.0.0.95", "127.0.0.96", 636, "00:00:00:06", "svc-twice")
	target := provider.Target("ldap")
	target.Options = map[string]string{directory.OptionServers: fmt.Sprintf("%s:%d", replica.Address, replica.Port)}
	report := directory.Connector{}.Check(t.Context(), target)
	require.True(t, report.OK(), "%+v", report.Stages)
	target.Identity = report.Facts.Identity
	accounts, _, _ := readDirectory(t, target)
	ref := connect.AccountRef{StableID: accounts["svc-twice"].StableID, Name: "svc-twice", DN: accounts["svc-twice"].DN}
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	require.NoError(t, directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: old, New: next}, connect.AcceptNew))
	says := func() connect.ServerVerdict {
		v, err := directory.Connector{}.Verify(t.Context(), target, ref, next)
		require.NoError(t, err)
		require.True(t, v.Accepted, v.Words)
		require.Len(t, v.Elsewhere, 1)
		return v.Elsewhere[0]
	}
	before := says()
	assert.Equal(t, connect.ServerBehind, before.State, before.Words)
	require.Eventually(t, func() bool { return says().State == connect.ServerAsked }, 30*time.Second, 200*time.Millisecond)
	assert.True(t, says().Verdict.Accepted)
	assert.True(t, lab.Binds(t, replica, ref.DN, next.RevealString()), "the replica itself")
	// Nothing is changed at a replica: it says who takes changes.
	stale := replica.Target("replica")
	err := directory.Connector{}.Accept(t.Context(), stale, connect.Point{Account: ref}, connect.Values{Old: next, New: old}, connect.AcceptNew)
	require.Error(t, err)
	assert.False(t, connect.IsUnclear(err), "%v", err)
	assert.True(t, lab.Binds(t, provider, ref.DN, next.RevealString()))
}
