// Package app is what the product does. Each activity is a package of its own
// below; this one holds the few things that all of them stand on: the clock and
// the log, sealing, the ledger (law 8), the redactor, the topics that wake
// listeners, and the end of all work.
package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
)

// Base is what activities stand on. Make one with NewBase, end it with Stop.
type Base struct {
	Now          func() time.Time
	Random       io.Reader
	Log          *slog.Logger
	Sealer       *secret.Sealer
	Fingerprints *secret.Fingerprinter
	Topics       *Topics
	Challenges   Challenges
	Context      context.Context // of work that goes on by itself; ends with Stop
	Work         sync.WaitGroup  // that Stop waits for; see Begin

	store    Store
	cancel   context.CancelFunc
	ending   sync.Mutex
	stopping bool // nothing begins any more

	knownLock sync.Mutex
	known     map[string]bool // fingerprints of what is in custody
	knownAt   time.Time
}

// Settings are what a Base is made of.
type Settings struct {
	Store  Store
	Master []byte // master key
	Random io.Reader
	Now    func() time.Time
	Log    *slog.Logger
}

// NewBase makes a Base.
func NewBase(s Settings) (*Base, error) {
	sealer, err := secret.NewSealer(s.Master, s.Random)
	if err != nil {
		return nil, err
	}
	fingerprints, err := secret.NewFingerprinter(s.Master)
	if err != nil {
		return nil, err
	}
	base := &Base{Now: s.Now, Random: s.Random, Log: s.Log, Sealer: sealer, Fingerprints: fingerprints, Topics: newTopics(), store: s.Store}
	base.Context, base.cancel = context.WithCancel(context.Background())
	return base, nil
}

// Stop ends all work at the next safe point and waits for it.
func (base *Base) Stop() {
	base.ending.Lock()
	base.stopping = true
	base.cancel()
	base.ending.Unlock()
	base.Work.Wait()
}

// Begin counts one more piece of work that Stop waits for; its end is Work.Done. It says no once Stop was called.
func (base *Base) Begin() bool {
	base.ending.Lock()
	defer base.ending.Unlock()
	if base.stopping {
		return false
	}
	base.Work.Add(1)
	return true
}

// clockLook is the longest that anything sleeps until a time of the clock.
const clockLook = 30 * time.Second

// WaitLooking waits for d, or for half a minute if that is shorter: who waits for a time of
// the clock looks again. A timer counts what a machine was awake for, and knows nothing of a
// clock that was set: the opening of a window would be slept through.
func WaitLooking(ctx context.Context, d time.Duration) error {
	return connect.Wait(ctx, min(d, clockLook))
}

// Mark is a keyed fingerprint of a text for a purpose: it can be written where
// the text must not stand.
func (base *Base) Mark(purpose, text string) string {
	return base.Sealer.Mark(purpose, text)[:24]
}

// Record writes to the ledger.
func (base *Base) Record(ctx context.Context, e ledger.Entry) error {
	return base.store.Record(context.WithoutCancel(ctx), e)
}

// Act writes the intent, does it, and writes the outcome. Law 8.
func (base *Base) Act(ctx context.Context, e ledger.Entry, do func() error) error {
	e.Phase = ledger.Intent
	if err := base.Record(ctx, e); err != nil {
		return fmt.Errorf("the ledger cannot be written, so nothing was done: %w", err)
	}
	err := do()
	e.Phase, e.Result = ledger.Outcome, "done"
	if err != nil {
		e.Result, e.Detail = "failed", base.Redact(ctx, err.Error())
		var f *connect.Failure
		if errors.As(err, &f) && f.Unclear {
			e.Result = "unclear"
		}
	}
	if writeErr := base.Record(ctx, e); writeErr != nil {
		return errors.Join(err, fmt.Errorf("the outcome could not be written to the ledger: %w", writeErr))
	}
	return err
}

// Open opens a sealed value; the empty one when nothing is sealed.
func (base *Base) Open(binding string, sealed []byte) (secret.Value, error) {
	if len(sealed) == 0 {
		return secret.Value{}, nil
	}
	return base.Sealer.Open(binding, sealed)
}

// Seal seals a value; nothing for the empty one.
func (base *Base) Seal(binding string, v secret.Value) ([]byte, error) {
	if v.Empty() {
		return nil, nil
	}
	return base.Sealer.Seal(binding, v)
}
