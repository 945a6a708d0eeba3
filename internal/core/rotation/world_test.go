package rotation_test

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	. "mossledger.example/moss/internal/core/rotation"
	. "mossledger.example/moss/internal/core/rotation/building"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
)

// The simulated estate: an authority, files and units. A unit starts only if
// its file holds what the authority accepts at that moment.
type world struct {
	stops          bool // all that has the value is stopped before the change
	lingers        bool // the authority takes a value that was replaced for a while
	t              testing.TB
	plan           Plan
	lock           sync.Mutex
	store          map[string]bool        // sealed values
	auths          map[string]*authority  // by door; a password has one, ""
	files          map[int]string         // by replace step
	tabs           map[int]map[int]string // key tabs, by replace step: of which value the keys of a number are made
	units          map[int]*unit          // by restart or revive step
	kept           map[int]string         // stored log-ons, by log-on step; nobody can read them
	calls          int
	fault          func(call int, step Step, kind string) string // "", before, after, middle, hang
	last           map[int]string                                // last unclear act by step, until a probe
	given          map[int]int                                   // probes in a row that found nothing
	wrote          []Record
	crash          int               // stop at this record, 0 never
	torn           bool              // the record is lost with the crash
	crashAt        func(Record) bool // stop at a record like this; nil never
	crashes, every int               // crash again so many times, so many records later
	clock          time.Time
	tick           time.Duration                           // that goes by whenever somebody looks at the clock
	away           func(now time.Time, system string) bool // the system cannot be reached; nil for never
	copiesHeld     bool                                    // an authority was put back while a copy held the new value
	stranger       bool                                    // the authority says that it accepts neither value
	before         func(Record)                            // sees each record before it is written; nil for nobody
	hold           func() bool                             // everything is held; nil for never
	people         func() string                           // what a person tells it after a record; nil for nobody
	decide         chan Decision
	told           []told
}

func (e *world) gone(step Step) bool { return e.away != nil && e.away(e.clock, step.System) }

func (e *world) Reach(_ context.Context, step Step) Finding {
	e.lock.Lock()
	defer e.lock.Unlock()
	if e.gone(step) {
		return Finding{Result: ProbeAway, Words: step.System + " does not answer"}
	}
	return Finding{Result: ProbeHere}
}

// authority accepts one value, or two.
type authority struct {
	auth, also string
	number     int // of the keys made of its value: one more with every change
}

// only: it accepts one value and no other.
func (a *authority) only(value string) bool { return a.auth == value && a.also == "" }

func doorOf(step Step) string {
	if step.Door == nil {
		return ""
	}
	return step.SystemID + " " + step.Door.Account
}

type unit struct {
	invocation int
	active     bool
	value      string
}

var errCrash = errors.New("crash")

func (a *authority) accepts(value string) bool {
	return value != "" && (a.auth == value || a.also == value)
}

// accepts: everything that decides accepts it.
func (e *world) accepts(value string) bool {
	for _, a := range e.auths {
		if !a.accepts(value) {
			return false
		}
	}
	return true
}

// The ways in which a value is replaced: at once, by overlap, or a key at its doors.
const (
	atOnce = iota
	overlapping
	keyPair
	turning // two accounts take turns
	ways
	stoppedFirst = ways // undone where something fails, whatever else is asked
)

// worlds counts them: in every other one a value that was replaced is accepted for a while.
var worlds atomic.Int64

func newWorld(t testing.TB, policy OnFailure, way int) *world {
	return newWorldOf(t, policy, way, func(*Input) {})
}

