package rotation

import (
	"slices"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
)

// unproven: a right that is proven by a step was changed, or was and is as before again.
func (s State) unproven(confirm int) bool {
	return s.Steps[confirm].Status != Undone && slices.ContainsFunc(s.Plan.Steps[confirm].Needs, func(j int) bool { return s.Steps[j].touched() || s.Steps[j].Status == Undone })
}

// changeTitle is a step about a right, an end, a managed account or a host as a whole, or its undoing; "" for others.
func (s Step) changeTitle(undo bool) string {
	switch {
	case s.Right != nil:
		return s.rightTitle(undo)
	case s.End != nil:
		return s.endTitle(undo)
	case s.Dependent == estate.DependentHost:
		return managed.HostTitle(s.System, s.NotBefore, s.NotAfter, s.Kind == StepProve, undo)
	case s.Managed != nil:
		return s.Managed.Title(s.Kind == StepConfirm, undo) + " on " + s.System
	}
	return ""
}

// rightTitle is a step about a right, or its undoing, in a few words.
func (s Step) rightTitle(undo bool) string {
	what, give := s.Right.Words(), s.Right.Give != undo
	switch {
	case s.Kind == StepConfirm && give:
		return "prove that " + s.Subject + " on " + s.System + " has " + what
	case s.Kind == StepConfirm:
		return "prove that " + s.Subject + " on " + s.System + " has no longer " + what
	case undo && give:
		return "give " + what + " back to " + s.Subject + " on " + s.System
	case give:
		return "give " + s.Subject + " on " + s.System + " " + what
	case undo:
		return "take back from " + s.Subject + " on " + s.System + " what it was given: " + what
	}
	return "take from " + s.Subject + " on " + s.System + " " + what
}
