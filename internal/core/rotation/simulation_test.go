package rotation_test

import (
	"context"
	"fmt"
	"math/rand"
	"os"
	"strconv"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"
	. "mossledger.example/moss/internal/core/rotation/building"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

func TestRotationSucceeds(t *testing.T) {
	e := newWorld(t, StopOnFailure, atOnce)
	state := e.settle()
	require.Equal(t, FinishedDone, state.Result)
	require.Equal(t, 5, e.plan.Restarts(), "two units on two hosts, and one service: those that need it come back with it")
}

// Every call of a whole run fails once, in every way, under every policy.
func TestEveryStepEveryFault(t *testing.T) {
	for way := range ways {
		everyFault(t, way)
	}
}

func everyFault(t *testing.T, way int) {
	for _, policy := range []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure} {
		clean := newWorld(t, policy, way)
		clean.settle()
		for _, kind := range []string{"before", "after", "middle", "hang"} {
			for at := 1; at <= clean.calls; at++ {
				t.Run(fmt.Sprintf("way=%v/%s/%s/%d", way, policy, kind, at), func(t *testing.T) {
					e := newWorld(t, policy, way)
					e.fault = func(call int, _ Step, _ string) string {
						if call == at {
							return kind
						}
						return ""
					}
					state := e.settle()
					switch policy {
					case StopOnFailure:
						require.Contains(t, []string{FinishedDone, FinishedWithFailures, ""}, state.Result)
						require.Equal(t, state.Result == "", state.Mode == ModeStopped)
					case ContinueOnFailure:
						require.Contains(t, []string{FinishedDone, FinishedWithFailures, FinishedUndone, ""}, state.Result)
					case UndoOnFailure:
						require.Contains(t, []string{FinishedDone, FinishedWithFailures, FinishedUndone}, state.Result)
					}
					if kind == "after" {
						require.Equal(t, FinishedDone, state.Result, "an effect whose answer was lost is found by a probe")
					}
				})
			}
		}
	}
}

// A system stays down from some call on: the engine ends and says so, and a
// person's decisions bring it to an end once the system is back.
func TestSystemStaysDown(t *testing.T) {
	for _, policy := range []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure} {
		for _, system := range []string{"directory", "quay1", "quay2", "north1"} {
			for at := 1; at <= 36*ways; at += sampled(5) {
				way, at := (at-1)/36, (at-1)%36+1
				t.Run(fmt.Sprintf("%s/%s/way=%v/%d", policy, system, way, at), func(t *testing.T) {
					e := newWorld(t, policy, way)
					kind := []string{"before", "hang"}[at%2]
					e.fault = func(call int, step Step, act string) string {
						if call >= at && step.System == system {
							return kind
						}
						return ""
					}
					state := e.settle()
					if state.Result == FinishedDone {
						return
					}
					e.fault = nil
					for _, decision := range []string{DecideUndo} {
						if state.Result == FinishedUndone {
							break
						}
						require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: decision}))
						var err error
						state, err = e.run(append([]Record(nil), e.wrote...))
						require.NoError(t, err)
						e.verify(state)
					}
					require.Equal(t, FinishedUndone, state.Result, "with everything back, undo succeeds")
				})
			}
		}
	}
}

// The process dies at every journal record, before and after it is on disk.
func TestCrashAtEveryRecord(t *testing.T) {
	for way := range ways {
		crashes(t, way)
	}
}

func crashes(t *testing.T, way int) {
	clean := newWorld(t, UndoOnFailure, way)
	clean.settle()
	for _, torn := range []bool{false, true} {
		for at := 1; at <= len(clean.wrote); at++ {
			t.Run(fmt.Sprintf("way=%v/torn=%v/%d", way, torn, at), func(t *testing.T) {
				e := newWorld(t, UndoOnFailure, way)
				e.crash, e.torn = at, torn
				state := e.settle()
				require.Equal(t, ModeFinished, state.Mode)
				require.Equal(t, FinishedDone, state.Result, "a crash alone is no reason to give up")
			})
		}
	}
}

// seeded is a source from a printed seed; MOSS_SEED gives one again.
func seeded(t testing.TB) *rand.Rand {
	t.Helper()
	seed := time.Now().UnixNano()
	if text := os.Getenv("MOSS_SEED"); text != "" {
		var err error
		seed, err = strconv.ParseInt(text, 10, 64)
		require.NoError(t, err)
	}
	t.Logf("MOSS_SEED=%d", seed)
	return rand.New(rand.NewSource(seed))
}

