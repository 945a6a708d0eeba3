// Package batches carries out rotations that were asked for together: all are rehearsed
// first, and then so many run at the same time, none beside another that touches the same.
// What a batch has begun goes on after a restart of the service.
package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AddBatch(ctx context.Context, v records.Batch, items []records.CredentialID, entries ...ledger.Entry) (records.BatchID, error)
	Batch(ctx context.Context, id records.BatchID) (records.Batch, error)
	Candidates(ctx context.Context, account records.AccountID) ([]records.Candidate, error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error)
	ItemsOf(ctx context.Context, id records.BatchID) ([]records.BatchItem, error)
	OpenBatches(ctx context.Context) ([]records.Batch, error)
	RetryItems(ctx context.Context, id records.BatchID) (int64, error)
	Rotation(ctx context.Context, id records.RotationID) (records.Rotation, error)
	SetBatch(ctx context.Context, v records.Batch, entries ...ledger.Entry) error
	SetItem(ctx context.Context, v records.BatchItem) error
	Unfinished(ctx context.Context) ([]records.Rotation, error)
	User(ctx context.Context, name string) (records.User, error)
}

// Rotations rehearses and starts them.
type Rotations interface {
	Rehearse(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request) (records.Rehearsal, error)
	Start(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, override string) (records.RotationID, error)
}

// Finder finds a credential by a spelling.
type Finder interface {
	FindCredential(ctx context.Context, spelling string) (records.Credential, error)
}

// Frozen says whether nothing may begin.
type Frozen interface {
	Frozen() bool
	Refuse() error
}

// Batches keeps and carries out batches. Safe for concurrent use.
type Batches struct {
	base      *app.Base
	store     Store
	rotations Rotations
	finder    Finder
	freeze    Frozen
	wait      func(ctx context.Context, topic string) // until something may have changed

	lock    sync.Mutex
	running map[records.BatchID]bool
}

// New makes one.
func New(base *app.Base, store Store, rotations Rotations, finder Finder, freeze Frozen) *Batches {
	b := &Batches{base: base, store: store, rotations: rotations, finder: finder, freeze: freeze, running: map[records.BatchID]bool{}}
	b.wait = b.listen
	return b
}

// Ask is what a person asks of a batch. The credentials are chosen by one of Label,
// Filters and Names.
type Ask struct {
	Label   string
	Filters []string // of the list of credentials
	Names   []string // spellings, one a line of a file
	Wish    planning.Request
	Reason  string
	AtOnce  int // 4 when it is 0
}

// limits of a batch.
const (
	mostItems   = 5000
	mostAtOnce  = 100
	usualAtOnce = 4
	mostTold    = 20 // lines of a file that are wrong
	mostBehind  = 20 // of one batch that are named beside one
)

// Create keeps a batch and begins to rehearse it. Nothing is kept when anything that it
// names is wrong: all of that is told at once.
func (batches *Batches) Create(ctx context.Context, by access.Actor, ask Ask) (records.Batch, error) {
	if err := access.Decide(by, access.AddBatch, access.Object{Kind: "batch", Name: ask.Reason}); err != nil {
		return records.Batch{}, err
	}
	switch {
	case strings.TrimSpace(ask.Reason) == "":
		return records.Batch{}, fmt.Errorf("%w: give a reason", app.ErrInput)
	case ask.AtOnce < 0 || ask.AtOnce > mostAtOnce:
		return records.Batch{}, fmt.Errorf("%w: 1 to %d rotations run at the same time", app.ErrInput, mostAtOnce)
	case len(ask.Wish.Assign) > 0:
		return records.Batch{}, fmt.Errorf("%w: a batch changes credentials; log-ons are assigned one account at a time", app.ErrInput)
	}
	if err := ask.Wish.Check(batches.base.Now()); err != nil {
		return records.Batch{}, err
	}
	items, chosen, err := batches.choose(ctx, ask)
	if err != nil {
		return records.Batch{}, err
	}
	wish, err := json.Marshal(ask.Wish)
	if err != nil {
		return records.Batch{}, err
	}
	v := records.Batch{RequestedBy: by.Name, Reason: ask.Reason, Chosen: chosen, Wish: wish, AtOnce: ask.AtOnce, State: records.BatchRehearsing}
	if v.AtOnce == 0 {
		v.AtOnce = usualAtOnce
	}
	id, err := batches.store.AddBatch(ctx, v, items, ledger.Entry{Actor: by.Name, Act: "batch.add", Phase: ledger.Intent, Subject: chosen, Reason: ask.Reason, Detail: fmt.Sprintf("%d credentials", len(items))})
	if err != nil {
		return records.Batch{}, err
	}
	batches.launch(id)
	return batches.store.Batch(context.WithoutCancel(ctx), id)
}

