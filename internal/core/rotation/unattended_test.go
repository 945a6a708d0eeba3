package rotation_test

import (
	"context"
	"fmt"
	"math/rand"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/estate"
	. "mossledger.example/moss/internal/core/rotation"
	. "mossledger.example/moss/internal/core/rotation/building"
)

// nights are openings from 22 to 2 of many days; noons are short ones.
func nights(days int) Openings {
	out := Openings{Words: "each night"}
	for i := range days {
		from := time.Date(2026, 3, 1+i, 22, 0, 0, 0, time.UTC)
		out.Slots = append(out.Slots, calendar.Slot{From: from, To: from.Add(4 * time.Hour)})
	}
	return out
}

func noons(days int) Openings {
	out := Openings{Words: "at noon"}
	for i := range days {
		from := time.Date(2026, 3, 1+i, 12, 0, 0, 0, time.UTC)
		out.Slots = append(out.Slots, calendar.Slot{From: from, To: from.Add(5 * time.Minute)})
	}
	return out
}

// unattended is a rotation as a policy starts it: in windows, one dependent first.
func unattended(random *rand.Rand) func(*Input) {
	return func(in *Input) {
		in.Windows = map[string]Openings{"nights": nights(40), "noons": noons(40)}
		in.Window = []string{"", "nights"}[random.Intn(2)]
		in.FirstAlone = random.Intn(2) == 0
		in.AtWindowEnd = []WindowEnd{"", EndPause, EndUndo}[random.Intn(3)]
		in.Groups = map[string]int{"two": 2}
		for i := range in.Units {
			u := &in.Units[i]
			u.Window = []string{"", "nights", "noons"}[random.Intn(3)]
			if random.Intn(3) == 0 {
				u.Groups = []string{"two"}
			}
			u.Expected = []time.Duration{0, time.Minute, time.Hour}[random.Intn(3)]
		}
	}
}

// watch fails the test when something is begun outside its window, or while everything is
// held where it could wait.
func (e *world) watch(held *bool) {
	e.before = func(r Record) {
		if r.Event != EventIntent {
			return
		}
		state := mustFold(e.t, e.plan, e.wrote)
		step := e.plan.Steps[r.Step]
		if step.Window != "" && !r.Undo && !state.AnyTime {
			require.True(e.t, slices.ContainsFunc(e.plan.Windows[step.Window].Slots, func(s calendar.Slot) bool { return s.Open(r.Time) }), "%s at %s", step.Title(), r.Time)
		}
		if *held && state.Safe() {
			require.Contains(e.t, []StepKind{StepSignIn, StepSteward, StepProve, StepRevive}, step.Kind, "held, and safe where it stands")
		}
	}
	e.hold = func() bool { return *held }
}

// Rotations in windows that are held and let go, with faults, systems that are away and
// crashes: nothing is begun outside its window or while it is held, and once all is well
// each comes to an end, with one value everywhere.
func TestUnattended(t *testing.T) { unattendedRounds(t, 2500/sampled(10)) }

// BenchmarkUnattended does so ten thousand times.
func BenchmarkUnattended(b *testing.B) {
	rounds := 10_000
	if testing.Short() {
		rounds = 100
	}
	for b.Loop() {
		unattendedRounds(b, rounds)
	}
	b.ReportMetric(float64(rounds), "runs")
}

