package rotation

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"
	"time"
)

// ErrAway is wrapped by errors that say that a system could not be reached, so
// that nothing was done there.
var ErrAway = errors.New("away")

// Outcome of an act.
type Outcome struct {
	Result string // ResultDone, ResultFailed, ResultUnclear, ResultAway or ResultLater
	Words  string // the system's own words, without secrets
	Memo   string // what was seen beside it: MemoSignedIn, or nothing
}

// Finding of a probe.
type Finding struct {
	Result string // one of the Probe constants
	Words  string
}

// Hands do the acts. Implementations must honour the context and must answer
// ResultUnclear whenever they cannot be certain.
type Hands interface {
	// Observe reads what a later probe of this step will need. It changes
	// nothing. Its answer is written with the intent.
	Observe(ctx context.Context, step Step, undo bool) (memo string, err error)
	Do(ctx context.Context, step Step, memo string) Outcome
	Undo(ctx context.Context, step Step, memo string) Outcome
	// Probe finds out whether the step's (or with undo, its undoing's) effect
	// is there. memo is that of the intent in question.
	Probe(ctx context.Context, step Step, undo bool, memo string) Finding
	// Reach finds out whether the system of a step answers: ProbeHere or
	// ProbeAway. It changes nothing.
	Reach(ctx context.Context, step Step) Finding
}

// Journal is the memory. When Append returns, the record is on disk.
type Journal interface {
	Append(ctx context.Context, r Record) error
}

// Runner runs one rotation. Each Runner owns its State; Run returns when the
// rotation is finished or stopped, the context ends, or the journal fails.
type Runner struct {
	Plan      Plan
	Journal   Journal
	Hands     Hands
	Now       func() time.Time
	Wait      func(ctx context.Context, d time.Duration) error // between probes, and for a window; it may end early, for Now decides
	Parallel  int                                              // acts at the same time; at least 1
	PerSystem int                                              // of those, on one system; 0 for 4
	Decide    <-chan Decision                                  // decisions of people while it runs; may be nil
	StepTime  time.Duration                                    // deadline of one act; 0 for two minutes
	Hold      func() bool                                      // nothing new is begun where it is safe to wait (State.Safe); nil for never
}

// ErrJournal is wrapped when the journal cannot be written. Nothing is begun
// after it.
var ErrJournal = errors.New("the journal cannot be written")

// result is what a worker says: that it has observed and waits for its intent
// to be written (proceed is set), or that its act has ended.
type result struct {
	step    int
	record  Record
	proceed chan<- bool
	decided int  // decisions that there were when it was begun
	dropped bool // the service is being stopped, and nothing was found out
	unbegun bool // it could not be looked at, and so nothing was begun
}

// Run continues from the given records until there is nothing left to do.
func (r *Runner) Run(ctx context.Context, records []Record) (State, error) {
	state, err := Fold(r.Plan, records)
	if err != nil {
		return state, err
	}
	run := &run{Runner: r, state: &state, inFlight: map[int]bool{}, ended: make(chan result, 2*max(1, r.Parallel))}
	if state.Last == 0 {
		if err := run.write(ctx, Record{Event: EventStarted, Step: -1, Result: string(r.Plan.OnFailure)}); err != nil {
			return state, err
		}
	}
	err = run.loop(ctx)
	// Whatever happens, no act outlives Run.
	for len(run.inFlight) > 0 {
		if endErr := run.take(ctx, <-run.ended, !errors.Is(err, ErrJournal)); endErr != nil {
			err = endErr
		}
	}
	return state, err
}

// run is one Run under way.
type run struct {
	*Runner
	state    *State
	inFlight map[int]bool
	ended    chan result
	closing  bool // nothing new begins
	decided  int  // decisions made meanwhile
}

func (r *run) write(ctx context.Context, record Record) error { return r.writeAt(ctx, record, r.Now()) }

func (r *run) writeAt(ctx context.Context, record Record, now time.Time) error {
	record.Seq, record.Time = r.state.Last+1, now.UTC()
	// An outcome is worth writing although the service is being stopped.
	if err := r.Journal.Append(context.WithoutCancel(ctx), record); err != nil {
		return fmt.Errorf("%w: %w", ErrJournal, err)
	}
	if record.Event == EventDecision {
		r.decided++
	}
	return r.state.Apply(record)
}