func newWorldOf(t testing.TB, policy OnFailure, way int, change func(*Input)) *world {
	in := Input{CredentialID: "1", Credential: "svc-berth", Of: credential.Password, Points: []Point{{SystemID: "d", System: "directory", Account: "svc-berth", Overlap: way == overlapping}}, Authority: "directory", OnFailure: policy}
	for _, host := range []string{"quay1", "quay2"} {
		for _, name := range []string{"berth", "gangway"} {
			path := "/etc/" + name + ".env"
			in.Files = append(in.Files, File{SystemID: host, System: host, Path: path, Places: []held.Locator{{Layout: layout.Env, Key: "P", Part: held.PartValue}}})
			u := Unit{SystemID: host, System: host, Name: name + ".service", Running: true, Reads: []string{path}}
			if name == "gangway" {
				u.After = []string{"berth.service"}
			}
			in.Units = append(in.Units, u)
		}
	}
	// An acceptor of tickets on each: its key tab gets further keys beside the former ones.
	for _, host := range []string{"quay1", "quay2"} {
		in.Files = append(in.Files, File{SystemID: host, System: host, Path: "/etc/http.keytab", Places: []held.Locator{{Layout: layout.KeyTab, Key: "HTTP/quay@LARKMOOR.EXAMPLE", Part: held.PartValue}}})
	}
	// A windows host: two services with the account's log-on and one with none
	// of its own, each needing the one before it.
	for i, name := range []string{"store", "board", "sign"} {
		u := Unit{SystemID: "north1", System: "north1", Kind: estate.DependentService, Name: name, Running: true}
		if i > 0 {
			u.Requires = []string{[]string{"store", "board"}[i-1]}
			u.After = u.Requires
		}
		if i < 2 {
			in.LogOns = append(in.LogOns, LogOn{SystemID: "north1", System: "north1", Place: u.Place(), Account: "svc-berth", Was: "svc-berth"})
		}
		in.Units = append(in.Units, u)
	}
	// A task: its host checks the password when it is stored.
	in.LogOns = append(in.LogOns, LogOn{SystemID: "north1", System: "north1", Place: Place{Kind: estate.DependentTask, Place: "nightly"}, Account: "svc-berth", Was: "svc-berth"})
	if way == stoppedFirst {
		in.StopFirst, in.OnFailure = true, UndoOnFailure
		in.LogOns, in.Units = nil, in.Units[:4]
	}
	if way == turning {
		in.Points[0].Overlap, in.Points[0].Next = true, "svc-berth2"
		in.Turn = &Successor{AccountID: "2", CredentialID: "2", Account: "svc-berth2", Credential: "svc-berth2"}
		in.Files = slices.DeleteFunc(in.Files, func(f File) bool { return f.Places[0].Layout == layout.KeyTab })
		for i := range in.LogOns {
			in.LogOns[i].Account, in.LogOns[i].WasID, in.LogOns[i].Moved = "svc-berth2", "1", true
		}
	}
	if way == keyPair {
		in.LogOns, in.Points, in.Of = nil, nil, credential.SSHKey
		in.Files = slices.DeleteFunc(in.Files, func(f File) bool { return f.Places[0].Layout == layout.KeyTab })
		in.Units = in.Units[:4]
		for _, host := range []string{"directory", "quay2", "north1"} {
			in.Points = append(in.Points, Point{SystemID: host, System: host, Path: "/home/tide/.ssh/authorized_keys", Account: "tide", Overlap: true})
		}
	}
	change(&in)
	e := &world{lingers: worlds.Add(1)%2 == 0, t: t, clock: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), kept: map[int]string{}, plan: Build(in), store: map[string]bool{"old": true}, auths: map[string]*authority{}, files: map[int]string{}, tabs: map[int]map[int]string{}, units: map[int]*unit{}, last: map[int]string{}, given: map[int]int{}}
	for _, s := range e.plan.Steps {
		switch s.Kind {
		case StepChange:
			e.auths[doorOf(s)] = &authority{auth: "old", number: 1}
		case StepReplace:
			if s.Adds() {
				e.tabs[s.Index] = map[int]string{1: "old"}
				continue
			}
			e.files[s.Index] = "old"
		case StepLogOn:
			e.kept[s.Index] = "old"
		case StepRestart, StepRevive:
			e.units[s.Index] = &unit{active: true, value: "old"}
			e.stops = e.stops || e.plan.Steps[1].Kind == StepStop
			if s.Subject == "sign" {
				e.units[s.Index].value = ""
			}
		}
	}
	return e
}

func (e *world) Append(_ context.Context, r Record) error {
	e.lock.Lock()
	defer e.lock.Unlock()
	crash := e.crash > 0 && int(r.Seq) >= e.crash || e.crashAt != nil && e.crashAt(r)
	if crash && e.torn {
		return errCrash
	}
	if e.before != nil {
		e.before(r)
	}
	e.wrote = append(e.wrote, r)
	for _, a := range e.auths {
		require.True(e.t, e.store[a.auth] && (a.also == "" || e.store[a.also]), "law 2: the authority accepts %q and %q, which are not both in the store", a.auth, a.also)
	}
	if crash {
		return errCrash
	}
	if e.people != nil {
		e.tell(e.people())
	}
	return nil
}

