package rotation_test

import (
	"context"
	"maps"
	"slices"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"

	"github.com/stretchr/testify/require"
)

// A key tab holds a key for each number that the authority's keys had. A ticket names the
// number of its key: one that the tab does not hold, or has of another value, is refused.

func (e *world) number() int { return e.auths[""].number }

func newest(tab map[int]string) int { return slices.Max(slices.Collect(maps.Keys(tab))) }

// addKeys adds the keys of a value with the number that it has, or will have when it is
// put back.
func (e *world) addKeys(step Step, value string) {
	tab, number := e.tabs[step.Index], e.number()
	if value == "old" && !step.PutBack {
		number++
	}
	switch at := newest(tab); {
	case tab[at] == value && number <= at:
		return
	case number <= at:
		number = at + 1
	}
	tab[number] = value
}

func (e *world) tabHolds(step Step, undo bool) Finding {
	tab := e.tabs[step.Index]
	switch {
	case tab[newest(tab)] == "new":
		return Finding{Result: ProbeEffective}
	case undo: // that the old one is there says nothing of its number
		return Finding{Result: ProbeNeither}
	}
	return Finding{Result: ProbeAbsent}
}

// verifyTabs: tickets of now are accepted, and those that were given out before.
func (e *world) verifyTabs(want string) {
	for i, tab := range e.tabs {
		require.Equal(e.t, want, tab[e.number()], "step %d: tickets with keys of number %d; it holds %v", i, e.number(), tab)
		require.Equal(e.t, "old", tab[1], "step %d: tickets of before", i)
	}
}

// An undoing gives every acceptor the old key once more, also those that were not come to
// yet: with the number that the authority's keys will have, which is neither the first
// nor the second.
func TestUndoingReachesKeyTabsThatWereNotBegun(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	e.fault = func(_ int, step Step, kind string) string {
		if step.Kind == StepReplace && step.System == "quay1" && !step.Adds() && kind == "do" {
			return "before"
		}
		return ""
	}
	state := e.settle()
	require.Equal(t, FinishedUndone, state.Result)
	require.Equal(t, 3, e.number())
	for i, tab := range e.tabs {
		require.Equal(t, Undone, state.Steps[i].Status)
		require.Equal(t, "old", tab[3])
	}
}

// One whose host is away while the rest is undone is waited for, or named.
func TestKeyTabsAreWaitedForWhileUndoing(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	state := e.settle()
	require.Equal(t, FinishedDone, state.Result)
	gone := state.Last
	e.away = func(_ time.Time, system string) bool {
		return system == "quay2" && e.wrote[len(e.wrote)-1].Seq < gone+20
	}
	require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideUndo}))
	state, err := e.run(append([]Record(nil), e.wrote...))
	require.NoError(t, err)
	e.verify(state)
	require.Equal(t, FinishedUndone, state.Result)
}

// A person may have undone once more what was left out, while the authority is being put back: the
// number of the keys that it will have is not known then, and the key tab waits for it.
func TestKeyTabsWaitForTheAuthority(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	var change, tab int
	for i, s := range e.plan.Steps {
		switch {
		case s.Kind == StepChange:
			change = i
		case s.Adds() && tab == 0:
			tab = i
		}
	}
	state, err := Fold(e.plan, nil)
	require.NoError(t, err)
	write := func(event Event, step int, undo bool, result string) {
		r := Record{Seq: state.Last + 1, Event: event, Step: step, Undo: undo, Result: result}
		require.NoError(t, state.Apply(r), "%+v", r)
	}
	write(EventStarted, -1, false, "")
	for _, i := range []int{0, change} {
		write(EventIntent, i, false, "")
		write(EventOutcome, i, false, ResultDone)
	}
	write(EventDecision, -1, false, DecideUndo)
	write(EventOutcome, tab, true, ResultAway)
	write(EventDecision, -1, false, DecideLeave)
	write(EventIntent, change, true, "")
	write(EventDecision, -1, false, DecideUndo)
	inFlight := map[int]bool{change: true}
	for _, a := range Next(state, inFlight) {
		require.NotEqual(t, ActUndo, a.Kind, "step %d, beside the authority", a.Step)
	}
	write(EventOutcome, change, true, ResultDone)
	var undone []int
	for _, a := range Next(state, nil) {
		undone = append(undone, a.Step)
	}
	require.Contains(t, undone, tab)
}
