package building

import (
	"time"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/rotation"
)

// A change of rights, or of when something ends, is a plan, too: each change is proven by the
// system's own answer. What is given comes first, and only when all that has been given is
// proven is anything taken, so that an account whose rights move from one way to another has
// them at every moment; what cannot be taken back comes after all else is proven. Undoing goes
// the other way round.

// Amended is one change of rights of a plan, on its system.
type Amended struct {
	SystemID string
	System   string // name
	Change   privilege.RightChange
}

// Ending is one change of when something ends, of a plan, on its system.
type Ending struct {
	SystemID string
	System   string // name
	Change   expiry.EndChange
	// Watch is for how long nothing may ask for it, once the change is proven, before
	// anything that cannot be taken back is done; 0 for not at all.
	Watch time.Duration
}

// amending builds a plan of steps that are each followed by their proof.
type amending struct {
	plan   rotation.Plan
	proven []int
}

func amend(kind rotation.PlanKind, subject string, onFailure rotation.OnFailure) *amending {
	return &amending{plan: rotation.Plan{Kind: kind, Credential: subject, OnFailure: onFailure, Patience: rotation.DefaultPatience, Steps: []rotation.Step{}, Notes: []rotation.Note{}}}
}

func (a *amending) add(kind rotation.StepKind, like rotation.Step, needs ...int) int {
	like.Index, like.Kind, like.Needs = len(a.plan.Steps), kind, needs
	a.plan.Steps = append(a.plan.Steps, like)
	return like.Index
}

// change adds a change and its proof.
func (a *amending) change(kind rotation.StepKind, like rotation.Step, needs ...int) int {
	return a.add(rotation.StepConfirm, like, a.add(kind, like, needs...))
}

// Amend makes a plan of changes of rights. Steps of one list keep their order.
func Amend(subject string, changes []Amended, onFailure rotation.OnFailure) rotation.Plan {
	p := amend(rotation.KindAmend, subject, onFailure)
	for _, give := range []bool{true, false} {
		for _, c := range changes {
			if c.Change.Give != give {
				continue
			}
			right := c.Change
			like := rotation.Step{SystemID: c.SystemID, System: c.System, Subject: right.To, Right: &right}
			if give {
				p.proven = append(p.proven, p.change(rotation.StepGive, like))
			} else {
				p.change(rotation.StepTake, like, p.proven...)
			}
		}
	}
	return p.plan
}

// End makes a plan of changes of ends. A change that cannot be taken back comes after all
// others are proven, and have been watched.
func End(subject string, changes []Ending, onFailure rotation.OnFailure) rotation.Plan {
	p := amend(rotation.KindEnd, subject, onFailure)
	for _, last := range []bool{false, true} {
		for _, c := range changes {
			if (c.Change.Act == expiry.Delete) != last {
				continue
			}
			end := c.Change
			like := rotation.Step{SystemID: c.SystemID, System: c.System, Subject: end.Name, End: &end}
			if last {
				p.change(rotation.StepEnd, like, p.proven...)
				continue
			}
			done := p.change(rotation.StepEnd, like)
			if c.Watch > 0 {
				like.Watch = c.Watch
				done = p.add(rotation.StepWatch, like, done)
			}
			p.proven = append(p.proven, done)
		}
	}
	return p.plan
}