func unattendedRounds(t testing.TB, rounds int) {
	random := seeded(t)
	ended, paused := map[string]int{}, 0
	for round := range rounds {
		e := newWorldOf(t, []OnFailure{StopOnFailure, ContinueOnFailure, UndoOnFailure}[random.Intn(3)], random.Intn(ways), unattended(random))
		held, restless := random.Intn(4) == 0, random.Intn(2) == 0
		e.watch(&held)
		rate := []float64{0, 0, 0.1, 0.3}[random.Intn(4)]
		e.fault = func(int, Step, string) string {
			if random.Float64() < rate {
				return []string{"before", "after", "middle", "hang"}[random.Intn(4)]
			}
			return ""
		}
		until := e.clock.Add(time.Duration(random.Intn(60)) * time.Hour)
		if random.Intn(4) == 0 {
			e.away = func(now time.Time, system string) bool { return system == "quay2" && now.Before(until) }
		}
		if random.Intn(3) == 0 {
			e.crash, e.torn = 1+random.Intn(50), random.Intn(2) == 0
		}
		before := e.before
		e.before = func(r Record) { // by the one who looks whether it is held
			before(r)
			if restless && random.Intn(6) == 0 {
				held = !held
			}
		}
		looked := 0
		hold := e.hold
		e.hold = func() bool { // nobody holds it for ever
			if looked++; held && looked > 200 {
				held, looked = false, 0
			}
			return hold()
		}
		start := e.clock
		state := e.settle()
		if e.clock.Sub(start) > 24*time.Hour {
			paused++
		}
		e.fault, e.crash, e.away, held, restless = nil, 0, nil, false, false
		for tries := 0; state.Mode != ModeFinished || state.Result == FinishedUndoFailed || state.Result == FinishedWithFailures; tries++ {
			require.Less(t, tries, 4, "round %d: %s %s", round, state.Mode, state.Result)
			decision := DecideUndo
			if !state.Turned && random.Intn(2) == 0 {
				decision = DecideResume
			}
			require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: decision, Actor: "eve"}))
			var err error
			state, err = e.run(append([]Record(nil), e.wrote...))
			require.NoError(t, err, "round %d", round)
			e.verify(state)
		}
		ended[state.Result]++
	}
	t.Log(ended, paused)
	require.Positive(t, ended[FinishedDone])
	require.Positive(t, ended[FinishedUndone])
	require.Positive(t, paused, "some waited for another night")
}

// A window that closes between a look at the clock and the next: what is begun is written
// with the moment at which the window was seen open.
func TestAWindowClosesBetweenTwoLooks(t *testing.T) {
	for way := range ways {
		e := newWorldOf(t, StopOnFailure, way, func(in *Input) {
			in.Windows, in.Window = map[string]Openings{"noons": noons(400)}, "noons"
			for i := range in.Units {
				in.Units[i].Window = "noons"
			}
		})
		held := false
		e.watch(&held)
		e.tick = 2 * time.Minute // of the five that it is open
		// With such a clock a proof may come too late, and what hangs on it is left then.
		require.Equal(t, ModeFinished, e.settle().Mode, "way %d", way)
		inWindow := func(r Record) bool { return r.Event == EventIntent && e.plan.Steps[r.Step].Window != "" }
		require.True(t, slices.ContainsFunc(e.wrote, inWindow), "way %d", way)
	}
}

// One dependent first: until it is proven, nothing else is touched, whatever fails there.
func TestFirstOneAlone(t *testing.T) {
	for way := range ways {
		for _, kind := range []string{"before", "middle", "hang"} {
			e := newWorldOf(t, StopOnFailure, way, func(in *Input) {
				in.FirstAlone = true
				in.Units[2].Check = &AppCheck{Kind: "tcp", Target: "quay2:80"}
			})
			require.Equal(t, "berth.service on quay2", e.plan.FirstAlone, "one with a check of its own")
			e.fault = func(_ int, step Step, _ string) string {
				if step.System == "quay2" && (step.Kind == StepRestart || step.Kind == StepProve) {
					return kind
				}
				return ""
			}
			state := e.settle()
			require.Equal(t, ModeStopped, state.Mode)
			for i, step := range e.plan.Steps {
				touches := step.Kind == StepReplace && !step.Adds() || step.Kind == StepLogOn || step.Kind == StepRestart
				if touches && step.System != "quay2" {
					require.False(t, state.Steps[i].Attempted, "%s: %s", kind, step.Title())
				}
				if step.Kind == StepReplace && step.Subject == "/etc/gangway.env" {
					require.False(t, state.Steps[i].Attempted, "%s: %s", kind, step.Title())
				}
			}
			e.fault = nil
			for range 2 { // what is found down half-way is tried once more
				if state.Mode == ModeStopped {
					require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideResume}))
					var err error
					state, err = e.run(append([]Record(nil), e.wrote...))
					require.NoError(t, err)
					e.verify(state)
				}
			}
			require.Equal(t, FinishedDone, state.Result)
		}
	}
	alone := newWorldOf(t, StopOnFailure, atOnce, func(in *Input) {
		in.FirstAlone = true
		in.LogOns, in.Units, in.Files = nil, in.Units[:1], in.Files[:1]
	})
	require.Empty(t, alone.plan.FirstAlone, "there is nothing else")
}