// choose finds the credentials of a batch, in their order.
func (batches *Batches) choose(ctx context.Context, ask Ask) (items []records.CredentialID, chosen string, err error) {
	ways := 0
	for _, given := range []bool{ask.Label != "", len(ask.Filters) > 0, len(ask.Names) > 0} {
		if given {
			ways++
		}
	}
	switch {
	case ways != 1:
		return nil, "", fmt.Errorf("%w: choose credentials in one way: by a label, by filters, or by names", app.ErrInput)
	case ask.Label != "":
		chosen = "the label " + ask.Label
		list, err := batches.store.Candidates(ctx, 0)
		if err != nil {
			return nil, "", err
		}
		for _, c := range list {
			for _, label := range c.Labels {
				if label == ask.Label {
					items = append(items, c.CredentialID)
				}
			}
		}
	case len(ask.Filters) > 0:
		chosen = strings.Join(ask.Filters, ", ")
		for q := (records.Query{Filters: append([]string{"state=custody"}, ask.Filters...), Limit: 1000}); ; {
			page, err := batches.store.Credentials(ctx, q)
			if err != nil {
				return nil, "", err
			}
			for _, c := range page.Items {
				items = append(items, c.ID)
			}
			if q.Cursor = page.Next; q.Cursor == "" {
				break
			}
		}
	default:
		chosen = fmt.Sprintf("a list of %d names", len(ask.Names))
		if items, err = batches.named(ctx, ask.Names); err != nil {
			return nil, "", err
		}
	}
	switch {
	case len(items) == 0:
		return nil, "", fmt.Errorf("%w: no credential in custody is chosen by %s", app.ErrInput, chosen)
	case len(items) > mostItems:
		return nil, "", fmt.Errorf("%w: %d credentials are chosen: at most %d at a time", app.ErrInput, len(items), mostItems)
	}
	return items, chosen, nil
}

// named finds credentials by spellings. Everything that is wrong is told, with its line.
func (batches *Batches) named(ctx context.Context, names []string) ([]records.CredentialID, error) {
	var items []records.CredentialID
	var wrong []string
	at := map[records.CredentialID]int{}
	for i, name := range names {
		name = strings.TrimSpace(name)
		if name == "" || strings.HasPrefix(name, "#") {
			continue
		}
		c, err := batches.finder.FindCredential(ctx, name)
		var words string
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			words = strings.TrimPrefix(err.Error(), app.ErrInput.Error()+": ")
		case !c.InCustody():
			words = name + " is not in custody"
		case at[c.ID] != 0:
			words = fmt.Sprintf("%s is the same as line %d", name, at[c.ID])
		default:
			at[c.ID] = i + 1
			items = append(items, c.ID)
			continue
		}
		wrong = append(wrong, fmt.Sprintf("line %d: %s", i+1, words))
	}
	if len(wrong) == 0 {
		return items, nil
	}
	more := ""
	if len(wrong) > mostTold {
		more = fmt.Sprintf("; and %d more", len(wrong)-mostTold)
		wrong = wrong[:mostTold]
	}
	return nil, fmt.Errorf("%w: nothing was kept, for not everything is right: %s%s", app.ErrInput, strings.Join(wrong, "; "), more)
}

// Start carries out a batch that was rehearsed. Where some rehearsals did not pass, it
// does so for the others only when asked to.
func (batches *Batches) Start(ctx context.Context, by access.Actor, id records.BatchID, despite bool) (records.Batch, error) {
	if err := access.Decide(by, access.StartBatch, access.Object{Kind: "batch", Name: fmt.Sprint(id)}); err != nil {
		return records.Batch{}, err
	}
	v, err := batches.store.Batch(ctx, id)
	if err != nil {
		return v, err
	}
	if err := batches.freeze.Refuse(); err != nil {
		return v, err
	}
	switch {
	case v.State != records.BatchRehearsed && v.State != records.BatchStopped:
		return v, fmt.Errorf("%w: batch %d is %s", app.ErrRefused, id, v.State)
	case v.Waiting > 0:
		return v, fmt.Errorf("%w: batch %d was stopped while it was rehearsed: retry it", app.ErrRefused, id)
	case v.Blocked > 0 && !despite:
		return v, fmt.Errorf("%w: %d of %d rehearsals of batch %d did not pass: nothing is started unless you ask to start the others", app.ErrRefused, v.Blocked, v.Total, id)
	case v.Ready == 0:
		return v, fmt.Errorf("%w: nothing of batch %d is ready", app.ErrRefused, id)
	}
	v.State, v.Despite = records.BatchRunning, despite
	if err := batches.store.SetBatch(ctx, v, ledger.Entry{Actor: by.Name, Act: "batch.start", Phase: ledger.Outcome, Subject: v.Chosen, Result: "done", Reason: v.Reason, Ref: fmt.Sprintf("batch/%d", id), Detail: fmt.Sprintf("%d of %d", v.Ready, v.Total)}); err != nil {
		return v, err
	}
	batches.launch(id)
	return batches.store.Batch(ctx, id)
}

