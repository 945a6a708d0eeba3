package rotation

import (
	"time"

	"mossledger.example/moss/internal/core/calendar"
)

// Openings are when a window is open, as far as was looked when the plan was made. After
// the last of them nothing more is begun in it.
type Openings struct {
	Words string          `json:"words"` // how the window recurs, for people
	Slots []calendar.Slot `json:"slots"`
}

// WindowEnd says what happens to a rotation whose window closes before it is done.
type WindowEnd string

// What may happen then.
const (
	EndPause WindowEnd = "pause" // what is not begun waits for the next opening
	EndUndo  WindowEnd = "undo"  // it is undone at once
)

// when says from which time on a step may be begun; zero for now. over: never any more.
func (p *Plan) when(step *Step, now time.Time) (at time.Time, over bool) {
	if now.Before(step.NotBefore) {
		return step.NotBefore, false
	}
	if !step.NotAfter.IsZero() && now.After(step.NotAfter) {
		return time.Time{}, true
	}
	if step.Window == "" {
		return time.Time{}, false
	}
	slots := p.Windows[step.Window].Slots
	for {
		slot, found := calendar.OpenIn(slots, now)
		if !found {
			return time.Time{}, true
		}
		// What would not end in it begins in the next, unless it is too long for any.
		if slot.Open(now) && slot.To.Sub(now) < step.Expected && step.Expected <= slot.To.Sub(slot.From) {
			now = slot.To
			continue
		}
		if slot.Open(now) {
			return at, false
		}
		at = slot.From
		now = slot.From
	}
}

// windowEnds is when the window closes in which the change was begun, while something
// waits for that window still and the plan is undone then; zero otherwise.
func (s *State) windowEnds() (at time.Time) {
	if s.Plan.AtWindowEnd != EndUndo || s.Mode != ModeForward || s.AnyTime || s.changed.IsZero() {
		return at
	}
	for i := range s.Plan.Steps {
		step := &s.Plan.Steps[i]
		if step.Window == "" || s.Steps[i].Status != Pending {
			continue
		}
		slot, found := calendar.OpenIn(s.Plan.Windows[step.Window].Slots, s.changed)
		if found && (at.IsZero() || slot.To.Before(at)) {
			at = slot.To
		}
	}
	return at
}

// Safe reports whether a rotation may be left where it stands for as long as one likes:
// nothing was changed yet, the old value is accepted beside the new one, or all is over.
func (s *State) Safe() bool {
	if s.Mode != ModeForward {
		return s.Mode == ModeFinished || s.Mode == ModeStopped
	}
	for i := range s.Plan.Steps {
		step, t := &s.Plan.Steps[i], &s.Steps[i]
		switch step.Kind {
		case StepStop, StepRetire:
			if t.touched() || t.Status == Doing {
				return false
			}
		case StepChange:
			if !step.Overlap && (t.touched() || t.Status == Doing) {
				return false
			}
		}
	}
	return true
}

// goesOnHeld: what is begun although everything is held. It only looks, or ends what was
// begun.
func (r *run) goesOnHeld(a Action) bool {
	if a.Kind != ActDo {
		return a.Kind != ActUndo
	}
	switch r.Plan.Steps[a.Step].Kind {
	case StepSignIn, StepSteward, StepProve, StepRevive:
		return true
	}
	return false
}

// holdLook is how often it is seen whether what is held may go on.
const holdLook = 2 * time.Second

// soonest is the earlier of two times, of which a zero one is none.
func soonest(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// WaitsFor is the window that everything which may be done now waits for, and when it
// opens; "" when something else can be done.
func (s *State) WaitsFor(now time.Time) (window string, opens time.Time) {
	if s.Mode != ModeForward || s.AnyTime {
		return "", opens
	}
	for _, a := range Next(*s, nil) {
		step := &s.Plan.Steps[a.Step]
		if a.Kind != ActDo {
			return "", time.Time{}
		}
		at, over := s.Plan.when(step, now)
		if at.IsZero() || over {
			return "", time.Time{}
		}
		if opens.IsZero() || at.Before(opens) {
			window, opens = step.Window, at
		}
	}
	return window, opens
}

// Interruption is how long a dependent stood still: from its restart, or from when it was
// stopped before the change, until it was proven.
type Interruption struct {
	Step     int // its restart
	From, To time.Time
}

// Interruptions are those of a rotation, by its journal. What was undone is left out.
func Interruptions(plan Plan, records []Record) []Interruption {
	began, ended := map[int]time.Time{}, map[int]time.Time{}
	for _, r := range records {
		switch {
		case r.Step < 0 || r.Step >= len(plan.Steps):
		case r.Undo:
			delete(began, r.Step)
			delete(ended, r.Step)
		case r.Event == EventIntent && began[r.Step].IsZero():
			began[r.Step] = r.Time
		case r.Event == EventOutcome && r.Result == ResultDone, r.Event == EventProbed && r.Result == ProbeEffective:
			ended[r.Step] = r.Time
		}
	}
	stops := indexOf(plan).stops
	var out []Interruption
	for i, s := range plan.Steps {
		if s.Kind != StepProve || len(s.Needs) == 0 || ended[i].IsZero() {
			continue
		}
		restart := s.Needs[0]
		from := began[restart]
		if at := began[stops[restart]]; stops[restart] != 0 && !at.IsZero() {
			from = at
		}
		if !from.IsZero() && ended[i].After(from) {
			out = append(out, Interruption{restart, from, ended[i]})
		}
	}
	return out
}
