package assembly_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// openFor makes a window that opens as soon as something is due, and the policy that
// rotates everything in it.
func (f *ferry) openFor(by *clock, systems ...string) {
	f.t.Helper()
	ctx := f.t.Context()
	begins := by.now().UTC().Add(2 * time.Minute).Format("2006-01-02T15:04")
	_, err := f.Policies.SaveWindow(ctx, ines, records.Window{Name: "nights", Rule: "FREQ=DAILY", Begins: begins, Zone: "UTC", Minutes: 240, Systems: systems})
	require.NoError(f.t, err)
	_, err = f.Policies.Save(ctx, ines, records.Policy{Name: "daily", Precedence: 1, Window: "nights", PolicySettings: records.PolicySettings{EveryDays: 1, FirstAlone: true, AtWindowEnd: rotation.EndPause, Length: 24, Without: "l1IO0"}})
	require.NoError(f.t, err)
}

// withTurn is a ferry that has one account in custody, whose turn has just come.
func withTurn(t *testing.T) (*ferry, *clock, records.Account) {
	t.Helper()
	by := &clock{}
	f := startBy(t, by)
	a := f.take("svc-berth")
	f.openFor(by)
	_, err := f.Unattended.Look(t.Context())
	require.NoError(t, err)
	by.pass(3 * time.Minute)
	return f, by, a
}

func (f *ferry) turnOf(a records.Account) records.Turn {
	f.t.Helper()
	why, err := f.Policies.Why(f.t.Context(), a.ID)
	require.NoError(f.t, err)
	require.Len(f.t, why.Turns, 1)
	return why.Turns[0]
}

// In its opening, what is due is rotated by the service itself: not before, not while all
// is frozen, once; and the directory and every program have the new value.
func TestRotatedWhileNobodyWatches(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.take("svc-berth")
	f.openFor(by)
	words, err := f.Unattended.Look(ctx)
	require.NoError(t, err)
	require.Equal(t, "1 have turns, 0 of them are due, 0 were begun now", words)
	require.Equal(t, "planned", f.turnOf(a).State)

	by.pass(3 * time.Minute)
	_, err = f.Freeze.Begin(ctx, ines, "the ticket system moves")
	require.NoError(t, err)
	words, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	require.Equal(t, "1 have turns, 1 of them are due; everything is frozen", words)
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "by hand", "")
	require.ErrorIs(t, err, app.ErrRefused)
	require.ErrorContains(t, err, "everything is frozen by ines")
	_, err = f.Freeze.Begin(ctx, ben, "again")
	require.ErrorIs(t, err, app.ErrRefused)
	_, err = f.Freeze.End(ctx, ines, "it has moved")
	require.NoError(t, err)
	_, err = f.Freeze.End(ctx, ines, "it has moved")
	require.ErrorIs(t, err, app.ErrRefused)

	// This look begins it, or the duty that has one each minute did just before.
	words, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	require.Contains(t, words, "1 have turns, 1 of them are due")
	var r records.Rotation
	require.Eventually(t, func() bool {
		page, err := f.Store.Rotations(ctx, records.Query{})
		require.NoError(t, err)
		require.Len(t, page.Items, 1)
		r = page.Items[0]
		return r.Mode == "finished"
	}, time.Minute, 20*time.Millisecond)
	require.Equal(t, rotation.FinishedDone, r.Result)
	require.Equal(t, "service", r.RequestedBy)
	require.Contains(t, r.Reason, "policy daily: its turn of")
	require.Equal(t, "berth.service on quay1", r.Plan.FirstAlone)
	require.False(t, f.estate.Directory.Accepts(larkmoor.DN("svc-berth"), larkmoor.Passwords["svc-berth"]))
	f.ready(true, "quay1/berth.service", "quay2/berth.service")
	values, err := f.Sealed.Values(ctx, cred(f, a).ID)
	require.NoError(t, err)
	value := values.Current.RevealString()
	require.Len(t, value, 24, "as the policy asks")
	require.False(t, strings.ContainsAny(value, "l1IO0"))
	require.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-berth"), value))
	turn := f.turnOf(a)
	require.Equal(t, "planned", turn.State)
	require.Greater(t, turn.Next.Sub(by.now()), 20*time.Hour)
	require.Zero(t, turn.Failed)
	words, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	require.Contains(t, words, "0 of them are due", "once in its opening")

	// How long each stood still was measured, and is what is expected the next time.
	var list []records.Interruption
	require.Eventually(t, func() bool {
		list, err = f.Store.Interruptions(ctx, r.ID)
		require.NoError(t, err)
		return len(list) > 0
	}, 10*time.Second, 20*time.Millisecond)
	rehearsal, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	expected := 0
	for _, s := range rehearsal.Plan.Steps {
		if s.Kind == rotation.StepRestart && s.Expected > 0 {
			expected++
		}
	}
	require.Equal(t, len(list), expected)
	require.Contains(t, rehearsal.Plan.Interruption(), "by earlier rotations about")
}

