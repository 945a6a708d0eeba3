package rotation

import (
	"slices"

	"mossledger.example/moss/internal/core/privilege"
)

// A change of rights is a plan, too: what is given comes first, each is proven by the
// system's own answer, and only when all that has been given is proven is anything taken, so
// that an account whose rights move from one way to another has them at every moment. Undoing
// goes the other way round: what was taken comes back before what was given goes.

// Amended is one change of rights of a plan, on its system.
type Amended struct {
	SystemID string
	System   string // name
	Change   privilege.RightChange
}

// Amend makes a plan of changes of rights. Steps of one list keep their order.
func Amend(subject string, changes []Amended, onFailure OnFailure) Plan {
	p := Plan{Kind: KindAmend, Credential: subject, OnFailure: onFailure, Patience: DefaultPatience, Steps: []Step{}, Notes: []Note{}}
	var proven []int
	add := func(kind StepKind, a Amended, needs ...int) int {
		i := len(p.Steps)
		c := a.Change
		p.Steps = append(p.Steps, Step{Index: i, Kind: kind, SystemID: a.SystemID, System: a.System, Subject: c.To, Right: &c, Needs: needs})
		return i
	}
	for _, a := range changes {
		if a.Change.Give {
			proven = append(proven, add(StepConfirm, a, add(StepGive, a)))
		}
	}
	for _, a := range changes {
		if !a.Change.Give {
			add(StepConfirm, a, add(StepTake, a, proven...))
		}
	}
	return p
}

// unproven: a right that is proven by a step was changed, or was and is as before again.
func (s State) unproven(confirm int) bool {
	return s.Steps[confirm].Status != Undone && slices.ContainsFunc(s.Plan.Steps[confirm].Needs, func(j int) bool { return s.Steps[j].touched() || s.Steps[j].Status == Undone })
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
