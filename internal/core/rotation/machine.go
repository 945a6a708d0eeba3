package rotation

import (
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// ActionKind says what Next wants.
type ActionKind string

// Kinds of action.
const (
	ActDo     ActionKind = "do"
	ActProbe  ActionKind = "probe"
	ActUndo   ActionKind = "undo"
	ActReach  ActionKind = "reach"  // find out whether the system of a step answers
	ActDecide ActionKind = "decide" // write a decision that the policy makes
	ActFinish ActionKind = "finish"
)

// Action is one thing that may be done now.
type Action struct {
	Kind      ActionKind
	Step      int
	Undo      bool      // of a probe: is the undo's outcome in question
	Result    string    // of decide and finish
	NotBefore time.Time // when its system, which was away, is asked again
}

// index is what of a plan is looked up again and again.
type index struct {
	authorities []int // a step for each system that decides
	decides     map[string]bool
	changes     []int
	direct      []int // changes of systems that decide themselves, at no door
	doors       []int // of each step, numbered; 0 for no door
	count       int   // of doors
	ranks       []int // of undoing each step
	stops       []int // of each restart, the step that stops the same before the change; 0 for none
}

func doorKey(s Step) Door {
	if s.Door == nil {
		return Door{}
	}
	return Door{Account: s.SystemID + "\x00" + s.Door.Account}
}

func indexOf(plan Plan) *index {
	x := &index{decides: map[string]bool{}, doors: make([]int, len(plan.Steps)), ranks: make([]int, len(plan.Steps)), stops: make([]int, len(plan.Steps))}
	numbers, stopped := map[Door]int{{}: 0}, map[string]int{}
	for i, s := range plan.Steps {
		door := doorKey(s)
		if _, known := numbers[door]; !known {
			numbers[door] = len(numbers)
		}
		x.doors[i], x.ranks[i] = numbers[door], undoRank[s.Kind]
		if plan.Turn != nil && s.Kind == StepChange {
			x.ranks[i] = undoTurn
		}
		// A certificate that nothing has any more is taken back when everything runs again:
		// nothing waits for its authority.
		if s.Door != nil && s.Door.Certifies {
			x.ranks[i] = undoTurn
		}
		switch s.Kind {
		case StepStop:
			stopped[s.SystemID+"\x00"+estate.PlaceKey(s.Dependent, s.Subject)] = i
		case StepRestart:
			x.stops[i] = stopped[s.SystemID+"\x00"+estate.PlaceKey(s.Dependent, s.Subject)]
		}
		// Who issued a certificate decides nothing about it afterwards: dependents start
		// without asking there.
		decides := s.Kind == StepChange && (s.Door == nil || !s.Door.Certifies) || plan.Kind == KindAssign && s.Kind == StepSignIn
		if s.Kind == StepChange {
			x.changes = append(x.changes, i)
			if s.Door == nil {
				x.direct = append(x.direct, i)
			}
		}
		if decides && !x.decides[s.SystemID] {
			x.decides[s.SystemID] = true
			x.authorities = append(x.authorities, i)
		}
	}
	x.count = len(numbers)
	return x
}

// Next says what may be done now, all of it at the same time. inFlight holds
// the steps that are being worked on. An empty answer with nothing in flight
// means that a person must decide (ModeStopped) or that all is over.
//
// It is one pass over the steps: what a step needs, or comes after, stands
// before it.
func Next(s State, inFlight map[int]bool) []Action {
	if s.Mode != ModeForward && s.Mode != ModeUndoing {
		return nil
	}
	f := flying{steps: make([]bool, len(s.Steps)), rank: undoRank[StepRetire]} // every step is asked: cheaper than a map
	for i, in := range inFlight {
		if in {
			f.steps[i], f.rank = true, max(f.rank, s.index.ranks[i])
			f.count++
		}
	}
	if s.Mode == ModeForward {
		return s.forward(f)
	}
	return s.backward(f)
}

// flying are the steps that are being worked on.
type flying struct {
	steps       []bool
	count, rank int // rank: the highest of undoing; what comes before it is not begun beside it
}

// pass is what one pass over the steps found of each.
type pass struct {
	done []bool // succeeded
	dead []bool // failed for good, or needs something that is
}

// look says of a step whether it may be done now, given those before it.
func (p *pass) look(s *State, i int) (ready bool) {
	step, t := &s.Plan.Steps[i], &s.Steps[i]
	ready, blocked := true, false
	for _, j := range step.Needs {
		ready = ready && p.done[j]
		blocked = blocked || p.dead[j]
	}
	for _, j := range step.After {
		ready = ready && (p.done[j] || p.dead[j])
	}
	if step.Kind == StepAll {
		p.done[i], p.dead[i] = ready, blocked
		return false
	}
	p.done[i] = t.Status == Done
	p.dead[i] = t.Status == Failed || t.Status == Skipped || t.Status == Unclear && t.Gave || t.Status == Pending && blocked
	return ready && t.Status == Pending
}

func (s State) forward(inFlight flying) []Action {
	var out, doable []Action
	var failed, stopping, open bool
	p := pass{make([]bool, len(s.Steps)), make([]bool, len(s.Steps))}
	for i := range s.Steps {
		t, ready := &s.Steps[i], p.look(&s, i)
		kind := s.Plan.Steps[i].Kind
		if inFlight.steps[i] || kind == StepAll {
			continue
		}
		switch {
		case t.Status == Doing, t.Status == Unclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i, NotBefore: t.due()})
		case t.Status == Skipped:
			failed = true // told, but no reason to stop
		case t.Status == Failed, t.Status == Unclear:
			failed = true
			// That the old value is still accepted is worth telling, but no
			// reason to give up a change that works everywhere.
			stopping = stopping || kind != StepRefuse && kind != StepRetire
		case ready:
			doable = append(doable, Action{Kind: ActDo, Step: i, NotBefore: t.due()})
		}
		open = open || t.Status == Pending && !p.dead[i]
	}
	if stopping {
		out = append(out, s.lookAtOnce(inFlight)...)
	}
	if stopping && !s.mayGoOn() {
		return s.giveUp(out, inFlight)
	}
	out = append(out, doable...)
	if len(out) > 0 || inFlight.count > 0 || open {
		return out
	}
	if failed {
		return []Action{{Kind: ActFinish, Result: FinishedWithFailures}}
	}
	return []Action{{Kind: ActFinish, Result: FinishedDone}}
}

