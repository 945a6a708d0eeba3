package rotation

import "mossledger.example/moss/internal/core/expiry"

// Ending is one change of when something ends, of a plan, on its system.
type Ending struct {
	SystemID string
	System   string // name
	Change   expiry.EndChange
}

// End makes a plan of changes of ends: each is proven by the system's own answer. A change that
// cannot be taken back comes after all others are proven.
func End(subject string, changes []Ending, onFailure OnFailure) Plan {
	p := Plan{Kind: KindEnd, Credential: subject, OnFailure: onFailure, Patience: DefaultPatience, Steps: []Step{}, Notes: []Note{}}
	var proven []int
	add := func(kind StepKind, e Ending, needs ...int) int {
		i := len(p.Steps)
		c := e.Change
		p.Steps = append(p.Steps, Step{Index: i, Kind: kind, SystemID: e.SystemID, System: e.System, Subject: c.Name, End: &c, Needs: needs})
		return i
	}
	for _, last := range []bool{false, true} {
		for _, e := range changes {
			if (e.Change.Act == expiry.Delete) != last {
				continue
			}
			var needs []int
			if last {
				needs = proven
			}
			confirmed := add(StepConfirm, e, add(StepEnd, e, needs...))
			if !last {
				proven = append(proven, confirmed)
			}
		}
	}
	return p
}

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
	case s.Kind == StepConfirm && undo:
		return "prove that " + s.End.Thing() + " on " + s.System + " is as it was"
	case s.Kind == StepConfirm:
		return "prove it: " + s.End.Words() + " on " + s.System
	case undo:
		return s.End.BackWords() + " on " + s.System
	}
	return s.End.Words() + " on " + s.System
}
