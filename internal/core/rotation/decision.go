package rotation

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
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
			return unfit("it is %s: only a stopped one, or one that ended with failures, can be resumed; rehearse and rotate anew to change it once more", stands)
		}
		if s.Turned {
			return unfit("it was stopped while it was being undone, and parts of it have the old value again: undo it to go on with that")
		}
	case DecideUndo:
		if s.Result == FinishedUndone {
			return unfit("it is undone already")
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
