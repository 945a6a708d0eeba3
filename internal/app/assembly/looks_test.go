package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// looked has an hour pass, looks at what is due and returns what was seen.
func (f *ferry) looked(by *clock, id records.RotationID) records.Look {
	f.t.Helper()
	by.pass(rotation.LookAgainAfter)
	words, err := f.Looks.LookAgain(f.t.Context())
	require.NoError(f.t, err)
	assert.Contains(f.t, words, "1 looked at")
	look, err := f.Store.Look(f.t.Context(), id)
	require.NoError(f.t, err)
	return look
}

func results(look records.Look) map[string]int {
	out := map[string]int{}
	for _, c := range look.Checks {
		out[c.Result]++
	}
	return out
}

// Directories of the windows flavor let the former password bind for an hour. That is
// neither a failure nor a proof: it is asked again, and the former value is retired when
// it is refused, not before.
func TestFormerValuesAreAskedForAgain(t *testing.T) {
	var by clock
	f := startBy(t, &by)
	a := f.take("svc-tidefeed")
	f.estate.Directory.SetFormer(time.Hour)
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result, "nothing failed")
	_, state, _, err := f.Rotations.State(t.Context(), r.ID)
	require.NoError(t, err)
	later := 0
	for i, step := range r.Plan.Steps {
		if step.Kind == rotation.StepRefuse {
			assert.True(t, state.Steps[i].Later)
			assert.Contains(t, state.Steps[i].Words, "still accepts the value that was replaced")
			later++
		}
	}
	require.Equal(t, 1, later)
	assert.Equal(t, "current previous", f.states(a.ID), "not proven to be refused")
	words, err := f.Looks.LookAgain(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "0 looked at", words, "it is not due")

	look := f.looked(&by, r.ID)
	assert.Equal(t, 1, results(look)[connect.CheckFailed], "%+v", look.Checks)
	require.Len(t, f.findings("former-accepted"), 1)
	assert.Equal(t, "current previous", f.states(a.ID))

	f.estate.Directory.SetFormer(0)
	look, err = f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.Zero(t, results(look)[connect.CheckFailed], "%+v", look.Checks)
	assert.Empty(t, f.findings("former-accepted"))
	assert.Equal(t, "current retired", f.states(a.ID))
	// The same of one that is undone: it is the new value that lingers.
	f.estate.Directory.SetFormer(time.Hour)
	second := f.rotate(a, rotation.UndoOnFailure)
	_, err = f.Rotations.RehearseUndo(t.Context(), ines, second.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, second.ID, rotation.DecideUndo, "a trial"))
	require.Equal(t, rotation.FinishedUndone, f.ended(second.ID).Result)
	assert.Contains(t, f.states(a.ID), "previous", "the undone one is not proven to be refused")
	f.estate.Directory.SetFormer(0)
	look = f.looked(&by, second.ID)
	assert.Zero(t, results(look)[connect.CheckFailed], "%+v", look.Checks)
	assert.NotContains(t, f.states(a.ID), "previous")
	_, err = f.Looks.LookNow(t.Context(), access.Actor{Name: "viv", Roles: []string{access.RoleViewer}}, r.ID)
	assert.ErrorIs(t, err, access.ErrDenied)
}

// What was put back, what died and what still gives the old value within the hour is
// found, and each is a finding of its own.
func TestWhatHappensWithinTheHourIsSeen(t *testing.T) {
	var by clock
	f := startBy(t, &by)
	a := f.take("svc-tidefeed")
	old, there := f.estate.Hosts["tide1"].Read("/etc/tide/feed.pw")
	require.True(t, there)
	f.estate.Directory.Update(larkmoor.DN("svc-tidefeed"), func(e *standindir.Entry) { e.Never = true })
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	by.pass(time.Minute)
	// The proof that the old value is refused was a wrong password too: it is ours.
	look, err := f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{connect.CheckOK: 3}, results(look), "%+v", look.Checks)
	assert.False(t, look.Due.IsZero(), "a person looked early: what takes an hour is still to come")

	f.estate.Hosts["tide1"].Write("/etc/tide/feed.pw", unixhost.File{Content: old.Content, Mode: old.Mode, Owner: old.Owner, Group: old.Group})
	f.estate.Hosts["tide1"].Crash("tidefeed.service")
	assert.False(t, f.estate.Directory.Accepts(larkmoor.DN("svc-tidefeed"), "Forgotten-1"), "somebody who was forgotten")
	look = f.looked(&by, r.ID)
	assert.True(t, look.Due.IsZero())
	for _, kind := range []string{"put-back", "down-since", "wrong-passwords"} {
		assert.Len(t, f.findings(kind), 1, "%s: %+v", kind, look.Checks)
	}
	assert.Equal(t, "/etc/tide/feed.pw", f.findings("put-back")[0].Subject)
	page, err := f.Store.LedgerList(t.Context(), records.Query{Filters: []string{"act=rotation.look"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 2)
	assert.Equal(t, "failed", page.Items[0].Result)
}

// A system that is away is looked at later, for a day; then a finding says that nobody
// could. A rotation that another one followed, or that was undone, is not looked at.
func TestLooksWaitAndEnd(t *testing.T) {
	var by clock
	f := startBy(t, &by)
	a := f.take("svc-tidefeed")
	r := f.rotate(a, rotation.UndoOnFailure)
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{Down: true})
	look := f.looked(&by, r.ID)
	assert.False(t, look.Due.IsZero(), "%+v", look.Checks)
	assert.NotZero(t, results(look)[connect.CheckUnchecked])
	assert.Empty(t, f.findings("look-unfinished"))
	by.pass(23 * time.Hour)
	look = f.looked(&by, r.ID)
	assert.True(t, look.Due.IsZero())
	require.Len(t, f.findings("look-unfinished"), 1)
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{})
	look, err := f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.Zero(t, results(look)[connect.CheckUnchecked], "%+v", look.Checks)
	assert.Empty(t, f.findings("look-unfinished"))

	second := f.rotate(a, rotation.UndoOnFailure)
	look, err = f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.Contains(t, look.Checks[0].Words, "changed it since")
	_, err = f.Rotations.RehearseUndo(t.Context(), ines, second.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, second.ID, rotation.DecideUndo, "a trial"))
	require.Equal(t, rotation.FinishedUndone, f.ended(second.ID).Result)
	// One that was undone is held against the old value.
	look, err = f.Looks.LookNow(t.Context(), ines, second.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{connect.CheckOK: 3}, results(look), "%+v", look.Checks)
	_, err = f.Looks.LookNow(t.Context(), ines, 4711)
	assert.ErrorIs(t, err, records.ErrNotFound)
}
