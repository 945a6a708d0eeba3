package assembly_test

import (
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/nameserver"
	"mossledger.example/moss/internal/standin/unixhost"
)

// A rotation that was stopped in the middle of being undone has no way forward: a
// part of it has the old value again. It says so, and can be undone to its end.
func TestStoppedWhileItIsUndone(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	refuseRestarts(f.estate.Hosts["tide1"], "tidefeed.service", 3)
	r := f.rotate(a, rotation.StopOnFailure)
	require.Equal(t, "stopped", r.Mode)

	var release sync.Once
	restarts, hold := make(chan struct{}), make(chan struct{})
	t.Cleanup(func() { release.Do(func() { close(hold) }) })
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if strings.HasSuffix(strings.Join(argv, " "), "systemctl restart tidefeed.service") {
			select {
			case restarts <- struct{}{}:
				<-hold
			default:
			}
		}
		return 0, "", false
	}})
	decide := func(decision string) error { return f.Rotations.Decide(t.Context(), ines, r.ID, decision, "") }
	require.NoError(t, decide(rotation.DecideUndo))
	select { // its copy has the old value, and its restart has begun
	case <-restarts:
	case <-time.After(time.Minute):
		require.Fail(t, "nothing is restarted")
	}
	require.ErrorIs(t, decide(rotation.DecideResume), app.ErrRefused)
	require.NoError(t, decide(rotation.DecideStop))
	now, err := f.Store.Rotation(t.Context(), r.ID)
	require.NoError(t, err)
	require.Equal(t, "stopped", now.Mode, "what was answered is written")
	for _, decision := range []string{rotation.DecideResume, rotation.DecideGoOn} { // while its restart still runs
		require.ErrorContains(t, decide(decision), "stopped while it was being undone")
	}
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{})
	release.Do(func() { close(hold) })
	require.Eventually(t, func() bool { return len(f.findings("rotation")) == 1 }, 20*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool {
		return strings.Contains(f.findings("rotation")[0].What, "stopped while it was being undone")
	}, 20*time.Second, 5*time.Millisecond)
	for _, decision := range []string{rotation.DecideResume, rotation.DecideGoOn} { // and when nothing works on it
		err := decide(decision)
		require.ErrorIs(t, err, app.ErrRefused)
		assert.ErrorContains(t, err, "undo it to go on with that")
	}
	require.NoError(t, decide(rotation.DecideUndo))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	f.journalWhole(r.ID)
	f.agrees(a, "tide1", "/etc/tide/feed.pw")
}

// A controller to which the change has not come says that the old value is accepted and
// the new one is not, which is what an authority says where nothing is to be undone. A
// change that was answered is undone by sending all the same: when the change arrives
// everywhere, so does the undoing.
func TestUndoingIsSent(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	dn := larkmoor.DN("svc-tidefeed")
	refuseRestarts(f.estate.Hosts["tide1"], "tidefeed.service", 3)
	r := f.rotate(a, rotation.StopOnFailure)
	require.Equal(t, "stopped", r.Mode)
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{})
	f.estate.Directory.SetFault(standindir.Fault{Stale: map[string]string{dn: larkmoor.Passwords["svc-tidefeed"]}})
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideUndo, ""))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	f.estate.Directory.SetFault(standindir.Fault{}) // the change has arrived
	f.agrees(a, "tide1", "/etc/tide/feed.pw")
}

// A rotation that is undone later, by another run of the service, goes to the server that
// took the change, whatever the name says by now.
func TestARotationStaysWithItsServer(t *testing.T) {
	larkmoors, err := larkmoor.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, larkmoors.Close()) })
	names, err := nameserver.Start([4]byte{127, 0, 0, 1})
	require.NoError(t, err)
	before := net.DefaultResolver
	net.DefaultResolver = names.Resolver()
	t.Cleanup(func() {
		net.DefaultResolver = before
		_ = names.Close()
	})
	f := &ferry{t: t, estate: larkmoors, folder: t.TempDir()}
	f.reopen()
	t.Cleanup(func() {
		f.Stop()
		require.NoError(t, f.Store.Close())
	})
	ctx := t.Context()
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "dir", larkmoor.ManagerDN, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	_, port := larkmoor.Port(larkmoors.Address)
	_, err = f.Inventory.Add(ctx, ines, records.System{Name: "dir", Kind: "directory", Address: "directory.larkmoor.example", Port: port, Steward: "dir", TrustedCA: larkmoors.CA})
	require.NoError(t, err)
	f.survey()
	a := f.take("svc-manifest")
	r := f.rotate(a, rotation.StopOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	_, state, _, err := f.Rotations.State(ctx, r.ID)
	require.NoError(t, err)
	kept := ""
	for i, step := range r.Plan.Steps {
		if step.Kind == rotation.StepChange {
			kept = state.Steps[i].Memo
		}
	}
	require.Equal(t, "127.0.0.1", kept, "the journal has which server took the change")
	v, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	f.quiet()
	names.Answer([4]byte{127, 0, 0, 95}) // where nothing listens
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	require.True(t, larkmoors.Directory.Accepts(larkmoor.DN("svc-manifest"), larkmoor.Passwords["svc-manifest"]))
	names.Answer([4]byte{127, 0, 0, 1})
}