func (r *run) loop(ctx context.Context) (err error) {
	defer func() { r.closing = true }()
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		opens, err := r.beginAll(ctx)
		if err != nil {
			return err
		}
		if len(r.inFlight) == 0 && opens.IsZero() {
			if r.state.Mode == ModeStopped || r.state.Mode == ModeFinished {
				return nil
			}
			if len(Next(*r.state, r.inFlight)) == 0 {
				return fmt.Errorf("rotation of %s: no way forward from %s", r.Plan.Credential, r.state.Mode)
			}
			continue
		}
		if err := r.wait(ctx, opens); err != nil {
			return err
		}
	}
}

// wait takes the next thing that happens: the end of an act, a person's
// decision, or, with nothing else to do, the opening of a window.
func (r *run) wait(ctx context.Context, opens time.Time) error {
	var opened chan struct{}
	if !opens.IsZero() {
		opened = make(chan struct{})
		sleep, stop := context.WithCancel(ctx)
		var ended sync.WaitGroup
		ended.Add(1)
		defer ended.Wait()
		defer stop()
		go func() {
			defer ended.Done()
			// Whether it waited or was told to stop shows in the context.
			_ = r.Wait(sleep, opens.Sub(r.Now()))
			close(opened)
		}()
	}
	select {
	case res := <-r.ended:
		// All that has ended meanwhile belongs to one look at the plan.
		for {
			if err := r.take(ctx, res, true); err != nil {
				return err
			}
			select {
			case res = <-r.ended:
			default:
				return nil
			}
		}
	case decision := <-r.Decide:
		return r.decide(ctx, decision)
	case <-opened:
		return ctx.Err()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// decide writes a person's decision, if it fits where the rotation stands now: it
// may have been made while something else happened. It is answered once it is on
// disk, for then no crash loses it.
func (r *run) decide(ctx context.Context, decision Decision) error {
	if err := r.state.Takes(decision.Record.Result); err != nil {
		decision.Answer <- err
		return nil //nolint:nilerr // the person is told; the rotation goes on
	}
	decision.Record.Event, decision.Record.Step = EventDecision, -1
	err := r.write(ctx, decision.Record)
	decision.Answer <- err
	return err
}

// beginAll begins what may be done now, and tells when to look again if there is
// nothing else to do: when the next window opens, or what is held may go on.
func (r *run) beginAll(ctx context.Context) (opens time.Time, err error) {
	busy := map[string]int{}
	for i := range r.inFlight {
		busy[r.Plan.Steps[i].SystemID]++
	}
	most := cmp.Or(r.PerSystem, 4)
	ends := r.state.windowEnds()
	if !ends.IsZero() && !r.Now().Before(ends) {
		return time.Time{}, r.write(ctx, Record{Event: EventDecision, Step: -1, Result: DecideUndo, Actor: ByPolicy, Reason: "the window closed before everything was done"})
	}
	opens = ends
	held := r.held()
	for _, action := range Next(*r.state, r.inFlight) {
		if action.Kind == ActDecide || action.Kind == ActFinish {
			record := Record{Event: EventFinished, Step: -1, Result: action.Result}
			if action.Kind == ActDecide {
				record.Event, record.Actor = EventDecision, ByPolicy
			}
			return time.Time{}, r.write(ctx, record)
		}
		at, over := r.when(action, held, r.Now())
		if over {
			return time.Time{}, r.write(ctx, Record{Event: EventOutcome, Step: action.Step, Result: ResultLeft, Words: "the window closed before it could be begun: it is left as it is; resume to do it at any time"})
		}
		if !at.IsZero() {
			opens = soonest(opens, at)
			continue
		}
		if len(r.inFlight) >= max(1, r.Parallel) {
			break
		}
		step := &r.Plan.Steps[action.Step]
		if step.SystemID != "" && busy[step.SystemID] >= most {
			continue
		}
		busy[step.SystemID]++
		r.begin(ctx, action)
	}
	return opens, nil
}

// held: nothing more is begun where it stands.
func (r *run) held() bool { return r.Hold != nil && r.Hold() && r.state.Safe() }

// when says from which time on an action may be begun; zero for at once. over: never any more.
func (r *run) when(action Action, held bool, now time.Time) (at time.Time, over bool) {
	switch {
	case now.Before(action.NotBefore): // its system is away
		return action.NotBefore, false
	case held && !r.goesOnHeld(action):
		return now.Add(holdLook), false
	case action.Kind == ActDo && now.Before(r.state.watches(&r.Plan.Steps[action.Step])):
		return r.state.watches(&r.Plan.Steps[action.Step]), false
	case action.Kind != ActDo || r.state.AnyTime:
		return time.Time{}, false
	}
	return r.Plan.when(&r.Plan.Steps[action.Step], now)
}

// take takes what a worker says.
func (r *run) take(ctx context.Context, res result, writable bool) error {
	if res.proceed == nil {
		delete(r.inFlight, res.step)
		if !writable || res.dropped || res.unbegun && res.decided != r.decided {
			return nil
		}
		return r.write(ctx, res.record)
	}
	if r.closing || ctx.Err() != nil || !writable {
		delete(r.inFlight, res.step)
		res.proceed <- false // nothing was begun, nothing is written
		return nil           //nolint:nilerr // the reason was kept; nothing was begun
	}
	// Between observing and beginning, a decision may have been made. What may be
	// done after it is looked up again: also undoing once more changes that.
	action := Action{Kind: ActDo, Step: res.step}
	if res.record.Undo {
		action.Kind = ActUndo
	}
	// A window may have closed meanwhile, and everything may be held by now. What is
	// written is the moment that was judged: one read a second time may be outside.
	now := r.Now()
	at, over := r.when(action, r.held(), now)
	if res.decided != r.decided || !at.IsZero() || over {
		delete(r.inFlight, res.step)
		res.proceed <- false
		return nil
	}
	if err := r.writeAt(ctx, res.record, now); err != nil {
		delete(r.inFlight, res.step)
		res.proceed <- false
		return err
	}
	res.proceed <- true
	return nil
}

// begin starts a worker for an action.
func (r *run) begin(ctx context.Context, action Action) {
	step, stepState := r.Plan.Steps[action.Step], r.state.Steps[action.Step]
	step.PutBack = r.state.putBack()
	limit := r.StepTime
	if limit == 0 {
		limit = 2 * time.Minute
	}
	r.inFlight[action.Step] = true
	if action.Kind == ActReach {
		go func() {
			act, cancel := context.WithTimeout(ctx, limit)
			defer cancel()
			finding := r.Hands.Reach(act, step)
			r.ended <- result{step: action.Step, dropped: ctx.Err() != nil, record: Record{Event: EventReached, Step: action.Step, Result: finding.Result, Words: finding.Words}}
		}()
		return
	}
	if action.Kind == ActProbe {
		memo := stepState.Memo
		if action.Undo {
			memo = stepState.UndoMemo
		}
		go func() {
			act, cancel := context.WithTimeout(ctx, limit)
			defer cancel()
			var finding Finding
			if stepState.Probes == 0 || r.Wait(ctx, time.Second<<stepState.Probes) == nil {
				finding = r.Hands.Probe(act, step, action.Undo, memo)
			}
			r.ended <- result{step: action.Step, dropped: ctx.Err() != nil, record: Record{Event: EventProbed, Step: action.Step, Undo: action.Undo, Result: finding.Result, Words: finding.Words}}
		}()
		return
	}
	undo, decided := action.Kind == ActUndo, r.decided
	go func() {
		act, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		memo, err := r.Hands.Observe(act, step, undo)
		if err != nil {
			// It could not even be looked at: nothing is begun, and no intent is
			// written, for a probe without a memo could not tell the effect from what
			// was there before.
			record := Record{Event: EventOutcome, Step: action.Step, Undo: undo, Result: ResultFailed, Words: err.Error()}
			if errors.Is(err, ErrAway) {
				record.Result = ResultAway
			}
			r.ended <- result{step: action.Step, record: record, dropped: ctx.Err() != nil, unbegun: true, decided: decided}
			return
		}
		// The intent is on disk before the act begins.
		proceed := make(chan bool, 1)
		r.ended <- result{step: action.Step, record: Record{Event: EventIntent, Step: action.Step, Undo: undo, Memo: memo}, proceed: proceed, decided: decided}
		if !<-proceed {
			return
		}
		var outcome Outcome
		if undo {
			outcome = r.Hands.Undo(act, step, memo)
		} else {
			outcome = r.Hands.Do(act, step, memo)
		}
		if ctx.Err() != nil && outcome.Result != ResultDone {
			// The service is being stopped: that is no failure of the step, and no
			// attempt.
			outcome.Result = ResultInterrupted
		}
		r.ended <- result{step: action.Step, record: Record{Event: EventOutcome, Step: action.Step, Undo: undo, Result: outcome.Result, Words: outcome.Words, Memo: outcome.Memo}}
	}()
}
