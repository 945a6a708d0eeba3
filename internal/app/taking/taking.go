// Package taking takes accounts into custody that a rule says so of, in a window, while
// nobody watches: by a reset, which gives them a password that nobody else has. It does so
// only where nothing known depends on the password; the look just before it decides, not
// what a preview showed.
package taking

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	FailedTakings(ctx context.Context) ([]records.Taking, error)
	LabellingAfter(ctx context.Context, after records.AccountID, most int, dependents bool) ([]records.Labelling, error)
	NotePassword(ctx context.Context, account records.AccountID) (records.Credential, error)
	NoteTaking(ctx context.Context, v records.Taking) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	ToTake(ctx context.Context, triedBefore time.Time) ([]records.Taking, error)
	Window(ctx context.Context, name string) (records.Window, error)
}

// Custody resets a password.
type Custody interface {
	Reset(ctx context.Context, by access.Actor, reason string, c records.Credential) error
}

// Needs is what it is made of.
type Needs struct {
	Base    *app.Base
	Store   Store
	Custody Custody
	// Limits are what keeps accounts from being taken, besides what they are.
	Limits func(ctx context.Context, despite bool) (labels.Limits, error)
	// Frozen says whether nothing may begin; Open whether a window is open now.
	Frozen func() bool
	Open   func(v records.Window) (bool, error)
	// TwoPeople says why one person is not enough to change an account's password; "" where
	// one is.
	TwoPeople func(ctx context.Context, account records.AccountID) (string, error)
}

// Taking takes accounts. Safe for concurrent use.
type Taking struct {
	Needs
	turn   sync.Mutex
	kicked atomic.Bool
}

// New makes one.
func New(n Needs) *Taking { return &Taking{Needs: n} }

const (
	// again is after how long one is tried again that could not be taken.
	again = 24 * time.Hour
	// atOnce is how many are taken in one look: the next comes soon.
	atOnce = 20
	// inARow is after how many failures in a row a look ends: it is not the accounts then.
	inARow = 3
)

// Kick has a look soon: rules were applied. It returns at once.
func (taking *Taking) Kick() {
	if taking.kicked.Swap(true) || !taking.Base.Begin() {
		return
	}
	go func() {
		defer taking.Base.Work.Done()
		taking.kicked.Store(false)
		if _, err := taking.Look(taking.Base.Context); err != nil && taking.Base.Context.Err() == nil {
			taking.Base.Log.Warn("what rules would have in custody could not be taken", "error", err)
		}
	}()
}

// Look takes what is to be taken now.
func (taking *Taking) Look(ctx context.Context) (words string, err error) {
	taking.turn.Lock()
	defer taking.turn.Unlock()
	list, err := taking.Store.ToTake(ctx, taking.Base.Now().Add(-again))
	if err != nil {
		return "", err
	}
	taken, tried, failed := 0, 0, 0
	open := map[string]bool{}
	for _, v := range list {
		if taking.Frozen() || ctx.Err() != nil || tried >= atOnce || failed >= inARow {
			break
		}
		is, known := open[v.TakeIn]
		if !known {
			w, err := taking.Store.Window(ctx, v.TakeIn)
			if err != nil {
				return "", err
			}
			if is, err = taking.Open(w); err != nil {
				return "", err
			}
			open[v.TakeIn] = is
		}
		if !is {
			continue
		}
		why, err := taking.refuses(ctx, v)
		if err != nil {
			return "", err
		}
		if why != "" {
			continue // what keeps it may be over at the next look
		}
		tried++
		switch done, err := taking.take(ctx, v); {
		case err != nil:
			return "", err
		case done:
			taken, failed = taken+1, 0
		default:
			failed++
		}
	}
	return fmt.Sprintf("%d are asked for, %d were taken now", len(list), taken), taking.tell(ctx)
}

// refuses says why an account is not taken as it is now.
func (taking *Taking) refuses(ctx context.Context, v records.Taking) (string, error) {
	page, err := taking.Store.LabellingAfter(ctx, v.AccountID-1, 1, true)
	if err != nil || len(page) == 0 || page[0].ID != v.AccountID {
		return "it is gone", err
	}
	limits, err := taking.Limits(ctx, v.Unread)
	if err != nil {
		return "", err
	}
	if words := labels.NotTaken(page[0], limits, taking.Base.Now()); words != "" {
		return words, nil
	}
	why, err := taking.TwoPeople(ctx, v.AccountID)
	if why != "" {
		why = "a second person is needed, for " + why
	}
	return why, err
}

// take resets one. That it is tried is kept before: a crash in between makes no second try
// on the same day.
func (taking *Taking) take(ctx context.Context, v records.Taking) (bool, error) {
	v.Tried, v.Words = taking.Base.Now().UTC(), "the service ended while it was tried"
	if err := taking.Store.NoteTaking(ctx, v); err != nil {
		return false, err
	}
	c, err := taking.Store.NotePassword(ctx, v.AccountID)
	if err == nil {
		err = taking.Custody.Reset(ctx, access.Service(), fmt.Sprintf("rule %s has it taken into custody, in the window %s", v.Rule, v.TakeIn), c)
	}
	if ctx.Err() != nil && err != nil {
		return false, ctx.Err()
	}
	v.Words = ""
	if err != nil {
		v.Words = taking.Base.Redact(ctx, err.Error())
	}
	return err == nil, errors.Join(taking.Store.NoteTaking(context.WithoutCancel(ctx), v))
}

// tell has a finding for each that could not be taken.
func (taking *Taking) tell(ctx context.Context) error {
	list, err := taking.Store.FailedTakings(ctx)
	if err != nil {
		return err
	}
	out := make([]records.Finding, 0, len(list))
	for _, v := range list {
		out = append(out, records.Finding{
			Key: fmt.Sprintf("taking/%d", v.AccountID), Kind: "not-taken", Severity: "medium", Subject: v.Account, System: v.System, AccountID: v.AccountID,
			What: fmt.Sprintf("the rule %s would have it in custody, and it could not be taken: %s", v.Rule, v.Words), Next: "mend what is said, or take it by hand with 'moss custody take'; it is tried again a day later, in the window " + v.TakeIn,
		})
	}
	return taking.Store.SetFindings(ctx, "taking/", out)
}
