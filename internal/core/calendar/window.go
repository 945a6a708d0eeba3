package calendar

import (
	"fmt"
	"sort"
	"time"
)

// Slot is a time from which on, and until before another, something may be done.
type Slot struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// Open reports whether an instant is in it.
func (s Slot) Open(at time.Time) bool { return !at.Before(s.From) && at.Before(s.To) }

// Window is open for a while from each occurrence of a recurrence on.
type Window struct {
	Recurrence
	// Lasts is time that passes, not on the wall: a night in which the clocks change is
	// not shorter or longer for it (RFC 5545 section 3.3.6).
	Lasts time.Duration
}

// Shortest and longest times for which a window is open.
const (
	ShortestWindow = 5 * time.Minute
	LongestWindow  = 7 * 24 * time.Hour
)

// NewWindow makes one; see NewRecurrence.
func NewWindow(rule, begins string, zone *time.Location, lasts time.Duration) (Window, error) {
	if lasts < ShortestWindow || lasts > LongestWindow {
		return Window{}, fmt.Errorf("%w: a window is open for 5 minutes to 7 days, not for %s", ErrRule, lasts)
	}
	r, err := NewRecurrence(rule, begins, zone)
	return Window{r, lasts}, err
}

// Slots lists the times at which it is open that end after from and begin before to, at
// most some.
func (w Window) Slots(from, to time.Time, most int) []Slot {
	begins := w.Between(from.Add(-w.Lasts), to, most+1)
	out := make([]Slot, 0, len(begins))
	for _, at := range begins {
		if slot := (Slot{at, at.Add(w.Lasts)}); slot.To.After(from) && len(out) < most {
			out = append(out, slot)
		}
	}
	return out
}

// OpenIn finds the slot that is open at an instant, or else the next one; false when
// there is none any more. Slots are in order.
func OpenIn(slots []Slot, at time.Time) (Slot, bool) {
	i := sort.Search(len(slots), func(i int) bool { return slots[i].To.After(at) })
	if i == len(slots) {
		return Slot{}, false
	}
	return slots[i], true
}
