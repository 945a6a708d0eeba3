package rotation_test

import (
	"context"
	"errors"
	"strconv"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"

	"github.com/stretchr/testify/require"
)

// told is a decision that a person made, and where its answer comes.
type told struct {
	decision string
	answer   chan error
}

// tell lets a person decide while the rotation is being worked on; "" nothing.
func (e *world) tell(decision string) {
	if decision == "" {
		return
	}
	answer := make(chan error, 1)
	select {
	case e.decide <- Decision{Record: Record{Result: decision, Actor: "ines", Reason: strconv.Itoa(len(e.told))}, Answer: answer}:
		e.told = append(e.told, told{decision, answer})
	default: // nobody waits for so many
	}
}

// heard holds what persons were answered against the journal: a decision that was
// taken is there, one that was refused is not, and there is no other one.
func (e *world) heard() {
	there := map[string]bool{}
	for _, r := range e.wrote {
		if r.Event == EventDecision && r.Actor == "ines" {
			there[r.Reason] = true
		}
	}
	for i, v := range e.told {
		reason := strconv.Itoa(i)
		select {
		case err := <-v.answer:
			if err == nil {
				require.True(e.t, there[reason], "%s was taken and is not in the journal", v.decision)
			} else if errors.Is(err, ErrDecision) {
				require.False(e.t, there[reason], "%s was refused and is in the journal", v.decision)
			} else {
				require.ErrorIs(e.t, err, ErrJournal)
			}
		default:
			require.False(e.t, there[reason], "%s was not answered and is in the journal", v.decision)
		}
	}
}

// print shows what happened, for whoever looks for the reason of a failure: acts run
// beside each other, and a seed alone does not repeat that.
func (e *world) print() {
	for i, s := range e.plan.Steps {
		e.t.Logf("step %d: %s %s on %s, needs %v, after %v", i, s.Kind, s.Subject, s.System, s.Needs, s.After)
	}
	for _, r := range e.wrote {
		e.t.Logf("%d %s %s step %d undo=%v %s %s %s", r.Seq, r.Time.Format(time.TimeOnly), r.Event, r.Step, r.Undo, r.Result, r.Actor, r.Words)
	}
}

// People tell a running rotation anything at any moment, while acts fail and the
// process dies: what is answered is in the journal, the laws hold, and with
// everything back it can be brought to an end.
func TestPeopleDecideWhileItRuns(t *testing.T) {
	random := seeded(t)
	decisions := []string{DecideStop, DecideResume, DecideUndo, DecideGoOn, DecideLeave}
	taken, refused := 0, 0
	var e *world
	defer func() {
		if t.Failed() {
			e.print()
		}
	}()
	for round := 0; round < 3000; round += sampled(10) {
		e = newWorld(t, []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure}[random.Intn(3)], random.Intn(ways))
		rate, talk := random.Float64()*0.3, random.Float64()*0.3
		e.fault = func(int, Step, string) string {
			if random.Float64() < rate {
				return []string{"before", "after", "middle", "hang"}[random.Intn(4)]
			}
			return ""
		}
		e.decide = make(chan Decision, 2)
		e.people = func() string {
			if random.Float64() < talk {
				return decisions[random.Intn(len(decisions))]
			}
			return ""
		}
		if random.Intn(3) == 0 {
			e.crash, e.torn = 1+random.Intn(50), random.Intn(2) == 0
		}
		if random.Intn(3) == 0 {
			system := []string{"directory", "quay1", "quay2", "north1"}[random.Intn(4)]
			e.awayFrom(system, 1+random.Intn(100), []time.Duration{4 * time.Second, 3 * time.Minute, 72 * time.Hour}[random.Intn(3)])
		}
		state := e.settle()
		for _, v := range e.told { // an answer is given once
			require.LessOrEqual(t, len(v.answer), 1)
			if len(v.answer) == 1 {
				err := <-v.answer
				v.answer <- err
				if err == nil {
					taken++
				} else {
					refused++
				}
			}
		}
		e.heard()
		e.fault, e.away, e.people, e.crash, e.decide = nil, nil, nil, 0, nil
		for tries := 0; state.Mode == ModeStopped || state.Result == FinishedUndoFailed || state.Result == FinishedWithFailures; tries++ {
			require.Less(t, tries, 4, "round %d: %s %s does not come to an end", round, state.Mode, state.Result)
			require.NoError(t, state.Takes(DecideUndo))
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideUndo, Actor: "eve"}))
			var err error
			state, err = e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err, "round %d", round)
			e.verify(state)
		}
		require.Equal(t, ModeFinished, state.Mode, "round %d", round)
	}
	require.Positive(t, taken)
	require.Positive(t, refused)
}

// An answered decision is on disk: when writing it fails, that is the answer.
func TestDecisionIsAnsweredWhenItIsWritten(t *testing.T) {
	for _, torn := range []bool{false, true} {
		e := newWorld(t, StopOnFailure, atOnce)
		e.decide = make(chan Decision, 1)
		e.torn = torn
		e.people = func() string {
			if len(e.wrote) != 3 {
				return ""
			}
			return DecideStop
		}
		wrote := 0
		e.crashAt = func(r Record) bool {
			if r.Event == EventDecision && r.Actor == "ines" {
				wrote++
				return true
			}
			return false
		}
		_, err := e.run(nil)
		require.ErrorIs(t, err, errCrash)
		require.Len(t, e.told, 1)
		require.Equal(t, 1, wrote)
		require.ErrorIs(t, <-e.told[0].answer, ErrJournal, "nobody is told that it was taken")
	}
}

// Which decisions fit where it stands.
func TestTakes(t *testing.T) {
	for _, v := range []struct {
		state State
		takes []string
	}{
		{State{Mode: ModeForward}, []string{"stop", "undo"}},
		{State{Mode: ModeUndoing, Turned: true}, []string{"stop", "undo", "leave-away"}},
		{State{Mode: ModeStopped}, []string{"resume", "go-on", "undo"}},
		{State{Mode: ModeStopped, Turned: true}, []string{"undo"}},
		{State{Mode: ModeFinished, Result: FinishedDone}, []string{"undo"}},
		{State{Mode: ModeFinished, Result: FinishedWithFailures}, []string{"resume", "go-on", "undo"}},
		{State{Mode: ModeFinished, Result: FinishedUndone, Turned: true}, []string{}},
		{State{Mode: ModeFinished, Result: FinishedUndoFailed, Turned: true}, []string{"undo"}},
	} {
		require.Equal(t, v.takes, v.state.Decisions(), "%s %s", v.state.Mode, v.state.Result)
		for _, decision := range []string{"surprise", ""} {
			require.ErrorIs(t, v.state.Takes(decision), ErrDecision)
		}
	}
}
