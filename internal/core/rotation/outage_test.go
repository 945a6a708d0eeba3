package rotation_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"
	. "mossledger.example/moss/internal/core/rotation/building"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

// awayFrom makes a system unreachable from a call on, for a time.
func (e *world) awayFrom(system string, at int, lasting time.Duration) {
	var since time.Time
	e.away = func(now time.Time, name string) bool {
		if since.IsZero() && e.calls >= at {
			since = now
		}
		return name == system && !since.IsZero() && now.Before(since.Add(lasting))
	}
}

// A system is away from every call of a whole run on, for a few seconds, for
// minutes, for longer than the plan waits, and for days. Law 12: that is no
// failure. No person is needed, and nothing is broken.
func TestOutagesAreWaitedFor(t *testing.T) {
	for way := range ways {
		for _, policy := range []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure} {
			for _, system := range []string{"directory", "quay1", "quay2", "north1"} {
				clean := newWorld(t, policy, way)
				clean.settle()
				for _, lasting := range []time.Duration{3 * time.Second, 3 * time.Minute, DefaultPatience + 20*time.Minute, 72 * time.Hour} {
					for at := 0; at <= clean.calls; at += sampled(7) {
						e := newWorld(t, policy, way)
						e.awayFrom(system, at, lasting)
						state := e.settle()
						name := fmt.Sprintf("way=%v %s %s %s at %d: %s %s", way, policy, system, lasting, at, state.Mode, state.Result)
						switch {
						case lasting < DefaultPatience:
							require.Equal(t, FinishedDone, state.Result, name)
						case policy == UndoOnFailure:
							require.Contains(t, []string{FinishedDone, FinishedUndone}, state.Result, name)
						case policy == ContinueOnFailure:
							require.Contains(t, []string{FinishedDone, FinishedWithFailures, FinishedUndone}, state.Result, name)
						default:
							require.True(t, state.Result == FinishedDone || state.Mode == ModeStopped || state.Result == FinishedWithFailures, name)
						}
						for i, step := range state.Steps {
							require.False(t, step.Waiting() && state.Mode == ModeFinished, "step %d still waits: %s", i, name)
						}
					}
				}
			}
		}
	}
}

// Away while it is being undone, after a real failure: everything waits with
// the new value, or as it is, and goes on by itself.
func TestOutagesWhileUndoing(t *testing.T) {
	for way := range ways {
		clean := newWorld(t, UndoOnFailure, way)
		clean.settle()
		for _, system := range []string{"directory", "quay1", "north1"} {
			for fails := clean.calls / 3; fails <= clean.calls; fails++ {
				for _, lasting := range []time.Duration{4 * time.Second, 72 * time.Hour} {
					e := newWorld(t, UndoOnFailure, way)
					e.awayFrom(system, fails+1, lasting)
					e.fault = func(call int, step Step, _ string) string {
						if call == fails && step.System == "quay2" && step.Kind != StepRetire && step.Kind != StepRefuse {
							return "before"
						}
						return ""
					}
					state := e.settle()
					if lasting < DefaultPatience || state.Result != FinishedWithFailures {
						require.Contains(t, []string{FinishedDone, FinishedUndone}, state.Result, "way=%v %s fails=%d %s", way, system, fails, lasting)
					}
				}
			}
		}
	}
}

// sampled is a stride through all cases: 1, or n where a sample is enough.
func sampled(n int) int {
	if testing.Short() {
		return n
	}
	return 1
}

// Being killed again and again is no failed attempt.
func TestCrashLoops(t *testing.T) {
	for way := range ways {
		for every := 1; every <= 4; every++ {
			for first := 1; first <= 40; first += 3 {
				for _, torn := range []bool{false, true} {
					e := newWorld(t, UndoOnFailure, way)
					e.crash, e.torn, e.crashes, e.every = first, torn, 22, every
					if torn && every == 1 {
						continue // nothing would ever be written
					}
					state := e.settle()
					require.Equal(t, FinishedDone, state.Result, "way=%v every=%d first=%d torn=%v", way, every, first, torn)
				}
			}
		}
	}
}

// The service is stopped in an orderly way in the middle of every act, again
// and again.
func TestStoppingIsNoAttempt(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	for stops := 1; ; stops++ {
		require.Less(t, stops, 500)
		ctx, stop := context.WithCancel(context.Background())
		calls := 0
		e.fault = func(_ int, step Step, kind string) string {
			if calls++; calls >= 3 {
				stop()
				return "hang"
			}
			return ""
		}
		runner := Runner{Plan: e.plan, Journal: e, Hands: e, Now: func() time.Time { return e.clock }, Wait: func(context.Context, time.Duration) error { return nil }, Parallel: 1}
		state, err := runner.Run(ctx, append([]Record(nil), e.wrote...))
		stop()
		if err == nil {
			require.Equal(t, FinishedDone, state.Result)
			break
		}
		require.True(t, errors.Is(err, context.Canceled))
		e.last, e.given = map[int]string{}, map[int]int{}
	}
}

