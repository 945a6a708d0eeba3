package rotation

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Decisions (EventDecision).
const (
	DecideStop   = "stop"
	DecideResume = "resume"
	DecideUndo   = "undo"
	DecideGoOn   = "go-on"      // go on without the failed steps
	DecideLeave  = "leave-away" // undo without the places that are away
)

// ErrDecision is what an error is when a decision does not fit where a rotation stands.
var ErrDecision = errors.New("that cannot be decided now")

// unfitting says why a decision does not fit.
type unfitting string

func (u unfitting) Error() string        { return string(u) }
func (u unfitting) Is(target error) bool { return target == ErrDecision }

func unfit(format string, args ...any) error { return unfitting(fmt.Sprintf(format, args...)) }

// Decision is what a person tells a rotation that is being worked on.
type Decision struct {
	Record Record
	// Answer is told once what came of it, and has room for that: nil when it is in
	// the journal, an error that wraps ErrDecision when the rotation had meanwhile
	// come to where it does not fit, or ErrJournal.
	Answer chan<- error
}

// Takes says whether a rotation takes a decision of a person where it stands, or
// why it does not.
func (s State) Takes(decision string) error {
	stands := cmp.Or(s.Result, string(s.Mode))
	switch decision {
	case DecideStop:
		if s.Mode != ModeForward && s.Mode != ModeUndoing {
			return unfit("it is %s: only a running one can be stopped", stands)
		}
	case DecideLeave:
		if s.Mode != ModeUndoing {
			return unfit("it is %s: only one that is being undone can do without what is away", stands)
		}
	case DecideResume, DecideGoOn:
		if s.Mode != ModeStopped && s.Result != FinishedWithFailures {
			return unfit("it is %s: only a stopped one, or one that ended with failures, can be resumed; rehearse anew to change it once more", stands)
		}
		if s.Turned {
			return unfit("it was stopped while it was being undone, and parts of it have the old value again: undo it to go on with that")
		}
	case DecideUndo:
		if s.Result == FinishedUndone {
			return unfit("it is undone already")
		}
		if why := s.Final(); why != "" {
			return unfit("%s", why)
		}
	default:
		return unfit("there is no decision %q", decision)
	}
	return nil
}

// Decisions are those that it takes.
func (s State) Decisions() []string {
	return slices.DeleteFunc([]string{DecideStop, DecideResume, DecideGoOn, DecideUndo, DecideLeave}, func(decision string) bool { return s.Takes(decision) != nil })
}

// ByPolicy is the actor of decisions that the policy makes.
const ByPolicy = "policy"

func (s *State) decide(decision string, person bool) {
	for i := range s.Steps {
		// An authority that accepts neither value stops an undoing. A person who
		// decides to undo all the same has been told. What could not be found out is
		// asked once more: setting the old value again gives its keys another number.
		if t := &s.Steps[i]; person && decision == DecideUndo && s.Plan.Steps[i].Kind == StepChange && t.Status == UndoUnclear && t.stranger() {
			t.Status = UndoFailed
		}
	}
	if decision == DecideLeave {
		away := map[string]bool{}
		for i, t := range s.Steps {
			away[s.Plan.Steps[i].SystemID] = away[s.Plan.Steps[i].SystemID] || t.Waiting()
		}
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Left = t.Left || away[s.Plan.Steps[i].SystemID]
		}
		return
	}
	if decision != DecideStop {
		s.missed = false
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Probes, t.Gave, t.Reached, t.Left, t.Retried = 0, false, false, false, 0
			t.Away, t.Since, t.Asked = 0, time.Time{}, time.Time{}
		}
	}
	switch decision {
	case DecideStop:
		s.Mode = ModeStopped
	case DecideGoOn:
		s.Mode, s.Result, s.GoOn = ModeForward, "", true
	case DecideResume:
		s.Mode, s.Result, s.AnyTime = ModeForward, "", true
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Attempts = 0
			if t.Status == Failed || t.Status == Skipped {
				s.again(i)
			}
		}
	case DecideUndo:
		s.Mode, s.Result, s.Turned = ModeUndoing, "", true
		for i := range s.Steps {
			t := &s.Steps[i]
			t.Undos = 0
			// What an earlier, incomplete undoing restarted or proved, it did
			// while something else still had the new value: do it again. What it put
			// back stays: accepting the old value beside the new one once more, where
			// the old one alone is accepted by now, would let the new one in again.
			switch s.Plan.Steps[i].Kind {
			case StepReplace, StepLogOn, StepChange, StepRetire, StepSeal, StepGive, StepTake, StepEnd, StepManage:
			default:
				switch t.Status {
				case Undone:
					t.Status = UndoFailed
				case Undoing, UndoUnclear:
					t.stale = true
				}
			}
		}
	}
}

// stranger: a probe found neither value, which is not patience at its end.
func (t *StepState) stranger() bool { return t.Gave && t.Probes < MaxProbes }
