package rotation

// ActionKind says what Next wants.
type ActionKind string

// Kinds of action.
const (
	ActDo     ActionKind = "do"
	ActProbe  ActionKind = "probe"
	ActUndo   ActionKind = "undo"
	ActDecide ActionKind = "decide" // write a decision that the policy makes
	ActFinish ActionKind = "finish"
)

// Action is one thing that may be done now.
type Action struct {
	Kind   ActionKind
	Step   int
	Undo   bool   // of a probe: is the undo's outcome in question
	Result string // of decide and finish
}

// Next says what may be done now, all of it at the same time. inFlight holds
// the steps that are being worked on. An empty answer with nothing in flight
// means that a person must decide (ModeStopped) or that all is over.
func Next(s State, inFlight map[int]bool) []Action {
	switch s.Mode {
	case ModeForward:
		return s.forward(inFlight)
	case ModeUndoing:
		return s.backward(inFlight)
	default:
		return nil
	}
}

func (s State) forward(inFlight map[int]bool) []Action {
	var out []Action
	var failed, stopping bool
	for i, t := range s.Steps {
		if inFlight[i] {
			continue
		}
		switch {
		case t.Status == Doing, t.Status == Unclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i})
		case t.Status == Skipped:
			failed = true // told, but no reason to stop
		case t.Status == Failed, t.Status == Unclear:
			failed = true
			// That the old value is still accepted is worth telling, but no
			// reason to give up a change that works everywhere.
			kind := s.Plan.Steps[i].Kind
			stopping = stopping || kind != StepRefuse && kind != StepRetire
		}
	}
	if stopping && !s.mayGoOn() {
		if len(out) > 0 || len(inFlight) > 0 {
			return out // begin nothing new, find out what is unknown first
		}
		decision := DecideStop
		if s.Plan.Policy != PolicyStop && !s.authorityUnclear() {
			decision = DecideUndo
		}
		return []Action{{Kind: ActDecide, Result: decision}}
	}
	open := false
	for i, step := range s.Plan.Steps {
		if s.Steps[i].Status == Pending && !inFlight[i] && s.ready(step) {
			out = append(out, Action{Kind: ActDo, Step: i})
		}
		if s.Steps[i].Status == Pending && !s.blocked(step) {
			open = true
		}
	}
	if len(out) > 0 || len(inFlight) > 0 || open {
		return out
	}
	if failed {
		return []Action{{Kind: ActFinish, Result: FinishedWithFailures}}
	}
	return []Action{{Kind: ActFinish, Result: FinishedDone}}
}

// mayGoOn: going on without failed steps makes sense only once the authority
// has changed and is proven.
func (s State) mayGoOn() bool {
	if !s.GoOn {
		return false
	}
	for i, step := range s.Plan.Steps {
		if t := s.Steps[i].Status; (step.Kind == StepSeal || step.Kind == StepChange || step.Kind == StepSignIn) && (t == Failed || t == Unclear) {
			return false
		}
	}
	return true
}

// authorityUnclear: what the authority accepts could not be found out, and so
// neither going on nor going back is safe.
func (s State) authorityUnclear() bool {
	for i, step := range s.Plan.Steps {
		if step.Kind == StepChange && s.Steps[i].Status == Unclear {
			return true
		}
	}
	return false
}

func (s State) ready(step Step) bool {
	for _, j := range step.Needs {
		if s.Steps[j].Status != Done {
			return false
		}
	}
	for _, j := range step.After {
		switch s.Steps[j].Status {
		case Done, Failed, Skipped:
		case Unclear:
			if !s.Steps[j].Gave {
				return false
			}
		case Pending:
			if !s.blocked(s.Plan.Steps[j]) {
				return false
			}
		default:
			return false
		}
	}
	return true
}

// blocked: something it needs has failed for good.
func (s State) blocked(step Step) bool {
	for _, j := range step.Needs {
		t := s.Steps[j]
		if t.Status == Failed || t.Status == Skipped || t.Status == Unclear && t.Gave || t.Status == Pending && s.blocked(s.Plan.Steps[j]) {
			return true
		}
	}
	return false
}

// The order of undoing: the old value is accepted again beside the new one where
// it was retired, then copies, then the authority, proof that the old
// value is accepted again, then log-ons (some systems check a password when it
// is stored), then restarts in start order with their proofs, proof that the
// new value is refused, and last the new value is retired.
var undoRank = map[StepKind]int{
	StepRetire: -1, StepReplace: 0, StepChange: 1, StepSignIn: 2, StepLogOn: 3, StepRestart: undoRestarts, StepRevive: undoRestarts, StepProve: undoRestarts, StepRefuse: 5, StepSeal: 6,
}

