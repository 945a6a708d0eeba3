package rotation

import (
	"fmt"
	"time"
)

// Event is what a journal record says.
type Event string

// Events. Intent is durable before the act begins; Outcome follows it.
const (
	EventStarted  Event = "started"
	EventIntent   Event = "intent"
	EventOutcome  Event = "outcome"
	EventProbed   Event = "probed"
	EventDecision Event = "decision"
	EventFinished Event = "finished"
)

// Results of acts (EventOutcome).
const (
	ResultDone    = "done"    // it took effect
	ResultFailed  = "failed"  // it certainly did not take effect
	ResultUnclear = "unclear" // it may or may not have
	ResultLeft    = "left"    // it was not begun: its window had closed
)

// Results of probes (EventProbed).
const (
	ProbeEffective = "effective" // the new state is there
	ProbeAbsent    = "absent"    // the old state is there
	ProbeNeither   = "neither"   // something else is there
	ProbeUnknown   = "unknown"   // could not be found out
	ProbeBlind     = "blind"     // nobody can read it: it may be either; doing it again is harmless
)

// Decisions (EventDecision).
const (
	DecideStop   = "stop"
	DecideResume = "resume"
	DecideUndo   = "undo"
	DecideGoOn   = "go-on" // go on without the failed steps
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
	Attempts  int    // forward intents since the last resume
	Undos     int    // undo intents since the last decision to undo
	Probes    int    // probes in a row that found nothing out
	Attempted bool   // an act was begun at any time
	Memo      string // of the latest forward intent
	UndoMemo  string // of the latest undo intent
	Words     string
	Gave      bool // patience with probes is exhausted
	NoEffect  bool // it failed, and certainly changed nothing
	Maybe     bool // an earlier attempt may have taken effect, which nobody can read
}

// State is a journal read.
type State struct {
	Plan    Plan
	Mode    Mode
	AnyTime bool // a person resumed it: windows count no more
	GoOn    bool // by policy or decision: without failed steps
	Result  string
	Steps   []StepState
	Last    int64 // sequence number of the last record
}

// Patience: how often an act is tried and a probe repeated before a person is
// asked.
const (
	MaxAttempts = 3
	MaxProbes   = 4
)

// Fold reads a journal.
func Fold(plan Plan, records []Record) (State, error) {
	s := State{Plan: plan, Mode: ModeForward, GoOn: plan.Policy == PolicyContinue, Steps: make([]StepState, len(plan.Steps))}
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
		s.decide(r.Result)
		return nil
	case EventFinished:
		s.Mode, s.Result = ModeFinished, r.Result
		return nil
	}
	if r.Step < 0 || r.Step >= len(s.Steps) {
		return fmt.Errorf("journal: record %d is about step %d of %d", r.Seq, r.Step, len(s.Steps))
	}
	step := &s.Steps[r.Step]
	if r.Words != "" || r.Event != EventIntent {
		step.Words = r.Words
	}
	switch r.Event {
	case EventIntent:
		step.Attempted = true
		step.Probes, step.Gave, step.NoEffect = 0, false, false
		if r.Undo {
			step.Status, step.UndoMemo = Undoing, r.Memo
			step.Undos++
		} else {
			step.Status, step.Memo = Doing, r.Memo
			step.Attempts++
		}
	case EventOutcome:
		step.outcome(r)
	case EventProbed:
		step.probed(r)
	default:
		return fmt.Errorf("journal: record %d has the unknown event %q", r.Seq, r.Event)
	}
	return nil
}

func (t *StepState) outcome(r Record) {
	switch {
	case r.Result == ResultDone && r.Undo:
		t.Status, t.Maybe = Undone, false
	case r.Result == ResultDone:
		t.Status, t.Maybe = Done, false
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
	case r.Result == ProbeBlind && !r.Undo && t.Attempts < MaxAttempts:
		t.Status, t.Maybe = Pending, true
	case r.Undo && r.Result == ProbeAbsent:
		t.Status = Undone
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

func (s *State) decide(decision string) {
	switch decision {
	case DecideStop:
		s.Mode = ModeStopped
	case DecideGoOn:
		s.Mode, s.GoOn = ModeForward, true
	case DecideResume:
		s.Mode, s.Result, s.AnyTime = ModeForward, "", true
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Attempts, t.Probes, t.Gave = 0, 0, false
			if t.Status == Failed || t.Status == Skipped {
				t.Status = Pending
			}
		}
	case DecideUndo:
		s.Mode, s.Result = ModeUndoing, ""
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Undos, t.Probes, t.Gave = 0, 0, false
			// What an earlier, incomplete undoing restarted or proved, it did
			// while something else still had the new value: do it again.
			if kind := s.Plan.Steps[i].Kind; t.Status == Undone && kind != StepReplace && kind != StepLogOn && kind != StepChange && kind != StepSeal {
				t.Status = UndoFailed
			}
		}
	}
}