// begin checks the laws at the start of a call and picks the fault.
func (e *world) begin(step Step, kind string) string {
	e.calls++
	if kind != "probe" {
		last := e.wrote[len(e.wrote)-1]
		intent := false
		for i := len(e.wrote) - 1; i >= 0 && !intent; i-- {
			r := e.wrote[i]
			intent = r.Event == EventIntent && r.Step == step.Index && r.Undo == (kind == "undo")
			if r.Step == step.Index && r.Event == EventOutcome {
				break
			}
		}
		require.True(e.t, intent, "law 8: %s of step %d without an intent (last record %+v)", kind, step.Index, last)
		require.False(e.t, e.last[step.Index] != "" && e.given[step.Index] < MaxProbes, "law 3: %s of step %d after an unclear %s without a probe", kind, step.Index, e.last[step.Index])
		delete(e.last, step.Index)
		e.given[step.Index] = 0
		if step.Kind == StepChange || step.Kind == StepRetire || step.Kind == StepReplace || step.Kind == StepLogOn {
			require.True(e.t, e.store["new"], "law 1: step %d before the new value is sealed", step.Index)
		}
	}
	if e.gone(step) {
		return "away"
	}
	if e.fault == nil {
		return ""
	}
	return e.fault(e.calls, step, kind)
}

func (e *world) Observe(_ context.Context, step Step, undo bool) (string, error) {
	e.lock.Lock()
	defer e.lock.Unlock()
	if e.gone(step) {
		return "", ErrAway
	}
	if u := e.units[step.Index]; u != nil {
		return strconv.Itoa(u.invocation), nil
	}
	if step.Kind == StepChange && undo {
		return strconv.Itoa(e.auths[doorOf(step)].number), nil
	}
	return "", nil
}

func (e *world) Do(_ context.Context, step Step, _ string) Outcome {
	return e.act(step, "do", "old", "new")
}

func (e *world) Undo(_ context.Context, step Step, _ string) Outcome {
	return e.act(step, "undo", "new", "old")
}

func (e *world) act(step Step, kind, from, to string) Outcome {
	e.lock.Lock()
	defer e.lock.Unlock()
	switch fault := e.begin(step, kind); fault {
	case "before":
		return Outcome{Result: ResultFailed, Words: "refused"}
	case "away":
		return Outcome{Result: ResultAway, Words: "does not answer"}
	case "hang":
		e.last[step.Index] = kind
		return Outcome{Result: ResultUnclear, Words: "no answer"}
	case "middle":
		if u := e.units[step.Index]; u != nil && step.Kind == StepRestart {
			u.active, u.invocation = false, u.invocation+1
			e.takeDown(step)
		}
		e.last[step.Index] = kind
		return Outcome{Result: ResultUnclear, Words: "cut off in the middle"}
	case "after":
		e.effect(step, from, to)
		e.last[step.Index] = kind
		return Outcome{Result: ResultUnclear, Words: "answer lost"}
	}
	if step.Kind == StepRefuse && e.lingers {
		return Outcome{Result: ResultLater, Words: "still accepted, as such directories do for an hour"}
	}
	if !e.effect(step, from, to) {
		return Outcome{Result: ResultFailed, Words: "did not work"}
	}
	return Outcome{Result: ResultDone}
}

func (e *world) effect(step Step, from, to string) bool {
	a := e.auths[doorOf(step)]
	switch step.Kind {
	case StepSeal:
		e.store[to] = true
	case StepChange:
		// Law 12, also for a value that is only added and removed.
		if to == "old" {
			begun := len(e.wrote)
			for begun > 0 && (e.wrote[begun-1].Event != EventIntent || e.wrote[begun-1].Step != step.Index) {
				begun--
			}
			state := mustFold(e.t, e.plan, e.wrote[:begun])
			for i, v := range e.files { // but where a person had decided to do without them
				e.copiesHeld = e.copiesHeld || v == "new" && e.plan.Steps[i].Kind == StepReplace && !state.Steps[i].Left
			}
			for i, v := range e.kept { // what was moved to the other account is moved back before that rests
				e.copiesHeld = e.copiesHeld || e.plan.Turn != nil && v == "new" && !state.Steps[i].Left
			}
		}
		for i, u := range e.units {
			require.False(e.t, e.stops && to == "new" && u.active, "the unit of step %d would give the old value", i)
		}
		*a = authority{auth: to, number: a.number + 1}
		if step.Overlap && to == "new" {
			*a = authority{"old", "new", a.number}
		}
	case StepRetire:
		*a = authority{auth: "new", number: a.number}
		if to == "old" {
			*a = authority{"old", "new", a.number}
		}
	case StepSignIn:
		return !e.authorityGone() && a.accepts(to)
	case StepRefuse:
		return !a.accepts(from)
	case StepReplace:
		if step.Adds() {
			e.addKeys(step, to)
			return true
		}
		e.files[step.Index] = to
	case StepLogOn:
		if step.Dependent == estate.DependentTask && !e.accepts(to) {
			return false
		}
		e.kept[step.Index] = to // a service's is stored unchecked, as hosts do
	case StepStop:
		e.unitOf(step).active = false
		e.takeDown(step)
	case StepRestart:
		u := e.units[step.Index]
		if step.Dependent == estate.DependentService {
			e.takeDown(step)
		}
		if !e.start(step) {
			e.takeDown(step)
		} else if step.Dependent == estate.DependentService {
			for i := range e.plan.Steps {
				if other := e.plan.Steps[i]; other.Kind == StepRevive && !e.start(other) {
					return true // the restart took effect; reviving finds the rest
				}
			}
		}
		return u.active
	case StepRevive:
		return e.units[step.Index].active || e.start(step)
	case StepProve:
		return e.units[step.Needs[0]].active
	}
	return true
}