// What would not be done before the window closes begins in the next opening; what is too
// long for any begins all the same.
func TestExpectedToFit(t *testing.T) {
	for expected, want := range map[time.Duration]string{0: "12:03", 2 * time.Minute: "12:03", 3 * time.Minute: "36:00", 5 * time.Minute: "36:00", time.Hour: "12:03"} {
		e := newWorldOf(t, UndoOnFailure, atOnce, func(in *Input) {
			in.LogOns, in.Units, in.Files = nil, in.Units[:1], in.Files[:1]
			in.Windows = map[string]Openings{"noons": noons(3)}
			in.Units[0].Window, in.Units[0].Expected = "noons", expected
		})
		e.clock = time.Date(2026, 3, 1, 12, 3, 0, 0, time.UTC)
		require.Equal(t, FinishedDone, e.settle().Result)
		var at time.Duration
		for _, r := range e.wrote {
			if r.Event == EventIntent && e.plan.Steps[r.Step].Kind == StepRestart {
				at = r.Time.Sub(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC))
			}
		}
		require.Equal(t, want, fmt.Sprintf("%02d:%02d", int(at.Hours()), int(at.Minutes())%60), expected)
	}
}

// A window that closes over what is not begun: it is undone then, or goes on in the next
// night, and after the last night it is told.
func TestWindowsThatClose(t *testing.T) {
	for end, want := range map[WindowEnd]string{EndUndo: FinishedUndone, EndPause: FinishedDone, "": FinishedDone} {
		e := newWorldOf(t, StopOnFailure, atOnce, func(in *Input) {
			in.Windows = map[string]Openings{"nights": nights(2)}
			in.Window, in.AtWindowEnd = "nights", end
			for i := range in.Units {
				in.Units[i].Window = "nights"
			}
			in.Patience = 40 * time.Hour
		})
		closes := time.Date(2026, 3, 2, 2, 0, 0, 0, time.UTC)
		e.away = func(now time.Time, system string) bool {
			return system == "quay2" && now.After(closes.Add(-3*time.Hour)) && now.Before(closes.Add(-time.Minute)) || system == "quay1" && now.Before(closes)
		}
		held := false
		e.watch(&held)
		state := e.settle()
		require.Equal(t, want, state.Result, end)
		last := e.wrote[len(e.wrote)-1].Time
		require.Equal(t, end != EndUndo, !last.Before(time.Date(2026, 3, 2, 22, 0, 0, 0, time.UTC)), "%s: %s", end, last)
	}
	late := newWorldOf(t, StopOnFailure, atOnce, func(in *Input) {
		in.Windows = map[string]Openings{"nights": nights(1)}
		in.Units[0].Window = "nights"
	})
	late.clock = time.Date(2026, 3, 5, 0, 0, 0, 0, time.UTC)
	state := late.settle()
	require.Equal(t, FinishedWithFailures, state.Result)
	require.True(t, slices.ContainsFunc(state.Steps, func(s StepState) bool { return s.Status == Skipped && s.Words != "" }))
}

// Where a rotation may be left for as long as one likes.
func TestSafe(t *testing.T) {
	for way, safe := range map[int]bool{atOnce: false, overlapping: true, keyPair: true} {
		e := newWorld(t, UndoOnFailure, way)
		e.settle()
		change := slices.IndexFunc(e.wrote, func(r Record) bool { return r.Event == EventIntent && e.plan.Steps[r.Step].Kind == StepChange })
		retire := slices.IndexFunc(e.wrote, func(r Record) bool { return r.Event == EventIntent && e.plan.Steps[r.Step].Kind == StepRetire })
		for n := range len(e.wrote) {
			state := mustFold(t, e.plan, e.wrote[:n+1])
			want := n < change || safe && n < retire || state.Mode == ModeFinished
			require.Equal(t, want, state.Safe(), "way %d, record %d", way, n)
		}
	}
}

