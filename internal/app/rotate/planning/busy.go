package planning

import (
	"slices"
	"sync"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Busy is what rotations that run restart and write. Two that touch the same come one
// after the other. Safe for concurrent use.
type Busy struct {
	lock sync.Mutex
	at   map[string]bool
}

// NewBusy is what some rotations touch.
func NewBusy(running []records.Rotation) *Busy {
	b := &Busy{at: map[string]bool{}}
	for _, r := range running {
		for _, place := range Touches(r.Plan) {
			b.at[place] = true
		}
	}
	return b
}

// Take takes what a plan touches, unless any of it is taken.
func (b *Busy) Take(plan rotation.Plan) bool {
	b.lock.Lock()
	defer b.lock.Unlock()
	places := Touches(plan)
	if slices.ContainsFunc(places, func(p string) bool { return b.at[p] }) {
		return false
	}
	for _, p := range places {
		b.at[p] = true
	}
	return true
}

// Touches are the places that a plan restarts or writes, each as one text.
func Touches(plan rotation.Plan) []string {
	var out []string
	for _, s := range plan.Steps {
		switch s.Kind {
		case rotation.StepRestart, rotation.StepStop, rotation.StepRevive, rotation.StepReplace, rotation.StepLogOn:
			out = append(out, s.SystemID+"\x00"+s.Subject)
		}
		if s.Kind != rotation.StepRestart {
			continue
		}
		// What has the same name elsewhere, or is in one group with it, is another replica.
		out = append(out, "name\x00"+s.Subject)
		for _, group := range s.Groups {
			out = append(out, "group\x00"+group)
		}
	}
	return out
}
