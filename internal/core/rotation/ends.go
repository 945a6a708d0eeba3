package rotation

import (
	"time"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/expiry"
)

// Final says why a plan cannot be undone any more once its deletions are done; "" when it can.
func (s State) Final() string {
	for i, step := range s.Plan.Steps {
		if step.Kind == StepEnd && step.End.Act == expiry.Delete && s.Steps[i].touched() {
			return step.End.Thing() + " on " + step.System + " is deleted, or may be: that cannot be undone"
		}
	}
	return ""
}

// endTitle is a step about an end, or its undoing, in a few words.
func (s Step) endTitle(undo bool) string {
	switch {
	case s.Kind == StepWatch:
		return "watch for " + calendar.Spell(s.Watch) + " whether anything asks for " + s.End.Thing() + " on " + s.System
	case s.Kind == StepConfirm && undo:
		return "prove that " + s.End.Thing() + " on " + s.System + " is as it was"
	case s.Kind == StepConfirm:
		return "prove it: " + s.End.Words() + " on " + s.System
	case undo:
		return s.End.BackWords() + " on " + s.System
	}
	return s.End.Words() + " on " + s.System
}

// watches is until when a step only watches: its time counts from when what it watches was
// proven. It is zero for other steps.
func (s *State) watches(step *Step) time.Time {
	if step.Kind != StepWatch || len(step.Needs) == 0 {
		return time.Time{}
	}
	return s.Steps[step.Needs[0]].At.Add(step.Watch)
}

// Watching is the step that nothing else happens beside than watching, and until when.
func (s *State) Watching(now time.Time) (step int, until time.Time, is bool) {
	for _, a := range Next(*s, nil) {
		at := s.watches(&s.Plan.Steps[a.Step])
		if s.Mode != ModeForward || a.Kind != ActDo || !now.Before(at) {
			return 0, time.Time{}, false
		}
		if !is || at.Before(until) {
			step, until, is = a.Step, at, true
		}
	}
	return step, until, is
}
