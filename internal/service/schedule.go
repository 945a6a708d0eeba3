package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/store"
)

// duty is something done regularly. When it was last begun is in the database,
// so that a restart neither forgets it nor does it twice.
type duty struct {
	name  string
	every time.Duration // zero or less: never
	do    func(context.Context)
}

// schedule verifies custody and surveys at their intervals, until ctx ends.
func (s *Service) schedule(ctx context.Context) {
	var all sync.WaitGroup
	defer all.Wait()
	for _, d := range []duty{{"verify", s.VerifyEvery, s.verifyAll}, {"survey", s.SurveyEvery, s.surveyAll}} {
		if d.every > 0 {
			all.Go(func() { s.keep(ctx, d, time.Now) })
		}
	}
}

func (s *Service) verifyAll(ctx context.Context) {
	if _, refused, unclear, err := s.app.Custody.VerifyAll(ctx, "service"); err != nil && ctx.Err() == nil {
		s.Log.Error("regular verification ended early", "error", err)
	} else if refused+unclear > 0 {
		s.Log.Warn("regular verification", "refused", refused, "unclear", unclear)
	}
}

func (s *Service) surveyAll(ctx context.Context) {
	if _, err := s.app.Surveys.Start(ctx, "service", nil); err != nil && ctx.Err() == nil {
		s.Log.Warn("regular survey", "error", err)
	}
}

// keep does one duty whenever it is due.
func (s *Service) keep(ctx context.Context, d duty, now func() time.Time) {
	for ctx.Err() == nil {
		wait, err := s.untilDue(ctx, d, now())
		if err != nil {
			s.Log.Error("the schedule cannot be read or written", "duty", d.name, "error", err)
			wait = time.Minute
		}
		if wait > 0 {
			if connect.Wait(ctx, wait) != nil {
				return
			}
			continue // by the clock of then: it may have been set
		}
		d.do(ctx)
	}
}

// untilDue is how long a duty has time. One that is due counts as begun: it is
// written before it is done, so that a crash in it does not make it come again
// at each start. The first time is an interval after the first start.
func (s *Service) untilDue(ctx context.Context, d duty, now time.Time) (time.Duration, error) {
	key := "schedule/" + d.name
	raw, err := s.store.Meta(ctx, key)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	begun, malformed := time.Parse(time.RFC3339, string(raw))
	first := err != nil || malformed != nil || begun.After(now) // a clock that was wrong then
	if !first {
		if wait := d.every - now.Sub(begun); wait > 0 {
			return wait, nil
		}
	}
	if err := s.store.SetMeta(ctx, key, []byte(now.UTC().Format(time.RFC3339))); err != nil {
		return 0, fmt.Errorf("note that %s is begun: %w", d.name, err)
	}
	if first {
		return d.every, nil
	}
	return 0, nil
}
