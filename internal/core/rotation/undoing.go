package rotation

import (
	"slices"

	"mossledger.example/moss/internal/core/estate"
)

// The order of undoing: the old value is accepted again beside the new one where
// it was retired, then copies, then the authority, proof that the old
// value is accepted again, then log-ons (some systems check a password when it
// is stored), then restarts in start order with their proofs, proof that the
// new value is refused, and last the new value is retired.
var undoRank = map[StepKind]int{
	StepRetire: -1, StepReplace: 0, StepChange: 1, StepSignIn: 2, StepSteward: 2, StepLogOn: 3, StepRestart: undoRestarts, StepRevive: undoRestarts, StepProve: undoRestarts, StepShow: undoRestarts, StepStop: undoRestarts, StepRefuse: 6, StepSeal: 7,
	// Where rights change: what was taken is given back before what was given is taken.
	StepTake: undoCopies, StepGive: 1, StepEnd: 1, StepManage: 1, StepConfirm: 2,
}

const (
	undoCopies   = 0
	undoRestarts = 4
	// Where two accounts take turns, the former one signs in beside the other: nothing
	// depends on when the other one rests again, but what was moved to it, and so that is
	// last.
	undoTurn = 5
)

// undoing is what one pass over the steps found before undoing.
type undoing struct {
	needs     []bool // took effect, or may have, or must be proven
	disturbed []bool // of restarts: the unit was restarted, or taken down; of proofs: a restart of theirs
}

func (s State) undoing() undoing {
	u := undoing{make([]bool, len(s.Steps)), make([]bool, len(s.Steps))}
	begun := s.begunDoors()
	renumbered := s.renumbered()
	for i := range s.Plan.Steps {
		step, t := &s.Plan.Steps[i], &s.Steps[i]
		switch step.Kind {
		case StepAll, StepStop, StepWatch: // what was stopped is started by its restart; looking changed nothing
		case StepConfirm:
			u.needs[i] = s.unproven(i)
		case StepReplace, StepLogOn, StepChange, StepRetire, StepSeal, StepGive, StepTake, StepEnd, StepManage:
			u.needs[i] = t.touched() || step.Adds() && renumbered && t.Status != Undone
		case StepRestart:
			u.disturbed[i] = (t.Attempted || s.stopped(i)) && step.Dependent != estate.DependentHost // which has no way back, and needs none
			for _, j := range step.After {
				// One on the same system that starts before it may have taken it down.
				before := s.Plan.Steps[j]
				u.disturbed[i] = u.disturbed[i] || before.SystemID == step.SystemID && before.Kind != StepRestart && u.disturbed[j]
			}
			u.needs[i] = t.Status != Undone && u.disturbed[i]
		case StepProve, StepRevive:
			for _, j := range step.Needs {
				u.disturbed[i] = u.disturbed[i] || s.Plan.Steps[j].Kind == StepRestart && u.disturbed[j]
			}
			u.needs[i] = t.Status != Undone && u.disturbed[i]
		case StepShow:
			u.needs[i] = t.Status != Undone && (t.Attempted || s.restartedOf(step, u))
		default: // sign-in and refuse are proven the other way round
			u.needs[i] = t.Status != Undone && begun[s.index.doors[i]]
		}
	}
	return u
}

// restartedOf: what a port waits for was restarted.
func (s State) restartedOf(step *Step, u undoing) bool {
	return slices.ContainsFunc(step.Needs, func(j int) bool { return u.disturbed[j] })
}

// stopped: what a step restarts was stopped before the change, or may have been.
func (s State) stopped(restart int) bool {
	i := s.index.stops[restart]
	if i == 0 {
		return false
	}
	t := &s.Steps[i]
	return t.Attempted && (t.Status != Failed || !t.NoEffect)
}

// touched: the step took effect, or may have, and that was not undone.
func (t *StepState) touched() bool {
	switch t.Status {
	case Done, Unclear, Undoing, UndoUnclear, UndoFailed:
		return true
	case Pending, Skipped:
		return t.Maybe
	case Failed:
		// A failure that a probe found as neither old nor new. One that certainly
		// changed nothing leaves nothing to undo.
		return t.Attempted && !t.NoEffect
	}
	return false
}

// renumbered: the old value is not what it was before once it is put back, for the keys
// that are made of it have a further number then. Key tabs need them, also where the new
// ones were never added.
func (s State) renumbered() bool {
	for _, i := range s.index.direct {
		if t := &s.Steps[i]; t.touched() || t.Status == Undone {
			return true
		}
	}
	return false
}

// putBack: the authority was given the old value again.
func (s State) putBack() bool {
	for _, i := range s.index.direct {
		if s.Steps[i].Status == Undone {
			return true
		}
	}
	return false
}
