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
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AddBatch(ctx context.Context, v records.Batch, items []records.CredentialID, given []records.Secret, entries ...ledger.Entry) (records.BatchID, error)
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	Approvals(ctx context.Context, q records.Query) (records.Page[records.Approval], error)
	ApprovalWords(ctx context.Context, id records.ApprovalID, words string) error
	Batch(ctx context.Context, id records.BatchID) (records.Batch, error)
	Candidates(ctx context.Context, account records.AccountID) ([]records.Candidate, error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error)
	Findings(ctx context.Context, all bool, q records.Query) (records.Page[records.Finding], error)
	Fingerprints(ctx context.Context) ([]string, error)
	ForgetGiven(ctx context.Context, before time.Time) (int64, error)
	ItemsOf(ctx context.Context, id records.BatchID) ([]records.BatchItem, error)
	OpenBatches(ctx context.Context) ([]records.Batch, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
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
	StartConsented(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, approved, digest string) (records.RotationID, error)
}

// Sealer seals values that people give.
type Sealer interface {
	NewSecret(c records.Credential, rotation records.RotationID, v secret.Value) (records.Secret, error)
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
	sealed    Sealer
	approvals *approval.Approvals
	wait      func(ctx context.Context, topic string) // until something may have changed

	lock    sync.Mutex
	running map[records.BatchID]bool
}

// Needs is what batches are made of.
type Needs struct {
	Base      *app.Base
	Store     Store
	Rotations Rotations
	Finder    Finder
	Freeze    Frozen
	Sealed    Sealer
	Approvals *approval.Approvals
}

// New makes Batches. They carry out approvals of batches.
func New(n Needs) *Batches {
	b := &Batches{base: n.Base, store: n.Store, rotations: n.Rotations, finder: n.Finder, freeze: n.Freeze, sealed: n.Sealed, approvals: n.Approvals, running: map[records.BatchID]bool{}}
	b.wait = b.listen
	n.Approvals.Carry(approval.KindBatch, approval.Carrier{Action: access.StartBatch, Still: b.stillApproved, CarryOut: b.startApproved})
	return b
}

// Ask is what a person asks of a batch. The credentials are chosen by one of Label,
// Filters, Names, Findings and Values.
type Ask struct {
	Label    string
	Filters  []string     // of the list of credentials
	Names    []string     // spellings, one a line of a file
	Findings []string     // filters of the list of findings: credentials that open ones are about
	Values   secret.Value // lines of a spelling and the new value, as CSV (RFC 4180)
	Wish     planning.Request
	Reason   string
	AtOnce   int // 4 when it is 0
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
	items, chosen, given, err := batches.choose(ctx, ask)
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
	id, err := batches.store.AddBatch(ctx, v, items, given, ledger.Entry{Actor: by.Name, Act: "batch.add", Phase: ledger.Intent, Subject: chosen, Reason: ask.Reason, Detail: fmt.Sprintf("%d credentials", len(items))})
	if err != nil {
		return records.Batch{}, err
	}
	if len(given) > 0 {
		batches.base.ForgetKnown()
	}
	batches.launch(id)
	return batches.store.Batch(context.WithoutCancel(ctx), id)
}

// Start carries out a batch that was rehearsed. Where some rehearsals did not pass, it
// does so for the others only when asked to. Where one person is not enough for some, it
// asks a second one for all of them together: the error is a *rotate.WaitsError then.
func (batches *Batches) Start(ctx context.Context, by access.Actor, id records.BatchID, despite bool) (records.Batch, error) {
	if err := access.Decide(by, access.StartBatch, access.Object{Kind: "batch", Name: fmt.Sprint(id)}); err != nil {
		return records.Batch{}, err
	}
	v, err := batches.startable(ctx, id, despite)
	if err != nil {
		return v, err
	}
	if err := batches.consented(ctx, by, v, despite); err != nil {
		return v, err
	}
	return batches.start(ctx, by, v, despite)
}

// startable is a batch, and why it does not start as it is.
func (batches *Batches) startable(ctx context.Context, id records.BatchID, despite bool) (records.Batch, error) {
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
	return v, nil
}

func (batches *Batches) start(ctx context.Context, by access.Actor, v records.Batch, despite bool) (records.Batch, error) {
	v.State, v.Despite = records.BatchRunning, despite
	entry := ledger.Entry{Actor: by.Name, Act: "batch.start", Phase: ledger.Outcome, Subject: v.Chosen, Result: "done", Reason: v.Reason, Ref: fmt.Sprintf("batch/%d", v.ID), Detail: strings.TrimSpace(fmt.Sprintf("%d of %d %s", v.Ready, v.Total, v.Consent))}
	if err := batches.store.SetBatch(ctx, v, entry); err != nil {
		return v, err
	}
	batches.launch(v.ID)
	return batches.store.Batch(ctx, v.ID)
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
	v.State, v.Ended, v.Consent = records.BatchRehearsing, time.Time{}, "" // what is rehearsed anew was not approved
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
