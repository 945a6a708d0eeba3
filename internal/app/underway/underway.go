// Package underway works on plans that have begun: each until it is finished or stopped, and
// one time only. It tells decisions to those that are worked on, and goes on by itself where
// what they do could not be written down, as on a full disk.
package underway

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// WaitsAfter is how many times in a row a system must be away to be a finding.
const WaitsAfter = 5

// Plan is one that is worked on.
type Plan struct {
	Decisions chan rotation.Decision // told to it
	ended     chan struct{}

	lock  sync.Mutex
	words string // why it does not go on
}

// Goes says that it goes on: what it did was written down.
func (p *Plan) Goes() { p.tell("") }

func (p *Plan) tell(words string) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.words = words
}

// Work is what is done for one plan.
type Work struct {
	// Run works on it from where its journal ends, until it is finished or stopped.
	Run func(*Plan) (rotation.State, error)
	// Waits is told, each time, that what it does could not be written down.
	Waits func(words string, err error)
	// Over reports whether waiting is of no use after an error.
	Over func(error) bool
	// Ended is called once it is finished or stopped, before anybody may begin with it again.
	Ended func(rotation.State)
	// After is called then, when it is known not to be worked on any more.
	After func(rotation.State, error)
}

// Plans are those of one kind. Safe for concurrent use.
type Plans[ID comparable] struct {
	base     *app.Base
	deciding sync.Mutex // about those that nothing works on
	lock     sync.Mutex
	active   map[ID]*Plan
}

// New makes one.
func New[ID comparable](base *app.Base) *Plans[ID] {
	return &Plans[ID]{base: base, active: map[ID]*Plan{}}
}

func (s *Plans[ID]) of(id ID) *Plan {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.active[id]
}

// Halted says why one that is worked on does not go on; "" when it does.
func (s *Plans[ID]) Halted(id ID) string {
	p := s.of(id)
	if p == nil {
		return ""
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	return p.words
}

// Launch works on a plan, unless something does already or the service ends.
func (s *Plans[ID]) Launch(id ID, w Work) {
	p := &Plan{Decisions: make(chan rotation.Decision), ended: make(chan struct{})}
	s.lock.Lock()
	if s.active[id] != nil || !s.base.Begin() {
		s.lock.Unlock()
		return
	}
	s.active[id] = p
	s.lock.Unlock()
	go func() {
		defer s.base.Work.Done()
		state, err := s.keepOn(p, w)
		if s.base.Context.Err() == nil {
			w.Ended(state)
		}
		s.lock.Lock()
		delete(s.active, id)
		s.lock.Unlock()
		close(p.ended)
		w.After(state, err)
	}()
}

// keepOn runs a plan to its end. A journal that cannot be written stops it where it is; it
// goes on by itself when it can be.
func (s *Plans[ID]) keepOn(p *Plan, w Work) (rotation.State, error) {
	for pause := time.Second; ; pause = min(2*pause, time.Minute) {
		state, err := w.Run(p)
		if err == nil || s.base.Context.Err() != nil || w.Over(err) {
			p.Goes()
			return state, err
		}
		words := fmt.Sprintf("it does not go on, because what it does cannot be written down: %v; it goes on by itself when that is possible again", err)
		p.tell(words)
		w.Waits(words, err)
		if connect.Wait(s.base.Context, pause) != nil {
			return state, err
		}
	}
}

// Decide tells a decision to what works on a plan. Where nothing does, idle writes it and
// takes the plan up. Before either, idle looks whether the decision may be made; decisions
// come one after the other: each is about what the one before made of it.
func (s *Plans[ID]) Decide(ctx context.Context, id ID, record rotation.Record, idle func(underway bool) error) error {
	for {
		p, err := s.decide(id, idle)
		if p == nil || err != nil {
			return err
		}
		answer := make(chan error, 1)
		select {
		case p.Decisions <- rotation.Decision{Record: record, Answer: answer}:
			if err := <-answer; err != nil { // it is being written: that ends
				return &Unheard{err}
			}
			return nil
		case <-p.ended: // without having heard: decide on what it is now
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Alone does something while no decision is made about plans that nothing works on.
func (s *Plans[ID]) Alone(do func() error) error {
	s.deciding.Lock()
	defer s.deciding.Unlock()
	return do()
}

// Unheard is a decision that what works on the plan does not take.
type Unheard struct{ Err error }

func (u *Unheard) Error() string { return u.Err.Error() }
func (u *Unheard) Unwrap() error { return u.Err }

func (s *Plans[ID]) decide(id ID, idle func(underway bool) error) (*Plan, error) {
	s.deciding.Lock()
	defer s.deciding.Unlock()
	p := s.of(id) // before anything is read: what nothing works on now stays as it is read
	if err := idle(p != nil); err != nil {
		return nil, err
	}
	return p, nil
}

// settledTime bounds how long it is waited for the end of earlier ones.
const settledTime = 30 * time.Second

// Settled waits until those that are finished have been looked after, and then for reread:
// nothing is planned on a picture that is about to change.
func (s *Plans[ID]) Settled(ctx context.Context, finished func(context.Context, ID) bool, reread func(context.Context)) {
	limited, cancel := context.WithTimeout(ctx, settledTime)
	defer cancel()
	s.lock.Lock()
	active := maps.Clone(s.active)
	s.lock.Unlock()
	for id, p := range active {
		if finished(limited, id) { // it is about to be followed by its reading
			select {
			case <-p.ended:
			case <-limited.Done():
			}
		}
	}
	reread(limited)
}
