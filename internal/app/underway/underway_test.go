package underway

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
)

func base(t *testing.T) *app.Base {
	b, err := app.NewBase(app.Settings{Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(b.Stop)
	return b
}

var errFull = errors.New("the disk is full")

// work is a plan that is told a decision, and takes it or not.
type work struct {
	begun, ended, after atomic.Int32
	gone                chan struct{} // closed once it is not worked on any more
}

func (w *work) of(run func(*Plan) (rotation.State, error)) Work {
	w.gone = make(chan struct{})
	return Work{
		Run:   func(p *Plan) (rotation.State, error) { w.begun.Add(1); return run(p) },
		Waits: func(string, error) {},
		Over:  func(err error) bool { return !errors.Is(err, errFull) },
		Ended: func(rotation.State) { w.ended.Add(1) },
		After: func(rotation.State, error) {
			if w.after.Add(1) == 1 {
				close(w.gone)
			}
		},
	}
}

// One plan is worked on by one only, however often it is launched, and a decision reaches what
// works on it, or is written where nothing does.
func TestOneAtATime(t *testing.T) {
	plans := New[int](base(t))
	var w work
	heard := make(chan rotation.Record, 1)
	one := w.of(func(p *Plan) (rotation.State, error) {
		d := <-p.Decisions
		heard <- d.Record
		d.Answer <- nil
		return rotation.State{Mode: rotation.ModeFinished}, nil
	})
	var launched sync.WaitGroup
	for range 8 {
		launched.Go(func() { plans.Launch(1, one) })
	}
	launched.Wait()
	written := 0
	decide := func() error {
		return plans.Decide(t.Context(), 1, rotation.Record{Result: rotation.DecideStop}, func(underway bool) error {
			if !underway {
				written++
			}
			return nil
		})
	}
	require.NoError(t, decide())
	assert.Equal(t, rotation.DecideStop, (<-heard).Result)
	<-w.gone
	assert.EqualValues(t, 1, w.begun.Load(), "it was launched eight times")
	assert.EqualValues(t, 1, w.ended.Load())
	require.NoError(t, decide())
	assert.Equal(t, 1, written, "nothing worked on it the second time")
	refuses := errors.New("not now")
	require.ErrorIs(t, plans.Decide(t.Context(), 1, rotation.Record{}, func(bool) error { return refuses }), refuses)
}

// A decision that comes as the plan ends is made about what it is then, and one that is not
// taken says so.
func TestDecisionsAtTheEnd(t *testing.T) {
	plans := New[int](base(t))
	var w work
	end := make(chan struct{})
	plans.Launch(1, w.of(func(*Plan) (rotation.State, error) { <-end; return rotation.State{}, nil }))
	asked := make(chan bool, 2)
	done := make(chan error, 1)
	go func() {
		done <- plans.Decide(t.Context(), 1, rotation.Record{}, func(underway bool) error { asked <- underway; return nil })
	}()
	assert.True(t, <-asked)
	close(end)
	assert.False(t, <-asked, "it is asked again, when nothing works on it")
	require.NoError(t, <-done)

	var other work
	plans.Launch(2, other.of(func(p *Plan) (rotation.State, error) {
		d := <-p.Decisions
		d.Answer <- errors.New("a finished plan takes no decision")
		return rotation.State{}, nil
	}))
	var unheard *Unheard
	require.ErrorAs(t, plans.Decide(t.Context(), 2, rotation.Record{}, func(bool) error { return nil }), &unheard)
	assert.ErrorContains(t, unheard, "takes no decision")
	<-other.gone

	hung := New[int](base(t))
	var slow work
	stop := make(chan struct{})
	hung.Launch(3, slow.of(func(*Plan) (rotation.State, error) { <-stop; return rotation.State{}, nil }))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, hung.Decide(ctx, 3, rotation.Record{}, func(bool) error { return nil }), context.Canceled)
	close(stop)
	<-slow.gone
}

// What cannot be written down halts a plan in words, and it goes on by itself; what no
// waiting mends ends it.
func TestHalts(t *testing.T) {
	plans := New[string](base(t))
	var w work
	told := make(chan string, 1)
	runs := 0
	of := w.of(func(p *Plan) (rotation.State, error) {
		if runs++; runs == 1 {
			return rotation.State{}, errFull
		}
		p.Goes()
		return rotation.State{Mode: rotation.ModeFinished}, nil
	})
	of.Waits = func(words string, err error) {
		assert.ErrorIs(t, err, errFull)
		assert.Equal(t, words, plans.Halted("tide"), "whoever asks is told")
		told <- words
	}
	plans.Launch("tide", of)
	assert.Contains(t, <-told, "the disk is full; it goes on by itself")
	<-w.gone
	assert.Equal(t, 2, runs)
	assert.Empty(t, plans.Halted("tide"))

	var broken work
	var last error
	ends := broken.of(func(*Plan) (rotation.State, error) { return rotation.State{}, errors.New("the ledger is broken") })
	after := ends.After
	ends.After = func(s rotation.State, err error) { last = err; after(s, err) }
	plans.Launch("ebb", ends)
	<-broken.gone
	assert.ErrorContains(t, last, "the ledger is broken")
	assert.EqualValues(t, 1, broken.begun.Load())
}

// Whoever plans waits for those that are finished until they were looked after, and not for
// those that go on; a service that ends begins nothing.
func TestSettled(t *testing.T) {
	b := base(t)
	plans := New[int](b)
	var finished, goesOn work
	looked, stop := make(chan struct{}), make(chan struct{})
	f := finished.of(func(*Plan) (rotation.State, error) { return rotation.State{Mode: rotation.ModeFinished}, nil })
	f.Ended = func(rotation.State) { <-looked }
	plans.Launch(1, f)
	plans.Launch(2, goesOn.of(func(*Plan) (rotation.State, error) { <-stop; return rotation.State{}, nil }))
	settled := make(chan bool, 1)
	go func() {
		plans.Settled(t.Context(), func(_ context.Context, id int) bool { return id == 1 }, func(context.Context) {
			select {
			case <-finished.gone:
				settled <- true
			case <-time.After(5 * time.Second):
				settled <- false
			}
		})
	}()
	close(looked)
	assert.True(t, <-settled)
	assert.Zero(t, goesOn.after.Load())
	close(stop)
	<-goesOn.gone
	b.Stop()
	var late work
	plans.Launch(3, late.of(func(*Plan) (rotation.State, error) { return rotation.State{}, nil }))
	assert.Zero(t, late.begun.Load())
	require.NoError(t, plans.Alone(func() error { return nil }))
}
