package rotation

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Outcome of an act.
type Outcome struct {
	Result string // ResultDone, ResultFailed or ResultUnclear
	Words  string // the system's own words, without secrets
}

// Finding of a probe.
type Finding struct {
	Result string // ProbeEffective, ProbeAbsent, ProbeNeither or ProbeUnknown
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
}

// Journal is the memory. When Append returns, the record is on disk.
type Journal interface {
	Append(ctx context.Context, r Record) error
}

// Runner runs one rotation. Each Runner owns its State; Run returns when the
// rotation is finished or stopped, the context ends, or the journal fails.
type Runner struct {
	Plan     Plan
	Journal  Journal
	Hands    Hands
	Now      func() time.Time
	Wait     func(ctx context.Context, d time.Duration) error // between probes
	Parallel int                                              // acts at the same time; at least 1
	Decide   <-chan Record                                    // decisions of people while it runs; may be nil
	StepTime time.Duration                                    // deadline of one act; 0 for two minutes
}

// ErrJournal is wrapped when the journal cannot be written. Nothing is begun
// after it.
var ErrJournal = errors.New("the journal cannot be written")

type result struct {
	step   int
	record Record
}

// Run continues from the given records until there is nothing left to do.
func (r *Runner) Run(ctx context.Context, records []Record) (State, error) {
	state, err := Fold(r.Plan, records)
	if err != nil {
		return state, err
	}
	inFlight := map[int]bool{}
	ended := make(chan result)
	write := func(record Record) error {
		record.Seq, record.Time = state.Last+1, r.Now().UTC()
		// An outcome is worth writing although the service is being stopped.
		if err := r.Journal.Append(context.WithoutCancel(ctx), record); err != nil {
			return fmt.Errorf("%w: %w", ErrJournal, err)
		}
		return state.Apply(record)
	}
	// Whatever happens, no act outlives Run.
	drain := func(cause error) (State, error) {
		for len(inFlight) > 0 {
			res := <-ended
			delete(inFlight, res.step)
			if !errors.Is(cause, ErrJournal) {
				if err := write(res.record); err != nil {
					cause = err
				}
			}
		}
		return state, cause
	}
	if state.Last == 0 {
		if err := write(Record{Event: EventStarted, Step: -1, Result: string(r.Plan.Policy)}); err != nil {
			return state, err
		}
	}
	for {
		if ctx.Err() != nil {
			return drain(ctx.Err())
		}
		for _, action := range Next(state, inFlight) {
			if len(inFlight) >= max(1, r.Parallel) && (action.Kind == ActDo || action.Kind == ActUndo || action.Kind == ActProbe) {
				break
			}
			if err := r.begin(ctx, &state, action, inFlight, ended, write); err != nil {
				return drain(err)
			}
			if action.Kind == ActDecide || action.Kind == ActFinish {
				break
			}
		}
		if len(inFlight) == 0 {
			if state.Mode == ModeStopped || state.Mode == ModeFinished {
				return state, nil
			}
			if len(Next(state, inFlight)) == 0 {
				return state, fmt.Errorf("rotation of %s: no way forward from %s", r.Plan.Account, state.Mode)
			}
			continue
		}
		select {
		case res := <-ended:
			delete(inFlight, res.step)
			if err := write(res.record); err != nil {
				return drain(err)
			}
		case decision := <-r.Decide:
			decision.Event, decision.Step = EventDecision, -1
			if err := write(decision); err != nil {
				return drain(err)
			}
		case <-ctx.Done():
			return drain(ctx.Err())
		}
	}
}

// begin writes what must be written before an action and starts it.
func (r *Runner) begin(ctx context.Context, state *State, action Action, inFlight map[int]bool, ended chan<- result, write func(Record) error) error {
	switch action.Kind {
	case ActFinish:
		return write(Record{Event: EventFinished, Step: -1, Result: action.Result})
	case ActDecide:
		return write(Record{Event: EventDecision, Step: -1, Result: action.Result, Actor: "policy"})
	}
	step := r.Plan.Steps[action.Step]
	stepState := state.Steps[action.Step]
	limit := r.StepTime
	if limit == 0 {
		limit = 2 * time.Minute
	}
	if action.Kind == ActProbe {
		memo := stepState.Memo
		if action.Undo {
			memo = stepState.UndoMemo
		}
		inFlight[action.Step] = true
		go func() {
			act, cancel := context.WithTimeout(ctx, limit)
			defer cancel()
			finding := Finding{Result: ProbeUnknown, Words: "stopped while waiting to probe again"}
			if stepState.Probes == 0 || r.Wait(ctx, time.Second<<stepState.Probes) == nil {
				finding = r.Hands.Probe(act, step, action.Undo, memo)
			}
			ended <- result{action.Step, Record{Event: EventProbed, Step: action.Step, Undo: action.Undo, Result: finding.Result, Words: finding.Words}}
		}()
		return nil
	}
	undo := action.Kind == ActUndo
	observe, cancel := context.WithTimeout(ctx, limit)
	memo, err := r.Hands.Observe(observe, step, undo)
	cancel()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := write(Record{Event: EventIntent, Step: action.Step, Undo: undo, Memo: memo}); err != nil {
		return err
	}
	if err != nil {
		// It could not even be looked at: nothing was begun.
		return write(Record{Event: EventOutcome, Step: action.Step, Undo: undo, Result: ResultFailed, Words: err.Error()})
	}
	inFlight[action.Step] = true
	go func() {
		act, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		var outcome Outcome
		if undo {
			outcome = r.Hands.Undo(act, step, memo)
		} else {
			outcome = r.Hands.Do(act, step, memo)
		}
		if ctx.Err() != nil && outcome.Result == ResultFailed {
			// The service is being stopped: that is no failure of the step.
			outcome.Result = ResultUnclear
		}
		ended <- result{action.Step, Record{Event: EventOutcome, Step: action.Step, Undo: undo, Result: outcome.Result, Words: outcome.Words}}
	}()
	return nil
}