// What cannot be rotated is a finding until it can, and is tried again in the next opening.
func TestNotRotatedIsAFinding(t *testing.T) {
	f, by, a := withTurn(t)
	ctx := t.Context()
	f.estate.Directory.Update(larkmoor.DN("svc-berth"), func(e *directory.Entry) { e.Password = "somebody else's, and long enough 7" })
	_, err := f.Unattended.Look(ctx)
	require.NoError(t, err)
	_, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	found := f.findings("not-rotated")
	require.Len(t, found, 1)
	assert.Contains(t, found[0].What, "the rehearsal failed: dir: sign in as svc-berth with the sealed value")
	turn := f.turnOf(a)
	require.Equal(t, 1, turn.Failed)
	require.Greater(t, turn.Next.Sub(by.now()), 20*time.Hour, "the next opening")
	f.estate.Directory.Update(larkmoor.DN("svc-berth"), func(e *directory.Entry) { e.Password = larkmoor.Passwords["svc-berth"] })
	by.pass(24 * time.Hour)
	_, err = f.Unattended.Look(ctx) // or the duty that has one each minute, just before
	require.NoError(t, err)
	require.Contains(t, f.turnOf(a).Words, "begun as rotation 1")
	require.Eventually(t, func() bool {
		_, err := f.Unattended.Look(ctx)
		require.NoError(t, err)
		return len(f.findings("not-rotated")) == 0 && f.turnOf(a).State == "planned"
	}, time.Minute, 50*time.Millisecond)
}

// A system's window counts for whoever rotates: what is restarted there waits for it, and
// what is not goes on. Held meanwhile, nothing more is begun.
func TestRestartsWaitForAWindow(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.take("svc-berth")
	begins := by.now().UTC().Add(time.Hour).Format("2006-01-02T15:04")
	_, err := f.Policies.SaveWindow(ctx, ines, records.Window{Name: "quiet-hours", Rule: "FREQ=DAILY", Begins: begins, Zone: "UTC", Minutes: 60, Systems: []string{"quay1"}})
	require.NoError(t, err)
	wish := planning.Request{OnFailure: rotation.UndoOnFailure}
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), wish)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict)
	waits := 0
	for _, s := range v.Plan.Steps {
		if s.Window != "" {
			require.Equal(t, "quay1", s.System)
			require.Equal(t, rotation.StepRestart, s.Kind)
			waits++
		}
	}
	require.Positive(t, waits)
	var latent []string
	for _, n := range v.Plan.Notes {
		if n.Kind == rotation.NoteLatent {
			latent = append(latent, n.Text)
		}
	}
	require.Contains(t, strings.Join(latent, "\n"), "is restarted in the window quiet-hours, and the value that it runs with is refused from the change on")
	anyTime, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), planning.Request{OnFailure: rotation.UndoOnFailure, AnyTime: true})
	require.NoError(t, err)
	for _, s := range anyTime.Plan.Steps {
		require.Empty(t, s.Window)
	}
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), wish, "test", "")
	require.ErrorContains(t, err, "not what was rehearsed", "windows are part of what was rehearsed")
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, a), wish)
	require.NoError(t, err)
	id, err := f.Rotations.Start(ctx, ines, cred(f, a), wish, "test", "")
	require.NoError(t, err)
	var state rotation.State
	require.Eventually(t, func() bool {
		_, state, _, err = f.Rotations.State(ctx, id)
		require.NoError(t, err)
		window, _ := state.WaitsFor(by.now())
		return window == "quiet-hours"
	}, time.Minute, 20*time.Millisecond)
	for i, s := range state.Plan.Steps {
		if s.Window != "" {
			require.Equal(t, rotation.Pending, state.Steps[i].Status, "outside its window nothing is restarted there")
		}
	}
	// Taken up again after a restart of the service, it waits still; then the window opens.
	f.Stop()
	require.NoError(t, f.Store.Close())
	by.pass(61 * time.Minute)
	f.reopenBy(by)
	f.ended(id)
	_, state, _, err = f.Rotations.State(ctx, id)
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, state.Result)
}

// One that was begun and undone is due as before: that its value was put back is no change that
// was wanted, whatever the directory says of when it changed last.
func TestUndoneIsStillDue(t *testing.T) {
	f, by, a := withTurn(t)
	ctx := t.Context()
	var closed atomic.Bool
	f.estate.Hosts["quay1"].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		return 1, "Job failed: the quay is closed", restarts(argv) && closed.CompareAndSwap(false, true)
	}})
	_, err := f.Unattended.Look(ctx)
	require.NoError(t, err)
	r := f.ended(1)
	require.Equal(t, rotation.FinishedUndone, r.Result, f.words(r.ID))
	f.estate.Hosts["quay1"].SetFault(unixhost.Fault{})
	f.quiet()
	f.estate.Directory.Update(larkmoor.DN("svc-berth"), func(e *directory.Entry) { e.Changed = by.now() }) // by the clock that all go by
	f.survey("dir", "quay1")
	_, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	turn := f.turnOf(a)
	assert.Equal(t, "failed", turn.State, turn.Words)
	assert.Equal(t, 1, turn.Failed)
	assert.Len(t, f.findings("not-rotated"), 1)
	by.pass(24 * time.Hour)
	_, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, f.ended(2).Result, f.words(2))
	f.quiet()
	_, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	assert.Equal(t, "planned", f.turnOf(a).State)
	assert.Empty(t, f.findings("not-rotated"))
}
