package assembly_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

var stopFirst = planning.Request{OnFailure: rotation.UndoOnFailure, StopFirst: true}

// order is where in a journal the first intent, or the last outcome, of a kind of step is.
func (f *ferry) order(id records.RotationID, kind rotation.StepKind) (first, last int64) {
	r, _, journal, err := f.Rotations.State(f.t.Context(), id)
	require.NoError(f.t, err)
	for _, record := range journal {
		if record.Step < 0 || r.Plan.Steps[record.Step].Kind != kind {
			continue
		}
		if record.Event == rotation.EventIntent && first == 0 {
			first = record.Seq
		}
		if record.Event == rotation.EventOutcome {
			last = record.Seq
		}
	}
	return first, last
}

// Everything that has the value is down when it changes, and up with the new one at the
// end: not one wrong password is given.
func TestDependentsAreStoppedFirst(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	f.survey()
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), stopFirst)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	lines := ""
	for _, c := range v.Checks {
		lines += c.System + ": " + c.What + " " + c.Result + "\n"
	}
	assert.Contains(t, lines, "quay1: berth.service can be stopped by itself ok")
	assert.Contains(t, lines, "quay1: right to stop berth.service ok")
	assert.Contains(t, v.Plan.Interruption(), "of them stand still from before the change until then")
	_, err = f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "test", "")
	require.ErrorIs(t, err, app.ErrRefused, "what was rehearsed is another plan")
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), stopFirst, "test", "")
	require.NoError(t, err)
	r := f.ended(id)
	require.Equal(t, rotation.FinishedDone, r.Result)
	change, _ := f.order(id, rotation.StepChange)
	stopped, all := f.order(id, rotation.StepStop)
	require.NotZero(t, stopped)
	assert.Less(t, all, change, "all is down before anything changes")
	refused, _ := f.order(id, rotation.StepRefuse)
	assert.Greater(t, refused, all)
	for _, host := range []string{"quay1", "quay2"} {
		for _, unit := range []string{"berth.service", "gangway.service"} {
			state, _ := f.estate.Hosts[host].UnitState(unit)
			assert.Equal(t, "active", state, "%s on %s", unit, host)
		}
		assert.Contains(t, f.file(host, "/etc/gangway/gangway.env"), f.currentOf(a))
	}
	f.journalWhole(id)
}

// One that does not come up again has everything put back, and everything runs.
func TestWhatWasStoppedIsStartedAgain(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	f.survey()
	var refuse bool
	f.estate.Hosts["quay2"].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		line := strings.Join(argv, " ")
		return 1, "Job for berth.service failed.", refuse && !strings.Contains(line, " -l ") && strings.HasSuffix(line, "systemctl stop berth.service")
	}})
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), stopFirst)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	refuse = true
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), stopFirst, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	changed, _ := f.order(id, rotation.StepChange)
	assert.Zero(t, changed, "with one that cannot be stopped nothing is changed")
	assert.Equal(t, larkmoor.Passwords["svc-berth"], f.currentOf(a))
	for _, host := range []string{"quay1", "quay2"} {
		for _, unit := range []string{"berth.service", "gangway.service"} {
			state, _ := f.estate.Hosts[host].UnitState(unit)
			assert.Equal(t, "active", state, "%s on %s", unit, host)
		}
	}
}

// What would not stay down, or would take others down, and what cannot be put back
// whatever happens, is told before.
func TestWhatCannotBeStoppedFirst(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	f.estate.Hosts["quay1"].AddUnit(unixhost.Unit{Name: "berth.socket", Exec: "/bin/true", State: "active"})
	f.estate.Hosts["quay1"].AddUnit(unixhost.Unit{Name: "lamp.service", Exec: "/bin/true", State: "active", After: []string{"gangway.service"}})
	f.estate.Hosts["quay1"].Trigger("berth.service", "berth.socket")
	f.survey()
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), stopFirst)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	words := ""
	for _, c := range bad(v.Checks) {
		if c.Result == connect.CheckFailed {
			words += c.What + ": " + c.Words + "\n"
		}
	}
	assert.Contains(t, words, "berth.service can be stopped by itself: berth.socket starts it again whenever it is asked")
	assert.Contains(t, words, "gangway.service can be stopped by itself: lamp.service needs it, runs, and would go down with it")
	for name, wish := range map[string]planning.Request{
		"stop":   {OnFailure: rotation.StopOnFailure, StopFirst: true},
		"leave":  {OnFailure: rotation.UndoOnFailure, StopFirst: true, When: rotation.RestartLeave},
		"assign": {OnFailure: rotation.UndoOnFailure, StopFirst: true, Assign: []records.DependentID{1}},
	} {
		_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), wish)
		assert.ErrorIs(t, err, app.ErrInput, name)
	}
	_, err = f.Rotations.Rehearse(t.Context(), ines, f.takeKey(), stopFirst)
	assert.ErrorIs(t, err, app.ErrInput)
	assert.ErrorContains(t, err, "the old key is good until everything has the new one")
}
