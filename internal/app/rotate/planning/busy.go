package planning

import (
	"slices"
	"sync"
	"time"

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
	if b.any(places) {
		return false
	}
	for _, p := range places {
		b.at[p] = true
	}
	return true
}

func (b *Busy) any(places []string) bool {
	return slices.ContainsFunc(places, func(p string) bool { return b.at[p] })
}

// Waiting remembers why some were put off, so that none is rehearsed over and over, which
// signs in everywhere, while it cannot begin yet. Safe for concurrent use.
type Waiting struct {
	lock sync.Mutex
	of   map[records.CredentialID]putOff
}

type putOff struct {
	places []string // of which something was taken
	until  time.Time
}

// NewWaiting remembers nothing yet.
func NewWaiting() *Waiting { return &Waiting{of: map[records.CredentialID]putOff{}} }

// Behind puts one off while anything of what its plan touches is taken.
func (w *Waiting) Behind(id records.CredentialID, plan rotation.Plan) {
	w.lock.Lock()
	defer w.lock.Unlock()
	w.of[id] = putOff{places: Touches(plan)}
}

// Until puts one off until a time.
func (w *Waiting) Until(id records.CredentialID, at time.Time) {
	w.lock.Lock()
	defer w.lock.Unlock()
	w.of[id] = putOff{until: at}
}

// Still says whether one is still put off; what is not is forgotten.
func (w *Waiting) Still(id records.CredentialID, busy *Busy, now time.Time) bool {
	w.lock.Lock()
	defer w.lock.Unlock()
	busy.lock.Lock()
	defer busy.lock.Unlock()
	why, known := w.of[id]
	if !known {
		return false
	}
	if busy.any(why.places) || now.Before(why.until) {
		return true
	}
	delete(w.of, id)
	return false
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
