package schedule

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/records"
)

var errKilled = errors.New("killed")

// rows is a store that may be away.
type rows struct {
	kept map[string]records.Duty
	away error
}

func (r *rows) Duty(_ context.Context, name string) (records.Duty, error) {
	if r.away != nil {
		return records.Duty{}, r.away
	}
	if v, ok := r.kept[name]; ok {
		return v, nil
	}
	return records.Duty{}, records.ErrNotFound
}

func (r *rows) BeginDuty(_ context.Context, name string, at time.Time) error {
	if r.away == nil {
		r.kept[name] = records.Duty{Name: name, Begun: at.Truncate(time.Millisecond)}
	}
	return r.away
}

func (r *rows) EndDuty(_ context.Context, name string, at time.Time, words string) error {
	if r.away == nil {
		v := r.kept[name]
		v.Ended, v.Words = at, words
		r.kept[name] = v
	}
	return r.away
}

// world has a clock that only moves when somebody waits.
type world struct {
	now time.Time
	*rows
}

func newWorld() *world {
	return &world{time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC), &rows{kept: map[string]records.Duty{}}}
}

// started is a schedule of a service that lives until a time.
func (w *world) started(until time.Time) *Schedule {
	return &Schedule{running: map[string]bool{}, base: &app.Base{Now: func() time.Time { return w.now }, Log: slog.New(slog.DiscardHandler)}, store: w, wait: func(_ context.Context, d time.Duration) error {
		if w.now.Add(d).After(until) {
			w.now = until
			return errKilled
		}
		w.now = w.now.Add(d)
		return nil
	}}
}

func TestWhenADutyIsDue(t *testing.T) {
	w := newWorld()
	s, d := w.started(time.Time{}), Duty{Name: "test", Every: time.Hour}
	for i, c := range []struct{ after, wait time.Duration }{
		{0, time.Hour},
		{20 * time.Minute, 40 * time.Minute},
		{40 * time.Minute, 0},
		{time.Minute, 59 * time.Minute},
		{500 * time.Hour, 0},
		{0, time.Hour},
		{-400 * time.Hour, time.Hour}, // the clock was put back: an interval from now
		{time.Hour, 0},
	} {
		w.now = w.now.Add(c.after)
		wait, err := s.untilDue(t.Context(), d)
		require.NoError(t, err)
		require.Equal(t, c.wait, wait, "%d", i)
	}
	delete(w.kept, "test")
	wait, err := s.untilDue(t.Context(), d)
	require.NoError(t, err)
	require.Equal(t, time.Hour, wait)
}

// However often the service is stopped and for how long: a duty is never done
// twice within its interval, and is late by no more than the time that the
// service was down and half an hour that each time takes.
func TestADutyIsNeitherForgottenNorDoneTwice(t *testing.T) {
	for seed := range uint64(200) {
		r, w := rand.New(rand.NewPCG(seed, 1)), newWorld()
		end := w.now.Add(60 * 24 * time.Hour)
		every := time.Duration(1+r.IntN(48)) * time.Hour
		last, up := w.now, w.now
		for w.now.Before(end) {
			down := w.now
			w.now = w.now.Add(time.Duration(r.IntN(100)) * time.Hour) // away
			up = w.now
			lives := w.now.Add(time.Duration(1+r.IntN(200)) * time.Hour)
			first := len(w.kept) == 0
			if first {
				last = w.now
			}
			w.started(lives).keep(t.Context(), Duty{Name: "survey", Every: every, Do: func(context.Context) (string, error) {
				since := w.now.Sub(last)
				require.GreaterOrEqual(t, since, every, "seed %d: twice", seed)
				if last.Add(every).After(down) && !last.Add(every).Before(up) || last.After(up) {
					require.LessOrEqual(t, since, every+31*time.Minute, "seed %d: late", seed)
				} else {
					require.Equal(t, up, w.now, "seed %d: what was due meanwhile is done at once", seed)
				}
				last = w.now
				w.now = w.now.Add(30 * time.Minute)
				return "", nil
			}})
		}
		require.Less(t, w.now.Sub(last), every+300*time.Hour)
	}
}

// A store that is away for a while is asked again, and nothing is done that
// could not be noted first.
func TestAScheduleThatCannotBeWritten(t *testing.T) {
	w := newWorld()
	done := 0
	d := Duty{Name: "verify", Every: time.Hour, Do: func(context.Context) (string, error) { done++; return "well", nil }}
	w.started(w.now.Add(90*time.Minute)).keep(t.Context(), d)
	require.Equal(t, 1, done)
	w.away = errors.New("disk full")
	w.started(w.now.Add(24*time.Hour)).keep(t.Context(), d)
	require.Equal(t, 1, done)
	w.away = nil
	w.started(w.now.Add(10*time.Minute)).keep(t.Context(), d)
	require.Equal(t, 2, done, "once, however much time went by")

	ended, cancel := context.WithCancel(t.Context())
	cancel()
	w.now = w.now.Add(24 * time.Hour)
	w.started(w.now.Add(time.Hour)).keep(ended, d)
	require.Equal(t, 2, done)
}

// What came of a duty is told: how it ended, that it runs, that it was cut off.
func TestWhatCameOfADuty(t *testing.T) {
	w := newWorld()
	s := w.started(w.now.Add(3 * time.Hour))
	list := func() Planned {
		t.Helper()
		all, err := s.List(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 2)
		require.Equal(t, Planned{Duty: records.Duty{Name: "never"}, Title: "what is switched off"}, all[1])
		return all[0]
	}
	d := Duty{Name: "survey", Title: "survey all systems", Every: time.Hour}
	s.duties = []Duty{d, {Name: "never", Title: "what is switched off"}}
	require.True(t, list().Due.IsZero(), "nothing is known of it yet")
	begun := 0
	s.duties[0].Do = func(context.Context) (string, error) {
		begun++
		require.True(t, s.running["survey"])
		return "began survey 4", nil
	}
	s.keep(t.Context(), s.duties[0])
	require.Equal(t, 3, begun)
	last := list()
	require.Equal(t, "began survey 4", last.Words)
	require.False(t, last.Running)
	require.False(t, last.Cut)
	require.Equal(t, last.Begun.Add(time.Hour), last.Due)
	require.EqualValues(t, 3600, last.Every)

	ended, cancel := context.WithCancel(t.Context())
	require.NoError(t, w.BeginDuty(t.Context(), "survey", w.now))
	s.do(ended, Duty{Name: "survey", Do: func(context.Context) (string, error) { cancel(); return "", context.Canceled }})
	require.True(t, list().Cut, "the service ended in the middle")
}
