// Package freeze keeps everything still: nothing new begins, and what is under way waits
// where it is safe to (core/rotation, State.Safe).
package freeze

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	FreezeNow(ctx context.Context) (records.Freeze, error)
	SetFreeze(ctx context.Context, v records.Freeze, entries ...ledger.Entry) error
}

// Freeze says whether everything is frozen. Safe for concurrent use.
type Freeze struct {
	base  *app.Base
	store Store
	turn  sync.Mutex // one freezes or thaws at a time
	now   atomic.Pointer[records.Freeze]
}

// New reads whether everything is frozen.
func New(ctx context.Context, base *app.Base, store Store) (*Freeze, error) {
	v, err := store.FreezeNow(ctx)
	if err != nil {
		return nil, fmt.Errorf("read whether everything is frozen: %w", err)
	}
	f := &Freeze{base: base, store: store}
	f.now.Store(&v)
	return f, nil
}

// Now is what holds now.
func (f *Freeze) Now() records.Freeze { return *f.now.Load() }

// Frozen reports whether nothing new may begin.
func (f *Freeze) Frozen() bool { return f.now.Load().Frozen }

// Refuse is an error while nothing new may begin.
func (f *Freeze) Refuse() error {
	if v := f.Now(); v.Frozen {
		return fmt.Errorf("%w: %s", app.ErrRefused, Words(v))
	}
	return nil
}

// Words says who froze everything, when and why.
func Words(v records.Freeze) string {
	return fmt.Sprintf("everything is frozen by %s since %s (%s): 'moss thaw' lets it go on", v.By, v.At.UTC().Format(time.RFC3339), v.Reason)
}

// Begin freezes everything. Frozen twice, the first one counts.
func (f *Freeze) Begin(ctx context.Context, by access.Actor, reason string) (records.Freeze, error) {
	if err := access.Decide(by, access.FreezeAll, access.Object{Kind: "service", Name: "everything"}); err != nil {
		return f.Now(), err
	}
	if strings.TrimSpace(reason) == "" {
		return f.Now(), fmt.Errorf("%w: say why", app.ErrInput)
	}
	f.turn.Lock()
	defer f.turn.Unlock()
	if v := f.Now(); v.Frozen {
		return v, fmt.Errorf("%w: %s", app.ErrRefused, Words(v))
	}
	v := records.Freeze{Frozen: true, By: by.Name, At: f.base.Now().UTC(), Reason: reason}
	return v, f.set(ctx, v, ledger.Entry{Actor: by.Name, Act: "service.freeze", Phase: ledger.Outcome, Subject: "everything", Result: "done", Reason: reason})
}

// End lets everything go on.
func (f *Freeze) End(ctx context.Context, by access.Actor, reason string) (records.Freeze, error) {
	if err := access.Decide(by, access.ThawAll, access.Object{Kind: "service", Name: "everything"}); err != nil {
		return f.Now(), err
	}
	f.turn.Lock()
	defer f.turn.Unlock()
	was := f.Now()
	switch {
	case strings.TrimSpace(reason) == "":
		return was, fmt.Errorf("%w: say why", app.ErrInput)
	case !was.Frozen:
		return was, fmt.Errorf("%w: nothing is frozen", app.ErrRefused)
	}
	v := records.Freeze{}
	return v, f.set(ctx, v, ledger.Entry{Actor: by.Name, Act: "service.thaw", Phase: ledger.Outcome, Subject: "everything", Result: "done", Reason: reason, Detail: "frozen by " + was.By + " since " + was.At.UTC().Format(time.RFC3339)})
}

func (f *Freeze) set(ctx context.Context, v records.Freeze, entry ledger.Entry) error {
	// Held first, and let go last: between the two nothing begins.
	if v.Frozen {
		was := f.now.Swap(&v)
		if err := f.store.SetFreeze(ctx, v, entry); err != nil {
			f.now.Store(was)
			return err
		}
	} else {
		if err := f.store.SetFreeze(ctx, v, entry); err != nil {
			return err
		}
		f.now.Store(&v)
	}
	f.base.Topics.Wake("all")
	return nil
}
