package calendar

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"sort"
	"time"
)

// Stagger gives each of many its turns in the openings of a window: always the same
// ones, and about as many of them in each.
type Stagger struct {
	slots  []Slot
	cycle  int // each has its turn in one of so many openings
	rarely bool
	starts []int // where a recurrence says when: the opening from which on each of its turns is counted
}

// clocks is by how much a span of days may be longer because the clocks change.
const clocks = 2 * time.Hour

// settledSpan is over how much of a window it is looked how often it opens: from its
// beginning on, so that turns do not move as time passes.
const settledSpan = 5 * 366 * 24 * time.Hour

// daily is what stands in for a window where there is none: each day, as a whole.
func daily(until time.Time) []Slot {
	var out []Slot
	for at := time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC); at.Before(until); at = at.AddDate(0, 0, 1) {
		out = append(out, Slot{at, at.AddDate(0, 0, 1)})
	}
	return out
}

// openings lists the slots of a window from its beginning on, of each day without one.
func openings(w *Window, until time.Time) ([]Slot, error) {
	if w == nil {
		return daily(until), nil
	}
	begins := atWall(w.option.Dtstart, w.zone)
	slots := w.Slots(begins, until, mostOccurrences)
	if len(slots) == mostOccurrences {
		return nil, fmt.Errorf("%w: more than %d openings since its beginning: let it begin later, or be rarer", ErrRule, mostOccurrences)
	}
	return slots, nil
}

// NewStagger spreads over the openings of a window, or over days when it is nil, so
// that each has its turn at least once in every. Turns until some time are known.
//
// In days: where the clocks change, one is an hour longer. A window that opens more
// rarely than that gives each a turn whenever it opens; Rarely tells.
func NewStagger(w *Window, every time.Duration, until time.Time) (*Stagger, error) {
	slots, err := openings(w, until)
	if err != nil {
		return nil, err
	}
	s := &Stagger{slots: slots, cycle: 1}
	if len(slots) == 0 {
		return s, nil
	}
	looked, err := openings(w, slots[0].From.Add(settledSpan))
	if err != nil {
		return nil, err
	}
	// The most openings such that no so many that follow each other take longer.
	for i, j, last := 0, 0, looked[len(looked)-1].From; i < len(looked) && !looked[i].From.Add(every+clocks).After(last); i++ {
		for j+1 < len(looked) && !looked[j+1].From.After(looked[i].From.Add(every+clocks)) {
			j++
		}
		if i == 0 || j-i < s.cycle {
			s.cycle = j - i
		}
	}
	s.rarely = s.cycle < 1
	s.cycle = max(1, s.cycle)
	return s, nil
}

// NewRecurringStagger has each take its turn after each occurrence of a recurrence, in
// one of the next openings, over which they are spread; 1 puts all into the first.
func NewRecurringStagger(w *Window, r Recurrence, spread int, until time.Time) (*Stagger, error) {
	slots, err := openings(w, until)
	if err != nil {
		return nil, err
	}
	s := &Stagger{slots: slots, cycle: max(1, spread), starts: []int{}}
	if len(slots) == 0 {
		return s, nil
	}
	occurrences := r.Between(slots[0].From.Add(-farthest/2), until, mostOccurrences)
	for _, at := range occurrences {
		// One that is open then counts.
		s.starts = append(s.starts, sort.Search(len(slots), func(i int) bool { return slots[i].To.After(at) }))
	}
	return s, nil
}

// Rarely: there is a time in which the window opens more rarely than everybody should
// have a turn.
func (s *Stagger) Rarely() bool { return s.rarely }

// Cycle is over how many openings turns are spread.
func (s *Stagger) Cycle() int { return s.cycle }

// Opening is the one that is open at a time, or else the next one; zero when there is none.
func (s *Stagger) Opening(at time.Time) Slot {
	slot, _ := OpenIn(s.slots, at)
	return slot
}

// turn is which of the openings of a cycle is somebody's.
func (s *Stagger) turn(who string) int {
	sum := sha256.Sum256([]byte(who))
	return int(binary.BigEndian.Uint64(sum[:8]) % uint64(s.cycle))
}

// Turns lists the openings that are somebody's which begin after one time and not after
// another.
func (s *Stagger) Turns(who string, after, until time.Time) []Slot {
	var out []Slot
	turn := s.turn(who)
	in := func(slot Slot) bool { return slot.From.After(after) && !slot.From.After(until) }
	if s.starts != nil {
		for _, first := range s.starts {
			if i := first + turn; i < len(s.slots) && in(s.slots[i]) && (len(out) == 0 || out[len(out)-1] != s.slots[i]) {
				out = append(out, s.slots[i])
			}
		}
		return out
	}
	i := sort.Search(len(s.slots), func(i int) bool { return s.slots[i].From.After(after) })
	i += ((turn-i)%s.cycle + s.cycle) % s.cycle
	for ; i < len(s.slots) && !s.slots[i].From.After(until); i += s.cycle {
		out = append(out, s.slots[i])
	}
	return out
}

// Due is when somebody who was last done at some time is due: in which opening, and
// since when, if its turn has passed. Without a turn any more, the slot is zero.
func (s *Stagger) Due(who string, last, now time.Time) (next Slot, since time.Time) {
	passed := s.Turns(who, last, now)
	if len(passed) > 0 {
		since = passed[0].From
		return s.Opening(now), since
	}
	for _, slot := range s.Turns(who, now, now.Add(farthest)) {
		return slot, time.Time{}
	}
	return Slot{}, time.Time{}
}