// Stop begins nothing more of a batch. Rotations that run go on.
func (batches *Batches) Stop(ctx context.Context, by access.Actor, id records.BatchID) (records.Batch, error) {
	if err := access.Decide(by, access.StopBatch, access.Object{Kind: "batch", Name: fmt.Sprint(id)}); err != nil {
		return records.Batch{}, err
	}
	v, err := batches.store.Batch(ctx, id)
	if err != nil {
		return v, err
	}
	if v.State == records.BatchDone || v.State == records.BatchStopped {
		return v, fmt.Errorf("%w: batch %d is %s", app.ErrRefused, id, v.State)
	}
	v.State, v.Ended = records.BatchStopped, batches.base.Now().UTC()
	if err := batches.store.SetBatch(ctx, v, ledger.Entry{Actor: by.Name, Act: "batch.stop", Phase: ledger.Outcome, Subject: v.Chosen, Result: "done", Ref: fmt.Sprintf("batch/%d", id)}); err != nil {
		return v, err
	}
	batches.base.Topics.Wake("all", topic(id))
	return batches.store.Batch(ctx, id)
}

// Retry rehearses again what did not pass or did not end well, and nothing else. It is
// started as the batch was.
func (batches *Batches) Retry(ctx context.Context, by access.Actor, id records.BatchID) (records.Batch, error) {
	if err := access.Decide(by, access.RetryBatch, access.Object{Kind: "batch", Name: fmt.Sprint(id)}); err != nil {
		return records.Batch{}, err
	}
	v, err := batches.store.Batch(ctx, id)
	if err != nil {
		return v, err
	}
	if v.State == records.BatchRunning || v.State == records.BatchRehearsing {
		return v, fmt.Errorf("%w: batch %d is %s", app.ErrRefused, id, v.State)
	}
	n, err := batches.store.RetryItems(ctx, id)
	if err != nil {
		return v, err
	}
	if n == 0 && v.Waiting == 0 {
		return v, fmt.Errorf("%w: nothing of batch %d failed", app.ErrRefused, id)
	}
	v.State, v.Ended = records.BatchRehearsing, time.Time{}
	if err := batches.store.SetBatch(ctx, v, ledger.Entry{Actor: by.Name, Act: "batch.retry", Phase: ledger.Outcome, Subject: v.Chosen, Result: "done", Ref: fmt.Sprintf("batch/%d", id), Detail: fmt.Sprintf("%d of %d", n, v.Total)}); err != nil {
		return v, err
	}
	batches.launch(id)
	return batches.store.Batch(ctx, id)
}

// Recover goes on with what an earlier run of the service left.
func (batches *Batches) Recover(ctx context.Context) error {
	list, err := batches.store.OpenBatches(ctx)
	for _, v := range list {
		batches.launch(v.ID)
	}
	return err
}

func topic(id records.BatchID) string { return fmt.Sprintf("batch/%d", id) }

// launch works on a batch until nothing is to be done, unless something does already.
func (batches *Batches) launch(id records.BatchID) {
	batches.lock.Lock()
	defer batches.lock.Unlock()
	if batches.running[id] || !batches.base.Begin() {
		return
	}
	batches.running[id] = true
	go func() {
		defer batches.base.Work.Done()
		for {
			err := batches.work(batches.base.Context, id)
			batches.lock.Lock()
			v, readErr := batches.store.Batch(context.WithoutCancel(batches.base.Context), id)
			again := err == nil && readErr == nil && (v.State == records.BatchRehearsing || v.State == records.BatchRunning) && batches.base.Context.Err() == nil
			if !again {
				delete(batches.running, id)
			}
			batches.lock.Unlock()
			if err = errors.Join(err, readErr); err != nil && batches.base.Context.Err() == nil {
				batches.base.Log.Error("a batch does not go on", "batch", id, "error", err)
			}
			if !again {
				break
			}
		}
		batches.base.Topics.Wake("all", topic(id))
	}()
}