// At most so many of a group at the same time, whatever their names; and what is declared
// to come first is proven first, on whatever system it is.
func TestGroupsAndDeclaredOrder(t *testing.T) {
	in := Input{Credential: "svc-tide", Points: []Point{{SystemID: "d", System: "d", Account: "svc-tide"}}, OnFailure: UndoOnFailure, Groups: map[string]int{"gauges": 2}}
	for i := range 6 {
		host := fmt.Sprint("quay", i)
		in.Files = append(in.Files, File{SystemID: host, System: host, Path: "/etc/tide.env"})
		in.Units = append(in.Units, Unit{SystemID: host, System: host, Kind: estate.DependentUnit, Name: fmt.Sprintf("tide-%d.service", i), Running: true, Reads: []string{"/etc/tide.env"}, Groups: []string{"gauges"}})
	}
	in.Units[0].Behind = []Unit{{SystemID: "quay5", Kind: estate.DependentUnit, Name: "tide-5.service"}, {SystemID: "nowhere", Kind: estate.DependentUnit, Name: "tide-5.service"}}
	plan := Build(in)
	before := func(i int) map[int]bool { // all that has ended before a step is begun
		out := map[int]bool{}
		var add func(i int)
		add = func(i int) {
			for _, j := range append(slices.Clone(plan.Steps[i].Needs), plan.Steps[i].After...) {
				out[j] = true
				add(j)
			}
		}
		add(i)
		return out
	}
	var restarts, proofs []int
	for i, s := range plan.Steps {
		switch s.Kind {
		case StepRestart:
			restarts = append(restarts, i)
		case StepProve:
			proofs = append(proofs, i)
		}
	}
	require.Len(t, restarts, 6)
	follows := func(i, j int) bool { return before(restarts[j])[proofs[i]] || before(restarts[i])[proofs[j]] }
	for i := range 6 {
		for j := range i {
			for k := range j {
				require.True(t, follows(i, j) || follows(i, k) || follows(j, k), "never three at the same time")
			}
		}
	}
	first, last := -1, -1
	for i, s := range plan.Steps {
		if s.Kind == StepProve && s.System == "quay5" {
			first = i
		}
		if s.Kind == StepRestart && s.System == "quay0" {
			last = i
		}
	}
	require.True(t, before(last)[first], "declared order across systems")
	in.Units[5].Behind = []Unit{{SystemID: "quay0", Kind: estate.DependentUnit, Name: "tide-0.service"}}
	circle := Build(in)
	require.True(t, slices.ContainsFunc(circle.Notes, func(n Note) bool {
		return n.Text == "the order of tide-5.service on quay5 and tide-0.service on quay0 is a circle: restarted one after the other" || n.Text == "the order of tide-0.service on quay0 and tide-5.service on quay5 is a circle: restarted one after the other"
	}), "%v", circle.Notes)
	require.Equal(t, 6, circle.Restarts())
}

// How long each dependent stood still is read from the journal; what was undone is no
// measure, and what was stopped first stood from then on.
func TestInterruptions(t *testing.T) {
	for way, many := range map[int]int{atOnce: 5, overlapping: 5, keyPair: 4, stoppedFirst: 4} {
		e := newWorld(t, UndoOnFailure, way)
		slow := time.Minute
		e.before = func(r Record) {
			if r.Event == EventIntent {
				e.clock = e.clock.Add(slow)
			}
		}
		require.Equal(t, FinishedDone, e.settle().Result)
		list := Interruptions(e.plan, e.wrote)
		require.Len(t, list, many)
		for _, i := range list {
			step := e.plan.Steps[i.Step]
			require.Equal(t, StepRestart, step.Kind)
			require.GreaterOrEqual(t, i.To.Sub(i.From), slow, step.Title())
			if way == stoppedFirst {
				require.Greater(t, i.To.Sub(i.From), 4*slow, "it stood still from before the change")
			}
		}
		state := mustFold(t, e.plan, e.wrote)
		require.NoError(t, e.Append(context.Background(), Record{Seq: state.Last + 1, Event: EventDecision, Step: -1, Result: DecideUndo}))
		_, err := e.run(append([]Record(nil), e.wrote...))
		require.NoError(t, err)
		require.Empty(t, Interruptions(e.plan, e.wrote))
	}
}

func TestWaitsForAWindow(t *testing.T) {
	e := newWorldOf(t, UndoOnFailure, atOnce, func(in *Input) {
		in.Windows, in.Window = map[string]Openings{"nights": nights(2)}, "nights"
	})
	state := mustFold(t, e.plan, nil)
	window, _ := state.WaitsFor(e.clock)
	require.Empty(t, window, "the new value is sealed at any time")
	runner := Runner{Plan: e.plan, Journal: e, Hands: e, Now: func() time.Time { return e.clock }, Wait: func(context.Context, time.Duration) error { return context.Canceled }, Parallel: 3, Decide: nil}
	ctx, cancel := context.WithCancel(context.Background())
	runner.Wait = func(context.Context, time.Duration) error { cancel(); return context.Canceled }
	state, err := runner.Run(ctx, nil)
	require.ErrorIs(t, err, context.Canceled)
	window, opens := state.WaitsFor(e.clock)
	require.Equal(t, "nights", window)
	require.Equal(t, time.Date(2026, 3, 1, 22, 0, 0, 0, time.UTC), opens)
	window, _ = state.WaitsFor(opens)
	require.Empty(t, window)
}