func (e *world) Probe(_ context.Context, step Step, undo bool, memo string) Finding {
	e.lock.Lock()
	defer e.lock.Unlock()
	fault := e.begin(step, "probe")
	if fault == "away" {
		return Finding{Result: ProbeAway}
	}
	if fault != "" {
		e.given[step.Index]++
		return Finding{Result: ProbeUnknown}
	}
	delete(e.last, step.Index)
	e.given[step.Index] = 0
	is := func(fresh bool) Finding {
		if fresh {
			return Finding{Result: ProbeEffective}
		}
		return Finding{Result: ProbeAbsent}
	}
	a := e.auths[doorOf(step)]
	switch step.Kind {
	case StepSeal:
		return is(e.store["new"] && !undo)
	case StepChange:
		if e.stranger {
			return Finding{Result: ProbeStranger}
		}
		if undo && a.also != "" {
			return Finding{Result: ProbeNeither}
		}
		if undo && e.lingers && !step.Overlap {
			// Both are accepted for a while: that it was set shows in its number.
			return is(strconv.Itoa(a.number) == memo)
		}
		return is(a.accepts("new"))
	case StepRetire:
		return is(!a.accepts("old"))
	case StepReplace:
		if step.Adds() {
			return e.tabHolds(step, undo)
		}
		return is(e.files[step.Index] == "new")
	case StepLogOn:
		// Nobody can read it: giving it again is harmless.
		return Finding{Result: ProbeBlind}
	case StepStop:
		return is(!e.unitOf(step).active)
	case StepRestart:
		u := e.units[step.Index]
		if step.Dependent == estate.DependentService && !u.active && !undo {
			return Finding{Result: ProbeAbsent} // stopped half-way: start it
		}
		restarted := strconv.Itoa(u.invocation) != memo && u.active
		if restarted {
			return is(!undo)
		}
		if strconv.Itoa(u.invocation) == memo && !undo {
			return Finding{Result: ProbeAbsent}
		}
		return Finding{Result: ProbeNeither}
	}
	from, to := "old", "new"
	if undo {
		from, to = to, from
	}
	return is(e.effect(step, from, to) != undo)
}

func (e *world) run(records []Record) (State, error) {
	now := func() time.Time {
		e.lock.Lock()
		defer e.lock.Unlock()
		e.clock = e.clock.Add(e.tick)
		return e.clock
	}
	wait := func(ctx context.Context, d time.Duration) error {
		e.lock.Lock()
		defer e.lock.Unlock()
		if ctx.Err() == nil && d > 0 {
			e.clock = e.clock.Add(d)
		}
		return ctx.Err()
	}
	runner := Runner{Plan: e.plan, Journal: e, Hands: e, Now: now, Wait: wait, Parallel: 3, Decide: e.decide, Hold: e.hold}
	return runner.Run(context.Background(), records)
}

// settle runs to the end, through crashes, and holds the end against the world.
func (e *world) settle() State {
	state, err := e.run(nil)
	for tries := 0; err != nil; tries++ {
		require.ErrorIs(e.t, err, errCrash)
		if e.crashes--; e.crashes <= 0 {
			require.Less(e.t, tries, 100)
			e.crash = 0
		} else {
			e.crash = len(e.wrote) + e.every
		}
		// What was in flight at the crash is unknown to the new process.
		e.last, e.given = map[int]string{}, map[int]int{}
		for i, step := range mustFold(e.t, e.plan, e.wrote).Steps {
			if step.Status == Doing || step.Status == Undoing {
				e.last[i] = "an act that a crash cut off"
			}
		}
		state, err = e.run(append([]Record(nil), e.wrote...))
	}
	e.verify(state)
	return state
}

func mustFold(t testing.TB, plan Plan, records []Record) State {
	s, err := Fold(plan, records)
	require.NoError(t, err)
	return s
}