const undoRestarts = 4

// needsUndo: a step that took effect, or may have.
func (s State) needsUndo(i int) bool {
	t := s.Steps[i]
	switch s.Plan.Steps[i].Kind {
	case StepReplace, StepLogOn, StepChange, StepRetire, StepSeal:
		switch t.Status {
		case Done, Unclear, Undoing, UndoUnclear, UndoFailed:
			return true
		}
		if t.Maybe && (t.Status == Pending || t.Status == Skipped) {
			return true
		}
		// A failure that a probe found as neither old nor new. One that
		// certainly changed nothing leaves nothing to undo.
		return t.Status == Failed && t.Attempted && !t.NoEffect
	case StepRestart:
		return t.Status != Undone && s.disturbed(i)
	case StepProve, StepRevive:
		return t.Status != Undone && s.needsDisturbed(s.Plan.Steps[i])
	default: // sign-in and refuse are proven the other way round
		for j, step := range s.Plan.Steps {
			if step.Kind != StepChange || !sameDoor(step, s.Plan.Steps[i]) || !s.Steps[j].Attempted {
				continue
			}
			// One of several doors that was certainly left alone needs no proof,
			// and may have been shut by somebody else.
			if step.Door == nil || s.Steps[j].Status != Failed || !s.Steps[j].NoEffect {
				return t.Status != Undone
			}
		}
		return false
	}
}

// disturbed: the unit of a restart step was restarted, or one on the same
// system that starts before it was, which may have taken it down.
func (s State) disturbed(restart int) bool {
	if s.Steps[restart].Attempted {
		return true
	}
	step := s.Plan.Steps[restart]
	for _, j := range step.After {
		before := s.Plan.Steps[j]
		if before.SystemID == step.SystemID && (before.Kind == StepProve || before.Kind == StepRevive) && s.needsDisturbed(before) {
			return true
		}
	}
	return false
}

// needsDisturbed: any of the restarts that a proof belongs to was begun.
func (s State) needsDisturbed(step Step) bool {
	for _, j := range step.Needs {
		if s.Plan.Steps[j].Kind == StepRestart && s.disturbed(j) {
			return true
		}
	}
	return false
}

func (s State) backward(inFlight map[int]bool) []Action {
	var out []Action
	for i, t := range s.Steps {
		if inFlight[i] {
			continue
		}
		switch {
		case t.Status == Doing, t.Status == Unclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i})
		case t.Status == Undoing, t.Status == UndoUnclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i, Undo: true})
		}
	}
	if len(out) > 0 || len(inFlight) > 0 && !s.onlyUndos(inFlight) {
		return out // know first, then undo
	}
	settled := func(i int) bool {
		t := s.Steps[i]
		given := t.Status == UndoFailed && t.Undos >= MaxAttempts || t.Status == UndoUnclear && t.Gave
		return !s.needsUndo(i) || given
	}
	incomplete := false
	for i, step := range s.Plan.Steps {
		if inFlight[i] || settled(i) {
			incomplete = incomplete || !inFlight[i] && s.needsUndo(i)
			continue
		}
		ready := true
		for j, other := range s.Plan.Steps {
			before := undoRank[other.Kind] < undoRank[step.Kind]
			if undoRank[step.Kind] == undoRestarts && undoRank[other.Kind] == undoRestarts {
				before = contains(step.Needs, j) || contains(step.After, j)
			}
			if before && (inFlight[j] || !settled(j)) {
				ready = false
			}
		}
		// The new value is kept while any place may still hold it.
		if step.Kind == StepSeal && s.anyGivenUp() {
			incomplete = true
			continue
		}
		if ready {
			out = append(out, Action{Kind: ActUndo, Step: i})
		}
	}
	if len(out) > 0 || len(inFlight) > 0 {
		return out
	}
	if incomplete {
		return []Action{{Kind: ActFinish, Result: FinishedUndoFailed}}
	}
	return []Action{{Kind: ActFinish, Result: FinishedUndone}}
}

func (s State) onlyUndos(inFlight map[int]bool) bool {
	for i := range inFlight {
		if t := s.Steps[i].Status; t != Undoing && t != UndoUnclear && t != UndoFailed && t != Undone {
			return false
		}
	}
	return true
}

func (s State) anyGivenUp() bool {
	for i, t := range s.Steps {
		if s.Plan.Steps[i].Kind != StepSeal && (t.Status == UndoFailed || t.Status == UndoUnclear) {
			return true
		}
	}
	return false
}

func contains(list []int, want int) bool {
	for _, v := range list {
		if v == want {
			return true
		}
	}
	return false
}
