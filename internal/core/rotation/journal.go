package rotation

import (
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Event is what a journal record says.
type Event string

// Events. Intent is durable before the act begins; Outcome follows it.
const (
	EventStarted  Event = "started"
	EventIntent   Event = "intent"
	EventOutcome  Event = "outcome"
	EventProbed   Event = "probed"
	EventReached  Event = "reached" // a system that everything depends on was asked for
	EventDecision Event = "decision"
	EventFinished Event = "finished"
)

// Results of acts (EventOutcome).
const (
	ResultDone    = "done"    // it took effect
	ResultFailed  = "failed"  // it certainly did not take effect
	ResultUnclear = "unclear" // it may or may not have
	ResultLeft    = "left"    // it was not begun: its window had closed
	// ResultAway: the system could not be reached, and so it certainly did not
	// take effect. That is no failure: it is waited for.
	ResultAway = "away"
	// ResultInterrupted: the service was stopped in the middle of it. That is no
	// attempt: a probe finds out what became of it.
	ResultInterrupted = "interrupted"
	// ResultLater: the old value is still accepted where one that was replaced is for
	// a while. Whether it is refused is found out by a later look.
	ResultLater = "later"
)

// LookAgainAfter is how long after its end a rotation is looked at again: what takes an
// hour to come out has done so by then (directories that accept the former password for
// that long; programs that put files back every half hour; connections that are made
// anew), and a person may still be there to ask.
const LookAgainAfter = 61 * time.Minute

// Results of probes (EventProbed).
const (
	ProbeEffective = "effective" // the new state is there
	ProbeAbsent    = "absent"    // the old state is there
	ProbeNeither   = "neither"   // something else is there
	ProbeUnknown   = "unknown"   // could not be found out, although the system answers
	ProbeAway      = "away"      // the system could not be reached
	ProbeStranger  = "stranger"  // the authority accepts neither value: somebody else set one
	ProbeHere      = "here"      // of reaching: it answers
	ProbeBlind     = "blind"     // nobody can read it: it may be either; doing it again is harmless
)

// Results of the whole (EventFinished).
const (
	FinishedDone         = "done"
	FinishedWithFailures = "done-with-failures"
	FinishedUndone       = "undone"
	FinishedUndoFailed   = "undo-incomplete"
)

// Record is one line of the journal.
type Record struct {
	Seq    int64     `json:"seq"` // 1, 2, 3, ...
	Time   time.Time `json:"time"`
	Event  Event     `json:"event"`
	Step   int       `json:"step"` // -1 when it concerns the whole
	Undo   bool      `json:"undo,omitempty"`
	Result string    `json:"result,omitempty"`
	Memo   string    `json:"memo,omitempty"`  // what a later probe needs to know
	Words  string    `json:"words,omitempty"` // the system's own words
	Actor  string    `json:"actor,omitempty"`
	Reason string    `json:"reason,omitempty"`
}

// Status of one step.
type Status string

// Statuses.
const (
	Pending     Status = "pending"
	Doing       Status = "doing"
	Done        Status = "done"
	Failed      Status = "failed"
	Unclear     Status = "unclear"
	Skipped     Status = "skipped"
	Undoing     Status = "undoing"
	UndoUnclear Status = "undo-unclear"
	Undone      Status = "undone"
	UndoFailed  Status = "undo-failed"
)

// Mode of the whole.
type Mode string

// Modes.
const (
	ModeForward  Mode = "running"
	ModeStopped  Mode = "stopped"
	ModeUndoing  Mode = "undoing"
	ModeFinished Mode = "finished"
)

// StepState is what the journal says of one step.
type StepState struct {
	Status    Status
	At        time.Time // of the latest record about it
	Attempts  int       // that ended without success, since the last resume
	Undos     int       // undoings that ended so, since the last decision to undo
	Probes    int       // probes in a row that found nothing out
	Attempted bool      // an act was begun at any time
	Memo      string    // of the latest forward intent
	UndoMemo  string    // of the latest undo intent
	Words     string
	Gave      bool // patience with probes is exhausted
	NoEffect  bool // it failed, and certainly changed nothing
	Maybe     bool // an earlier attempt may have taken effect, which nobody can read

	Away     int       // times in a row that its system was away
	Since    time.Time // since when
	Asked    time.Time // last time
	Reached  bool      // since the last failure, or decision to undo, its system answered, or was given up
	Left     bool      // a person decided to undo without it
	SignedIn bool      // a proof that saw it signed in again
	Later    bool      // done or undone, but for what a later look must find out
	Former   bool      // a proof that also saw the former value of the account whose turn began refused
	Retried  int       // times that it was tried again because an authority had been away

	stale bool   // its undoing under way is from before a decision to undo once more: it is done again
	prior Status // before the intent
	begun int64  // record of its latest intent
}

// AwayFor is the first step whose system was away at least so often in a row; ok is false
// where there is none, or the plan is over.
func (s State) AwayFor(times int) (step int, ok bool) {
	for i, t := range s.Steps {
		if t.Away >= times && !t.Left && s.Mode != ModeFinished {
			return i, true
		}
	}
	return 0, false
}

// Waiting: its system is away and is waited for.
func (t StepState) Waiting() bool { return t.Away > 0 && !t.Left }

// due is when a system that is away is asked again.
func (t *StepState) due() time.Time {
	if t.Away == 0 {
		return time.Time{}
	}
	return t.Asked.Add(pause(t.Away))
}

// State is a journal read.
type State struct {
	Plan    Plan
	Mode    Mode
	AnyTime bool // a person resumed it: windows count no more
	Turned  bool // it began to be undone: there is no way forward any more
	GoOn    bool // by policy or decision: without failed steps
	Result  string
	Steps   []StepState
	Last    int64 // sequence number of the last record

	changed time.Time // when an authority was first about to be changed
	missed  bool      // since the last failure, an authority was away
	awayAt  int64     // record at which one was away last
	index   *index
}

// Patience: how often an act that fails is tried, and a probe that finds
// nothing out repeated, before a person is asked. What is away is neither.
const (
	MaxAttempts = 3
	MaxProbes   = 4
	maxRetries  = 3
)

// DefaultPatience is how long a plan waits for a system that is away before
// its policy decides. Undoing waits without end.
const DefaultPatience = 30 * time.Minute

// stopPatience is how long a system that is away is waited for to stop something there.
const stopPatience = time.Minute

// longestPause is the longest time between two looks for a system that is away.
const longestPause = 5 * time.Minute

// pause grows with the number of times that a system was away.
func pause(away int) time.Duration {
	if away > 9 {
		return longestPause
	}
	return min(time.Second<<(away-1), longestPause)
}

// Fold reads a journal.
func Fold(plan Plan, records []Record) (State, error) {
	s := State{Plan: plan, Mode: ModeForward, GoOn: plan.OnFailure == ContinueOnFailure, Steps: make([]StepState, len(plan.Steps)), index: indexOf(plan)}
	for i := range s.Steps {
		s.Steps[i].Status = Pending
	}
	for _, r := range records {
		if err := s.Apply(r); err != nil {
			return s, err
		}
	}
	return s, nil
}

// Copy is one to which a record can be applied without touching this one.
func (s State) Copy() State {
	s.Steps = append([]StepState(nil), s.Steps...)
	return s
}

// Apply adds one record to a state.
func (s *State) Apply(r Record) error {
	if r.Seq != s.Last+1 {
		return fmt.Errorf("journal: record %d follows %d", r.Seq, s.Last)
	}
	s.Last = r.Seq
	switch r.Event {
	case EventStarted:
		return nil
	case EventDecision:
		s.decide(r.Result, r.Actor != ByPolicy)
		return nil
	case EventFinished:
		s.Mode, s.Result = ModeFinished, r.Result
		return nil
	}
	if r.Step < 0 || r.Step >= len(s.Steps) {
		return fmt.Errorf("journal: record %d is about step %d of %d", r.Seq, r.Step, len(s.Steps))
	}
	step := &s.Steps[r.Step]
	step.At = r.Time
	if r.Words != "" || r.Event != EventIntent {
		step.Words = r.Words
	}
	if r.Result != ResultAway && r.Event != EventIntent {
		step.Away, step.Since, step.Asked = 0, time.Time{}, time.Time{}
	}
	switch r.Event {
	case EventIntent:
		step.Attempted = true
		if s.changed.IsZero() && s.Plan.Steps[r.Step].Kind == StepChange {
			s.changed = r.Time
		}
		step.Probes, step.Gave, step.NoEffect, step.stale = 0, false, false, false
		step.prior, step.begun = step.Status, r.Seq
		if r.Undo {
			step.Status, step.UndoMemo = Undoing, r.Memo
		} else {
			step.Status, step.Memo = Doing, r.Memo
		}
	case EventOutcome:
		if r.Result == ResultAway {
			s.away(step, r)
			return nil
		}
		step.outcome(r)
		s.failed(step, r)
	case EventProbed:
		if r.Result == ProbeAway {
			s.away(step, r)
			return nil
		}
		step.probed(r)
		s.failed(step, r)
	case EventReached:
		s.reached(step, r)
	default:
		return fmt.Errorf("journal: record %d has the unknown event %q", r.Seq, r.Event)
	}
	return nil
}

// failed notes that a step failed, if it did: what it did may have met with an outage that
// is over by now.
func (s *State) failed(t *StepState, r Record) {
	if !r.Undo && t.Status == Failed {
		s.missed = s.missed || s.awayAt > t.begun
		s.lookAgain()
	}
}

// away notes that a system could not be reached. Going forward, that becomes a
// failure when the plan's patience is at its end.
func (s *State) away(t *StepState, r Record) {
	t.Away++
	t.Asked = r.Time
	if t.Since.IsZero() {
		t.Since = r.Time
	}
	if s.index.decides[s.Plan.Steps[r.Step].SystemID] {
		s.missed, s.awayAt = true, r.Seq
	}
	// Retiring the old value and proving it refused come when everything works:
	// nothing is lost by waiting for them.
	kind := s.Plan.Steps[r.Step].Kind
	patience := s.Plan.Patience
	if kind == StepStop {
		patience = min(patience, stopPatience) // others stand still meanwhile
	}
	over := s.Mode == ModeForward && s.Plan.Patience > 0 && kind != StepRetire && kind != StepRefuse && r.Time.Sub(t.Since) >= patience
	switch {
	case r.Event == EventProbed && r.Undo:
		t.Status = UndoUnclear
	case r.Event == EventProbed:
		t.Status, t.Gave = Unclear, over
	case over:
		t.Status, t.NoEffect = Failed, !t.Maybe
		t.Away, t.Since, t.Asked = 0, time.Time{}, time.Time{}
		s.lookAgain()
	case r.Undo && t.Status != Undoing: // it was not even begun
	case r.Undo:
		t.Status = t.prior
		if t.Status == Undoing || t.Status == "" {
			t.Status = UndoFailed
		}
	default:
		t.Status = Pending
	}
}

// lookAgain: something failed, and whether the authorities are there decides
// what that means.
func (s *State) lookAgain() {
	for _, i := range s.index.authorities {
		s.Steps[i].Reached = false
	}
}

// reached notes whether a system was there. When an authority was away and all
// are back, what failed meanwhile is tried once more: programs that start while
// it is away fail for that reason alone.
func (s *State) reached(t *StepState, r Record) {
	if r.Result == ProbeAway {
		t.Away++
		t.Asked = r.Time
		if t.Since.IsZero() {
			t.Since = r.Time
		}
		s.missed, s.awayAt = true, r.Seq
		// Patience at its end: the policy decides as if it were there.
		if s.Mode == ModeForward && s.Plan.Patience > 0 && r.Time.Sub(t.Since) >= s.Plan.Patience {
			t.Reached = true
			t.Away, t.Since, t.Asked = 0, time.Time{}, time.Time{}
		}
		return
	}
	t.Reached = true
	if s.Mode != ModeForward || !s.missed || !s.allReached(s.index.authorities) {
		return
	}
	s.missed = false
	for i := range s.Steps {
		f := &s.Steps[i]
		if f.Status != Failed || f.Retried >= maxRetries {
			continue
		}
		switch s.Plan.Steps[i].Kind {
		case StepSeal, StepChange, StepSignIn, StepRefuse, StepRetire:
		default:
			f.Retried++
			s.again(i)
		}
	}
}

// again makes a step pending. What was to be proven is done again too: a unit
// that died between its restart and the proof is not brought back by proving.
func (s *State) again(i int) {
	t := &s.Steps[i]
	t.Status, t.Attempts = Pending, 0
	if s.Plan.Steps[i].Kind != StepProve || s.Plan.Steps[i].Dependent == estate.DependentHost { // a host comes up by itself
		return
	}
	for _, j := range s.Plan.Steps[i].Needs {
		if before := &s.Steps[j]; s.Plan.Steps[j].Kind == StepRestart && before.Status == Done {
			before.Status, before.Attempts = Pending, 0
		}
	}
}

func (s *State) allReached(steps []int) bool {
	for _, i := range steps {
		if !s.Steps[i].Reached {
			return false
		}
	}
	return true
}

// undone: the undoing of a step took effect.
func (t *StepState) undone() {
	t.Status = Undone
	if t.stale {
		t.Status = UndoFailed
	}
}

func (t *StepState) outcome(r Record) {
	if r.Result != ResultDone && r.Result != ResultLater && r.Result != ResultLeft && r.Result != ResultInterrupted {
		if r.Undo {
			t.Undos++
		} else {
			t.Attempts++
		}
	}
	switch {
	case (r.Result == ResultDone || r.Result == ResultLater) && r.Undo:
		t.undone()
		t.SignedIn = r.Memo == MemoSignedIn
		t.Maybe, t.Later = false, r.Result == ResultLater
	case r.Result == ResultDone, r.Result == ResultLater:
		t.Status, t.Maybe, t.Later, t.SignedIn = Done, false, r.Result == ResultLater, r.Memo == MemoSignedIn
		t.Former = r.Memo == MemoFormerRefused
	case r.Result == ResultLeft:
		t.Status, t.NoEffect = Skipped, true
	case r.Result == ResultFailed && r.Undo:
		t.Status = UndoFailed
	case r.Result == ResultFailed:
		t.Status, t.NoEffect = Failed, !t.Maybe
	case r.Undo:
		t.Status = UndoUnclear
	default:
		t.Status = Unclear
	}
}

func (t *StepState) probed(r Record) {
	switch {
	case r.Result == ProbeUnknown:
		t.Probes++
		t.Gave = t.Probes >= MaxProbes
		if r.Undo {
			t.Status = UndoUnclear
		} else {
			t.Status = Unclear
		}
	case r.Result == ProbeStranger:
		// Neither the old nor the new value: setting either would break whatever
		// somebody else did. A person decides.
		t.Gave = true
		t.Status = Unclear
		if r.Undo {
			t.Status = UndoUnclear
		}
	case r.Result == ProbeBlind && !r.Undo && t.Attempts < MaxAttempts:
		t.Status, t.Maybe = Pending, true
	case r.Undo && r.Result == ProbeAbsent:
		t.undone()
	case r.Undo: // effective or neither: not undone yet
		t.Status = UndoFailed
	case r.Result == ProbeEffective:
		t.Status = Done
	case r.Result == ProbeAbsent && t.Attempts < MaxAttempts:
		t.Status = Pending
	default:
		t.Status = Failed
	}
}