// Random faults and crashes from a printed seed; MOSS_SEED repeats one.
func TestRandomSequences(t *testing.T) {
	random := seeded(t)
	kinds := []string{"before", "after", "middle", "hang"}
	var e *world
	defer func() {
		if t.Failed() {
			e.print()
		}
	}()
	for round := 0; round < 3000; round += sampled(10) {
		e = newWorld(t, []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure}[random.Intn(3)], random.Intn(ways))
		rate := random.Float64() * 0.4
		e.fault = func(int, Step, string) string {
			if random.Float64() < rate {
				return kinds[random.Intn(len(kinds))]
			}
			return ""
		}
		if random.Intn(3) == 0 {
			e.crash, e.torn = 1+random.Intn(50), random.Intn(2) == 0
		}
		state := e.settle()
		e.fault, e.crash = nil, 0
		if state.Mode == ModeStopped || state.Result == FinishedUndoFailed || state.Result == FinishedWithFailures {
			decision := []string{DecideUndo, DecideResume}[random.Intn(2)]
			if state.Result == FinishedUndoFailed {
				decision = DecideUndo // what began to be undone is not resumed
			}
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: decision}))
			state, err := e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err, "round %d", round)
			e.verify(state)
			if state.Mode == ModeStopped { // a unit was found down: a person resumes once more
				require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: decision}))
				state, err = e.run(append([]Record(nil), e.wrote...))
				require.NoError(t, err, "round %d", round)
				e.verify(state)
			}
			require.Equal(t, ModeFinished, state.Mode, "round %d: with everything back it comes to an end", round)
		}
	}
}

func TestReplicasRestartOneAfterTheOther(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	at := map[string]int{}
	for _, s := range e.plan.Steps {
		at[string(s.Kind)+" "+s.Subject+" "+s.System] = s.Index
	}
	second := e.plan.Steps[at["restart berth.service quay2"]]
	require.Contains(t, second.After, at["prove berth.service quay1"])
	gangway := e.plan.Steps[at["restart gangway.service quay1"]]
	require.Contains(t, gangway.After, at["prove berth.service quay1"], "start order")
	require.Equal(t, 3, e.plan.Chain())
}

func TestJournalThatDoesNotFitIsRefused(t *testing.T) {
	plan := newWorld(t, StopOnFailure, atOnce).plan
	for name, records := range map[string][]Record{
		"gap":           {{Seq: 1, Event: EventStarted, Step: -1}, {Seq: 3, Event: EventIntent}},
		"no such step":  {{Seq: 1, Event: EventIntent, Step: 99}},
		"unknown event": {{Seq: 1, Event: "surprise", Step: 0}},
	} {
		_, err := Fold(plan, records)
		require.Error(t, err, name)
	}
}

// An assignment leaves the authority alone, and a window is waited for.
func TestAssignmentInItsWindow(t *testing.T) {
	opens := time.Date(2026, 3, 1, 2, 0, 0, 0, time.UTC)
	place := Place{Kind: estate.DependentService, Place: "board"}
	in := Input{
		Kind: KindAssign, When: RestartWindow, NotBefore: opens, NotAfter: opens.Add(time.Hour), Credential: "svc-new", Points: []Point{{Account: "svc-new"}}, OnFailure: StopOnFailure,
		LogOns: []LogOn{{SystemID: "north1", System: "north1", Place: place, Account: "svc-new", Was: "svc-old"}},
		Units:  []Unit{{SystemID: "north1", System: "north1", Kind: place.Kind, Name: "Board", Running: true}},
	}
	plan := Build(in)
	var kinds []StepKind
	for _, s := range plan.Steps {
		kinds = append(kinds, s.Kind)
	}
	require.Equal(t, []StepKind{StepSignIn, StepLogOn, StepRestart, StepProve}, kinds)
	for late, want := range map[time.Duration]string{0: FinishedDone, 2 * time.Hour: FinishedWithFailures} {
		e := &world{t: t, clock: opens, plan: plan, store: map[string]bool{"new": true}, auths: map[string]*authority{"": {auth: "new"}}, kept: map[int]string{1: "old"}, units: map[int]*unit{2: {active: true}}, files: map[int]string{}, last: map[int]string{}, given: map[int]int{}}
		clock := opens.Add(-time.Hour)
		runner := Runner{Plan: plan, Journal: e, Hands: e, Now: func() time.Time { return clock }, Wait: func(_ context.Context, d time.Duration) error { clock = clock.Add(d + late); return nil }, Parallel: 3}
		state, err := runner.Run(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, want, state.Result)
		require.Equal(t, late == 0, e.units[2].invocation == 1, "restarted inside the window only")
		if late > 0 {
			require.Equal(t, Skipped, state.Steps[2].Status)
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideResume}))
			state, err = runner.Run(context.Background(), append([]Record(nil), e.wrote...))
			require.NoError(t, err)
			require.Equal(t, FinishedDone, state.Result, "a person resumes it outside of the window")
		}
	}
	in.When = RestartLeave
	left := Build(in)
	require.Zero(t, left.Restarts())
	require.Contains(t, left.Notes[0].String(), "latent: Board on north1")
}