// lookAtOnce asks for the authorities: what failed may have failed because one is away,
// which is looked for before it may be back.
func (s State) lookAtOnce(inFlight flying) (out []Action) {
	for _, look := range s.look(s.index.authorities) {
		// A step that is being found out about tells by that.
		t := &s.Steps[look.Step]
		if !inFlight.steps[look.Step] && t.Status != Doing && (t.Status != Unclear || t.Gave) && t.Status != Pending {
			out = append(out, look)
		}
	}
	return out
}

// giveUp begins nothing new, finds out what is unknown first, and then does what the
// policy says of a step that failed.
func (s State) giveUp(out []Action, inFlight flying) []Action {
	if len(out) > 0 || inFlight.count > 0 {
		return out
	}
	decision := DecideStop
	if s.Plan.OnFailure != StopOnFailure && !s.authorityUnclear() {
		decision = DecideUndo
	}
	return []Action{{Kind: ActDecide, Result: decision}}
}

// look asks for the systems of steps that were not reached yet.
func (s State) look(steps []int) []Action {
	var out []Action
	for _, i := range steps {
		if t := s.Steps[i]; !t.Reached && !t.Left {
			out = append(out, Action{Kind: ActReach, Step: i, NotBefore: t.due()})
		}
	}
	return out
}

