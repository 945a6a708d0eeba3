// Package schedule does duties regularly. When one was last begun is in the
// database, so that a restart neither forgets it nor does it twice: what was due
// while the service was down is done after its start, once.
package schedule

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/store"
)

// retry is how long a schedule that cannot be read or written is left alone.
const retry = time.Minute

// Store is what this package needs of the store.
type Store interface {
	Meta(ctx context.Context, key string) ([]byte, error)
	SetMeta(ctx context.Context, key string, value []byte) error
}

// Duty is something that is done regularly.
type Duty struct {
	Name  string
	Every time.Duration // zero or less: never
	Do    func(context.Context)
}

// Schedule does duties from Start until the end of all work.
type Schedule struct {
	base  *app.Base
	store Store
	wait  func(context.Context, time.Duration) error
}

// New makes a Schedule without duties.
func New(base *app.Base, store Store) *Schedule {
	return &Schedule{base: base, store: store, wait: connect.Wait}
}

// Start does each duty whenever it is due, beside the others.
func (s *Schedule) Start(duties ...Duty) {
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
		d.Do(ctx)
	}
}

// untilDue is how long a duty has time. One that is due counts as begun: it is
// written before it is done, so that a crash in it does not make it come again
// at each start. The first time is an interval after the first start.
func (s *Schedule) untilDue(ctx context.Context, d Duty) (time.Duration, error) {
	now, key := s.base.Now(), "schedule/"+d.Name
	raw, err := s.store.Meta(ctx, key)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	begun, malformed := time.Parse(time.RFC3339, string(raw))
	first := err != nil || malformed != nil || begun.After(now) // a clock that was wrong then
	if !first {
		if wait := d.Every - now.Sub(begun); wait > 0 {
			return wait, nil
		}
	}
	if err := s.store.SetMeta(ctx, key, []byte(now.UTC().Format(time.RFC3339))); err != nil {
		return 0, fmt.Errorf("note that %s is begun: %w", d.Name, err)
	}
	if first {
		return d.Every, nil
	}
	return 0, nil
}
