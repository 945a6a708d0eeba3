package rotation_test

import (
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	. "mossledger.example/moss/internal/core/rotation"
)

// authorityGone: programs that start cannot ask whether their value is right.
func (e *world) authorityGone() bool {
	return e.away != nil && e.plan.Of != credential.SSHKey && e.away(e.clock, e.plan.Authority)
}

// start starts a unit with what it has stored; a service needs those before it.
func (e *world) start(step Step) bool {
	u := e.units[step.Index]
	u.invocation++
	u.active = true
	if step.Dependent != estate.DependentService {
		u.value = e.files[step.Needs[0]]
		u.active = e.accepts(u.value) && !e.authorityGone()
		return u.active
	}
	for i, other := range e.plan.Steps {
		if other.Kind == StepLogOn && other.Subject == step.Subject {
			u.value = e.kept[i]
			u.active = e.accepts(u.value) && !e.authorityGone()
		}
		if w := e.units[i]; w != nil && other.Dependent == estate.DependentService && (other.Subject == "store" && step.Subject != "store" || other.Subject == "board" && step.Subject == "sign") {
			u.active = u.active && w.active
		}
	}
	return u.active
}

// unitOf is what a step stops.
func (e *world) unitOf(step Step) *unit {
	for i, u := range e.units {
		if other := e.plan.Steps[i]; other.Kind == StepRestart && other.SystemID == step.SystemID && other.Subject == step.Subject {
			return u
		}
	}
	e.t.Fatalf("nothing restarts what step %d stops", step.Index)
	return nil
}

// takeDown: a unit that is down takes those on its system down that need it.
func (e *world) takeDown(step Step) {
	for i, u := range e.units {
		if other := e.plan.Steps[i]; other.SystemID == step.SystemID && (other.Subject == "gangway.service" && step.Subject == "berth.service" || other.Kind == StepRevive) {
			u.active = false
		}
	}
}