// mayGoOn: going on without failed steps makes sense only once the authority
// has changed and is proven.
func (s State) mayGoOn() bool {
	if !s.GoOn {
		return false
	}
	for i, step := range s.Plan.Steps {
		if t := s.Steps[i].Status; (step.Kind == StepSeal || step.Kind == StepChange || step.Kind == StepSignIn || step.Kind == StepSteward) && (t == Failed || t == Unclear) {
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

// given: undoing a step was given up. What is away is waited for instead.
func (t *StepState) given() bool {
	return t.Left || t.Status == UndoFailed && t.Undos >= MaxAttempts || t.Status == UndoUnclear && t.Gave
}

// unknown asks about steps whose outcome nobody knows.
func (s State) unknown(inFlight flying) []Action {
	var out []Action
	for i := range s.Steps {
		t := &s.Steps[i]
		if inFlight.steps[i] || t.Left {
			continue
		}
		switch {
		case t.Status == Doing, t.Status == Unclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i, NotBefore: t.due()})
		case t.Status == Undoing, t.Status == UndoUnclear && !t.Gave:
			out = append(out, Action{Kind: ActProbe, Step: i, Undo: true, NotBefore: t.due()})
		}
	}
	return out
}

func (s State) backward(inFlight flying) []Action {
	out := s.unknown(inFlight)
	if len(out) > 0 || inFlight.count > 0 && !s.onlyUndos(inFlight) {
		return out // know first, then undo
	}
	if s.strangerAtAuthority() {
		return []Action{{Kind: ActDecide, Result: DecideStop}}
	}
	u := s.undoing()
	if inFlight.count == 0 {
		if look := s.look(s.mustBeThere(u)); len(look) > 0 {
			return look
		}
	}
	lowest, held, keep := s.undoLimits(u, inFlight)
	incomplete := false
	for i := range s.Plan.Steps {
		step, t, rank := &s.Plan.Steps[i], &s.Steps[i], s.index.ranks[i]
		if step.Kind == StepAll || inFlight.steps[i] || !u.needs[i] {
			continue
		}
		switch {
		case t.given() || rank > held:
			incomplete = true
		case step.Kind == StepSeal && keep:
			incomplete = true // the new value is kept while any place may still hold it
		case rank > lowest || rank < inFlight.rank || rank == undoRestarts && !s.restartedBefore(u, i, inFlight):
		default:
			out = append(out, Action{Kind: ActUndo, Step: i, NotBefore: t.due()})
		}
	}
	if len(out) > 0 || inFlight.count > 0 {
		return out
	}
	if incomplete {
		return []Action{{Kind: ActFinish, Result: FinishedUndoFailed}}
	}
	return []Action{{Kind: ActFinish, Result: FinishedUndone}}
}

// undoLimits: the lowest rank at which something is not settled yet is the one that
// may be worked on. What was given up holds all ranks after it: it has the new
// value, or is where only that is accepted, and putting the authority back would
// break it and leave everything else as it is. keep: a place may still hold the new
// value.
func (s State) undoLimits(u undoing, inFlight flying) (lowest, held int, keep bool) {
	lowest, held = undoRank[StepSeal]+1, undoRank[StepSeal]+1
	for i := range s.Plan.Steps {
		step, t, rank := &s.Plan.Steps[i], &s.Steps[i], s.index.ranks[i]
		if step.Kind == StepAll || !u.needs[i] && !inFlight.steps[i] {
			continue
		}
		switch {
		case inFlight.steps[i] || !t.given():
			lowest = min(lowest, rank)
		case rank <= undoCopies && !t.Left:
			held = min(held, rank)
		case s.Plan.Turn != nil && rank <= undoRestarts && !t.Left: // it may still use the other account
			held = min(held, undoRestarts)
		}
		keep = keep || step.Kind != StepSeal && (t.Status == UndoFailed || t.Status == UndoUnclear || t.Left)
	}
	return lowest, held, keep
}

// restartedBefore: the restarts and proofs that this one follows are settled.
func (s State) restartedBefore(u undoing, i int, inFlight flying) bool {
	for _, list := range [][]int{s.Plan.Steps[i].Needs, s.Plan.Steps[i].After} {
		for _, j := range list {
			if s.index.ranks[j] == undoRestarts && (inFlight.steps[j] || u.needs[j] && !s.Steps[j].given()) {
				return false
			}
		}
	}
	return true
}

// mustBeThere are steps whose systems must answer before anything is put back,
// one for each: while the authority cannot be put back, or a place that holds
// the new value cannot be reached, everything works with the new value, and
// undoing a part would break that part. Where both values are accepted nothing
// breaks, and nothing is waited for.
func (s State) mustBeThere(u undoing) []int {
	changed := false
	for _, i := range s.index.changes {
		changed = changed || u.needs[i] && !s.Plan.Steps[i].Overlap
	}
	if !changed {
		return nil
	}
	var out []int
	seen := map[string]bool{}
	for i, step := range s.Plan.Steps {
		if kind := step.Kind; kind != StepChange && kind != StepReplace && kind != StepLogOn || !u.needs[i] || seen[step.SystemID] || s.Steps[i].Left {
			continue
		}
		seen[step.SystemID] = true
		out = append(out, i)
	}
	return out
}

// strangerAtAuthority: while undoing, an authority was found to accept neither
// value.
func (s State) strangerAtAuthority() bool {
	for _, i := range s.index.changes {
		if t := &s.Steps[i]; t.Status == UndoUnclear && t.stranger() {
			return true
		}
	}
	return false
}

func (s State) onlyUndos(inFlight flying) bool {
	for i, flies := range inFlight.steps {
		if t := s.Steps[i].Status; flies && t != Undoing && t != UndoUnclear && t != UndoFailed && t != Undone {
			return false
		}
	}
	return true
}