// A unit that dies between its restart and the proof is brought back by
// resuming, which restarts it.
func TestResumingRestartsWhatDied(t *testing.T) {
	e := newWorld(t, StopOnFailure, atOnce)
	var died int
	e.fault = func(_ int, step Step, kind string) string {
		if step.Kind == StepProve && step.Subject == "berth.service" && kind == "do" && died == 0 {
			died = step.Needs[0]
			e.units[died].active = false
		}
		return ""
	}
	state := e.settle()
	require.Equal(t, ModeStopped, state.Mode)
	e.fault = nil
	before := e.units[died].invocation
	require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideResume, Actor: "ines"}))
	state, err := e.run(append([]Record(nil), e.wrote...))
	require.NoError(t, err)
	e.verify(state)
	require.Equal(t, FinishedDone, state.Result)
	require.Equal(t, before+1, e.units[died].invocation)
}

// A journal that was restored from a backup meets an authority that accepts
// neither value: nothing is set, a person is asked.
func TestAStrangerAtTheAuthority(t *testing.T) {
	for _, policy := range []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure} {
		clean := newWorld(t, policy, atOnce)
		clean.settle()
		for at := 1; at < len(clean.wrote); at++ {
			r := clean.wrote[at-1]
			if r.Event != EventIntent || clean.plan.Steps[r.Step].Kind != StepChange {
				continue
			}
			e := newWorld(t, policy, atOnce)
			e.store["new"] = true
			e.wrote = append(e.wrote, clean.wrote[:at]...)
			e.stranger = true
			state, err := e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err)
			require.Equal(t, ModeStopped, state.Mode, string(policy))
			require.Equal(t, authority{auth: "old", number: 1}, *e.auths[""], "nothing was set")
			// A person may insist.
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideUndo, Actor: "ines"}))
			state, err = e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err)
			require.Equal(t, FinishedUndone, state.Result)
		}
	}
}

// A place that never comes back holds undoing up, until a person decides to do
// without it.
func TestUndoingWithoutWhatIsAway(t *testing.T) {
	e := newWorld(t, UndoOnFailure, atOnce)
	e.fault = func(_ int, step Step, kind string) string {
		if step.Kind == StepRestart && step.System == "quay2" {
			e.away = func(_ time.Time, system string) bool { return system == "quay1" }
			return "before"
		}
		return ""
	}
	decide, answer := make(chan Decision, 1), make(chan error, 1)
	waited := 0
	runner := Runner{Plan: e.plan, Journal: e, Hands: e, Parallel: 3, Decide: decide, Now: func() time.Time {
		e.lock.Lock()
		defer e.lock.Unlock()
		return e.clock
	}, Wait: func(ctx context.Context, d time.Duration) error {
		e.lock.Lock()
		defer e.lock.Unlock()
		e.clock = e.clock.Add(max(d, 0))
		if waited++; waited == 300 {
			require.Equal(t, "new", e.auths[""].auth, "nothing is put back by halves while it waits")
			decide <- Decision{Record: Record{Result: DecideLeave, Actor: "ines", Reason: "the host burned down"}, Answer: answer}
		}
		return nil
	}}
	state, err := runner.Run(context.Background(), nil)
	require.NoError(t, err)
	require.NoError(t, <-answer)
	require.Equal(t, FinishedUndoFailed, state.Result, "it says that something is left")
	require.True(t, e.auths[""].only("old"))
	for i, step := range e.plan.Steps {
		if step.Kind == StepReplace && step.System == "quay2" && !step.Adds() {
			require.Equal(t, "old", e.files[i])
		}
	}
	require.Equal(t, Done, state.Steps[0].Status, "the new value is kept: a place holds it")
}

// large is a plan of so many steps in which every act succeeds at once.
func large(doors, holders int) Plan {
	in := Input{Credential: "automation", Of: credential.SSHKey, OnFailure: UndoOnFailure}
	for i := range doors {
		host := fmt.Sprintf("host%05d", i)
		in.Points = append(in.Points, Point{SystemID: host, System: host, Path: "/home/a/.ssh/authorized_keys", Account: "a", Overlap: true})
	}
	for i := range holders {
		host := fmt.Sprintf("holder%05d", i)
		in.Files = append(in.Files, File{SystemID: host, System: host, Path: "/etc/k", Places: []held.Locator{{Layout: layout.PEM}}})
	}
	return Build(in)
}

