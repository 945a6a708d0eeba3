// Package schedule does duties regularly. When one was last begun, and what came of
// it, is a row of the database, so that a restart neither forgets it nor does it
// twice: what was due while the service was down is done after its start, once.
package schedule

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/records"
)

// retry is how long a schedule that cannot be read or written is left alone.
const retry = time.Minute

// Store is what this package needs of the store.
type Store interface {
	Duty(ctx context.Context, name string) (records.Duty, error)
	BeginDuty(ctx context.Context, name string, at time.Time) error
	EndDuty(ctx context.Context, name string, at time.Time, words string) error
}

// Duty is something that is done regularly.
type Duty struct {
	Name  string
	Title string        // as people say it
	Every time.Duration // zero or less: never
	Do    func(context.Context) (words string, err error)
}

// Planned is a duty with when it is due next, and what came of it last.
type Planned struct {
	records.Duty
	Title   string    `json:"title"`
	Every   int64     `json:"every" doc:"Seconds; 0 for never"`
	Due     time.Time `json:"due,omitzero" doc:"When it is due next"`
	Running bool      `json:"running"`
	Cut     bool      `json:"interrupted" doc:"The service ended while it ran"`
}

// Schedule does duties from Start until the end of all work.
type Schedule struct {
	base  *app.Base
	store Store
	wait  func(context.Context, time.Duration) error

	lock    sync.Mutex
	duties  []Duty
	running map[string]bool
}

// New makes a Schedule without duties.
func New(base *app.Base, store Store) *Schedule {
	return &Schedule{base: base, store: store, wait: app.WaitLooking, running: map[string]bool{}}
}

// Start does each duty whenever it is due, beside the others.
func (s *Schedule) Start(duties ...Duty) {
	s.lock.Lock()
	s.duties = duties
	s.lock.Unlock()
	for _, d := range duties {
		if d.Every > 0 && s.base.Begin() {
			go func() {
				defer s.base.Work.Done()
				s.keep(s.base.Context, d)
			}()
		}
	}
}

// keep does one duty whenever it is due, until ctx ends.
func (s *Schedule) keep(ctx context.Context, d Duty) {
	for ctx.Err() == nil {
		wait, err := s.untilDue(ctx, d)
		if err != nil {
			s.base.Log.Error("the schedule cannot be read or written", "duty", d.Name, "error", err)
			wait = retry
		}
		if wait > 0 {
			if s.wait(ctx, wait) != nil {
				return
			}
			continue // by the clock of then: it may have been set
		}
		s.do(ctx, d)
	}
}

// do does one that is due, and writes what came of it.
func (s *Schedule) do(ctx context.Context, d Duty) {
	s.set(d.Name, true)
	defer s.set(d.Name, false)
	words, err := d.Do(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return // interrupted: it says nothing
		}
		s.base.Log.Warn("a regular duty failed", "duty", d.Name, "error", err)
		words = s.base.Redact(ctx, err.Error())
	}
	if err := s.store.EndDuty(context.WithoutCancel(ctx), d.Name, s.base.Now(), words); err != nil {
		s.base.Log.Error("what came of a regular duty cannot be written", "duty", d.Name, "error", err)
	}
}

func (s *Schedule) set(name string, running bool) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.running[name] = running
}

// List tells of all duties.
func (s *Schedule) List(ctx context.Context) ([]Planned, error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	out := []Planned{}
	for _, d := range s.duties {
		row, err := s.store.Duty(ctx, d.Name)
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return nil, err
		}
		row.Name = d.Name
		p := Planned{Duty: row, Title: d.Title, Every: int64(max(d.Every, 0) / time.Second), Running: s.running[d.Name]}
		if d.Every > 0 && !row.Begun.IsZero() {
			p.Due = row.Begun.Add(d.Every)
		}
		p.Cut = !p.Running && row.Ended.IsZero() && !row.Begun.IsZero()
		out = append(out, p)
	}
	return out, nil
}

// untilDue is how long a duty has time. One that is due counts as begun: it is
// written before it is done, so that a crash in it does not make it come again
// at each start. The first time is an interval after the first start.
func (s *Schedule) untilDue(ctx context.Context, d Duty) (time.Duration, error) {
	now := s.base.Now()
	row, err := s.store.Duty(ctx, d.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return 0, err
	}
	first := row.Begun.IsZero() || row.Begun.After(now) // a clock that was wrong then
	if !first {
		if wait := d.Every - now.Sub(row.Begun); wait > 0 {
			return wait, nil
		}
	}
	if err := s.store.BeginDuty(ctx, d.Name, now); err != nil {
		return 0, fmt.Errorf("note that %s is begun: %w", d.Name, err)
	}
	if first { // counted from now
		return d.Every, s.store.EndDuty(ctx, d.Name, now, "counted from here")
	}
	return 0, nil
}
