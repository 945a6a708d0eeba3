package rotation_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"

	"github.com/stretchr/testify/require"
)

// Where wrong passwords lock the account, what would give the old value is stopped before
// the change. The simulated authority refuses to be changed while anything runs with it.
func TestStoppedFirst(t *testing.T) {
	e := newWorld(t, UndoOnFailure, stoppedFirst)
	state := e.settle()
	require.Equal(t, FinishedDone, state.Result)
	var kinds []StepKind
	for _, s := range e.plan.Steps[:6] {
		kinds = append(kinds, s.Kind)
	}
	require.Equal(t, []StepKind{StepSeal, StepStop, StepStop, StepStop, StepStop, StepAll}, kinds)
	require.Equal(t, "gangway.service", e.plan.Steps[1].Subject, "what starts last is stopped first")
	require.Contains(t, e.plan.Interruption(), "4 of them stand still from before the change until then")
}

// Whatever fails, in every way and at every call, and wherever the process dies: in the
// end everything runs, with one value.
func TestWhatWasStoppedRunsAgain(t *testing.T) {
	clean := newWorld(t, UndoOnFailure, stoppedFirst)
	clean.settle()
	for _, kind := range []string{"before", "after", "middle", "hang"} {
		for at := 1; at <= clean.calls; at++ {
			t.Run(fmt.Sprintf("%s/%d", kind, at), func(t *testing.T) {
				e := newWorld(t, UndoOnFailure, stoppedFirst)
				e.fault = func(call int, _ Step, _ string) string {
					if call == at {
						return kind
					}
					return ""
				}
				state := e.settle()
				require.Contains(t, []string{FinishedDone, FinishedWithFailures, FinishedUndone}, state.Result)
			})
		}
	}
	for at := 1; at <= len(clean.wrote); at++ {
		for _, torn := range []bool{false, true} {
			e := newWorld(t, UndoOnFailure, stoppedFirst)
			e.crash, e.torn = at, torn
			require.Equal(t, FinishedDone, e.settle().Result, "record %d", at)
		}
	}
	random := seeded(t)
	for round := 0; round < 1500; round += sampled(10) {
		e := newWorld(t, UndoOnFailure, stoppedFirst)
		rate := random.Float64() * 0.4
		e.fault = func(int, Step, string) string {
			if random.Float64() < rate {
				return []string{"before", "after", "middle", "hang"}[random.Intn(4)]
			}
			return ""
		}
		if random.Intn(3) == 0 {
			e.crash, e.torn = 1+random.Intn(50), random.Intn(2) == 0
		}
		state := e.settle()
		e.fault, e.crash = nil, 0
		for tries := 0; state.Result != FinishedDone && state.Result != FinishedUndone; tries++ {
			require.Less(t, tries, 4, "round %d: %s %s", round, state.Mode, state.Result)
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideUndo, Actor: "eve"}))
			var err error
			state, err = e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err, "round %d", round)
			e.verify(state)
		}
	}
}

// A host that is away while others were stopped already is not waited for long.
func TestAHostThatIsAwayWhileOthersStand(t *testing.T) {
	e := newWorld(t, UndoOnFailure, stoppedFirst)
	began := e.clock
	e.away = func(_ time.Time, system string) bool { return system == "quay2" }
	state := e.settle()
	require.Equal(t, FinishedUndone, state.Result)
	require.Less(t, e.clock.Sub(began), 3*time.Minute)
	require.Equal(t, "old", e.auths[""].auth)
	require.Equal(t, 1, e.number(), "it was never changed")
}