// ready does everything at once.
type ready struct{ records []Record }

func (r *ready) Append(_ context.Context, v Record) error {
	r.records = append(r.records, v)
	return nil
}
func (r *ready) Observe(context.Context, Step, bool) (string, error) { return "", nil }
func (r *ready) Do(context.Context, Step, string) Outcome            { return Outcome{Result: ResultDone} }

func (r *ready) Undo(context.Context, Step, string) Outcome { return Outcome{Result: ResultDone} }

func (r *ready) Reach(context.Context, Step) Finding { return Finding{Result: ProbeHere} }

func (r *ready) Probe(context.Context, Step, bool, string) Finding {
	return Finding{Result: ProbeEffective}
}

func (r *ready) run(plan Plan, records []Record) (State, error) {
	runner := Runner{Plan: plan, Journal: r, Hands: r, Now: time.Now, Wait: func(context.Context, time.Duration) error { return nil }, Parallel: 32}
	return runner.Run(context.Background(), records)
}

// What a step lists does not grow with the plan, and what it needs stands
// before it: both are what one pass over the steps rests on.
func TestPlansStayLinear(t *testing.T) {
	for _, plan := range []Plan{large(300, 40), newWorld(t, UndoOnFailure, atOnce).plan, newWorld(t, UndoOnFailure, overlapping).plan, newWorld(t, UndoOnFailure, keyPair).plan} {
		links := 0
		for i, s := range plan.Steps {
			for _, j := range append(append([]int{}, s.Needs...), s.After...) {
				require.Less(t, j, i)
			}
			links += len(s.Needs) + len(s.After)
		}
		require.Less(t, links, 8*len(plan.Steps))
	}
	state, err := (&ready{}).run(large(300, 40), nil)
	require.NoError(t, err)
	require.Equal(t, FinishedDone, state.Result)
}

// Ten thousand steps, forward and back, with hands and a journal that answer
// at once: what remains is the engine.
func BenchmarkTenThousandSteps(b *testing.B) {
	for name, plan := range map[string]Plan{"one key pair": large(2_400, 400), "1,000 doors and 5 holders": large(1_000, 5)} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				j := &ready{}
				began := time.Now()
				state, err := j.run(plan, nil)
				require.NoError(b, err)
				require.Equal(b, FinishedDone, state.Result)
				forward := time.Since(began)
				// Back again, from what the journal says.
				last := Record{Seq: state.Last + 1, Time: time.Now(), Event: EventDecision, Step: -1, Result: DecideUndo, Actor: "ines", Reason: "measured"}
				began = time.Now()
				state, err = j.run(plan, append(j.records, last))
				require.NoError(b, err)
				require.Equal(b, FinishedUndone, state.Result)
				b.ReportMetric(forward.Seconds(), "s-forward")
				b.ReportMetric(time.Since(began).Seconds(), "s-back")
				b.ReportMetric(float64(len(plan.Steps)), "steps")
			}
		})
	}
}

// A restart that was begun before an outage of the authority and ends after it
// may have failed for that reason alone; one that was begun after it did not.
func TestAFailureThatMetAnOutage(t *testing.T) {
	plan := newWorld(t, UndoOnFailure, 1).plan
	change, restart := -1, -1
	for i, s := range plan.Steps {
		switch {
		case s.Kind == StepChange && change < 0:
			change = i
		case s.Kind == StepRestart && restart < 0:
			restart = i
		}
	}
	at := time.Date(2026, 3, 1, 2, 0, 0, 0, time.UTC)
	intent := Record{Event: EventIntent, Step: restart, Time: at}
	away := Record{Event: EventReached, Step: change, Result: ProbeAway, Time: at}
	here := Record{Event: EventReached, Step: change, Result: ProbeHere, Time: at.Add(3 * time.Second)}
	failed := Record{Event: EventOutcome, Step: restart, Result: ResultFailed, Time: at.Add(4 * time.Second)}
	for name, c := range map[string]struct {
		records []Record
		want    Status
	}{
		"met it":        {[]Record{intent, away, here, failed, here}, Pending},
		"saw its end":   {[]Record{away, intent, away, here, failed, here}, Pending},
		"came after it": {[]Record{away, here, intent, failed, here}, Failed},
		"no outage":     {[]Record{intent, failed, here}, Failed},
	} {
		for i := range c.records {
			c.records[i].Seq = int64(i + 1)
		}
		state, err := Fold(plan, c.records)
		require.NoError(t, err)
		require.Equal(t, c.want, state.Steps[restart].Status, name)
	}
}
