package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// together is how many are rehearsed at the same time.
const together = 4

// lookAgain is how long at most nothing is heard before one looks by oneself.
const lookAgain = 2 * time.Second

// listen waits until something may have changed.
func (batches *Batches) listen(ctx context.Context, topic string) {
	heard, stop := batches.base.Topics.Listen(topic)
	defer stop()
	timer, cancel := context.WithTimeout(ctx, lookAgain)
	defer cancel()
	select {
	case <-heard:
	case <-timer.Done():
	}
}

// work does what is to be done about a batch where it stands.
func (batches *Batches) work(ctx context.Context, id records.BatchID) error {
	v, err := batches.store.Batch(ctx, id)
	if err != nil {
		return err
	}
	var wish planning.Request
	if err := json.Unmarshal(v.Wish, &wish); err != nil {
		return fmt.Errorf("what batch %d asks cannot be read: %w", id, err)
	}
	// What a person was allowed to ask is done in their name, while they still may.
	by := access.Following(access.Actor{Name: v.RequestedBy})
	if err := batches.stillMay(ctx, v); err != nil {
		return batches.halt(ctx, v, err)
	}
	switch v.State {
	case records.BatchRehearsing:
		return batches.rehearse(ctx, v, by, wish)
	case records.BatchRunning:
		return batches.run(ctx, v, by, wish)
	}
	return nil
}

// stillMay says why who asked for a batch may not rotate any more: a role that was taken
// since, or a person who was disabled, begins nothing more.
func (batches *Batches) stillMay(ctx context.Context, v records.Batch) error {
	user, err := batches.store.User(ctx, v.RequestedBy)
	switch {
	case errors.Is(err, app.ErrNotFound) || err == nil && user.Disabled:
		return fmt.Errorf("%w: %s, who asked for it, is not here any more", app.ErrRefused, v.RequestedBy)
	case err != nil:
		return err
	}
	return access.Decide(access.Actor{Name: user.Name, Roles: user.Roles}, access.StartRotation, access.Object{})
}

// halt stops a batch whose asker may not go on with it. Trouble of our own is returned.
func (batches *Batches) halt(ctx context.Context, v records.Batch, why error) error {
	if !errors.Is(why, app.ErrRefused) && !errors.Is(why, access.ErrDenied) {
		return why
	}
	v.State, v.Ended = records.BatchStopped, batches.base.Now().UTC()
	return batches.store.SetBatch(ctx, v, ledger.Entry{Actor: app.ByService, Act: "batch.stop", Phase: ledger.Outcome, Subject: v.Chosen, Result: "done", Ref: topic(v.ID), Detail: why.Error()})
}

// rehearse rehearses what was not, some at the same time, and then says which of them
// touch the same.
func (batches *Batches) rehearse(ctx context.Context, v records.Batch, by access.Actor, wish planning.Request) error {
	items, err := batches.store.ItemsOf(ctx, v.ID)
	if err != nil {
		return err
	}
	touches := make([][]string, len(items))
	errs := make([]error, len(items))
	slots := make(chan struct{}, together)
	var all sync.WaitGroup
	for i := range items {
		if items[i].State != records.ItemWaiting {
			continue
		}
		slots <- struct{}{}
		if now, err := batches.store.Batch(ctx, v.ID); err != nil || now.State != records.BatchRehearsing {
			<-slots
			errs = append(errs, err)
			break // stopped meanwhile
		}
		all.Go(func() {
			defer func() { <-slots }()
			touches[i], errs[i] = batches.rehearseOne(ctx, v, &items[i], by, wish)
		})
	}
	all.Wait()
	if err := errors.Join(append(errs, ctx.Err())...); err != nil {
		return err
	}
	touching := map[string][]int{}
	for i, places := range touches {
		for _, place := range places {
			touching[place] = append(touching[place], i)
		}
	}
	for i := range items {
		if len(touches[i]) == 0 {
			continue
		}
		items[i].Behind = []string{}
		for _, place := range touches[i] {
			for _, j := range touching[place] {
				if j != i && len(items[i].Behind) < mostBehind && !slices.Contains(items[i].Behind, items[j].Credential) {
					items[i].Behind = append(items[i].Behind, items[j].Credential)
				}
			}
		}
		if len(items[i].Behind) > 0 {
			if err := batches.store.SetItem(ctx, items[i]); err != nil {
				return err
			}
		}
	}
	now, err := batches.store.Batch(ctx, v.ID)
	if err != nil || now.State != records.BatchRehearsing {
		return err
	}
	now.State = records.BatchRehearsed
	return batches.store.SetBatch(ctx, now)
}

// rehearseOne rehearses an item and keeps what came of it. It returns what its rotation
// would touch.
func (batches *Batches) rehearseOne(ctx context.Context, v records.Batch, item *records.BatchItem, by access.Actor, wish planning.Request) ([]string, error) {
	var touches []string
	c, err := batches.store.Credential(ctx, item.CredentialID)
	if err != nil {
		return nil, err
	}
	rehearsal, err := batches.rotations.Rehearse(ctx, by, c, wishOf(*item, c, v, wish))
	item.Second, item.Digest = rehearsal.Second, rehearsal.Digest
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		item.State, item.Words = records.ItemBlocked, batches.base.Redact(ctx, err.Error())
	case rehearsal.Verdict != "passed":
		item.State, item.Words = records.ItemBlocked, "the rehearsal failed: "+rehearsal.Failures()
	default:
		item.State, item.Words, item.Restarts = records.ItemReady, "the rehearsal passed", rehearsal.Plan.Restarts()
		if len(item.Second) > 0 {
			item.Words += "; a second person is needed, for " + strings.Join(item.Second, "; ")
		}
		touches = planning.Touches(rehearsal.Plan)
	}
	err = batches.store.SetItem(ctx, *item)
	batches.base.Topics.Wake("all", topic(item.BatchID))
	return touches, err
}

// wishOf is what a batch asks of one of its credentials.
func wishOf(item records.BatchItem, c records.Credential, v records.Batch, wish planning.Request) planning.Request {
	wish = wish.For(c.Kind)
	if item.Given != "" {
		wish.Given, wish.GivenBy = item.Given, v.RequestedBy
	}
	return wish
}

// run carries out what is ready, so many at the same time, until all has ended or a
// person stopped it.
func (batches *Batches) run(ctx context.Context, v records.Batch, by access.Actor, wish planning.Request) error {
	waiting := planning.NewWaiting()
	for ctx.Err() == nil {
		now, err := batches.store.Batch(ctx, v.ID)
		if err != nil {
			return err
		}
		items, err := batches.store.ItemsOf(ctx, v.ID)
		if err != nil {
			return err
		}
		open, err := batches.settle(ctx, items)
		if err != nil {
			return err
		}
		ready := slices.ContainsFunc(items, func(i records.BatchItem) bool { return i.State == records.ItemReady })
		if now.State != records.BatchRunning && open == 0 {
			return nil // stopped, and nothing of it runs
		}
		if now.State == records.BatchRunning && !ready && open == 0 {
			return batches.end(ctx, now)
		}
		if err := batches.stillMay(ctx, now); err != nil && now.State == records.BatchRunning {
			if err := batches.halt(ctx, now, err); err != nil {
				return err
			}
			continue
		}
		begun := 0
		if now.State == records.BatchRunning && !batches.freeze.Frozen() {
			if begun, err = batches.begin(ctx, v, items, v.AtOnce-open, by, wish, waiting); err != nil {
				return err
			}
		}
		if begun == 0 {
			batches.wait(ctx, "all")
		}
	}
	return ctx.Err()
}

func (batches *Batches) end(ctx context.Context, v records.Batch) error {
	v, err := batches.store.Batch(ctx, v.ID)
	if err != nil {
		return err
	}
	v.State, v.Ended = records.BatchDone, batches.base.Now().UTC()
	result := "done"
	if v.Failed+v.Blocked > 0 {
		result = "with failures"
	}
	return batches.store.SetBatch(ctx, v, ledger.Entry{Actor: v.RequestedBy, Act: "batch.end", Phase: ledger.Outcome, Subject: v.Chosen, Result: result, Reason: v.Reason, Ref: fmt.Sprintf("batch/%d", v.ID), Detail: fmt.Sprintf("%d done, %d otherwise, %d not begun", v.Done, v.Failed, v.Blocked)})
}

// settle keeps what became of rotations that run, and counts those that still do.
func (batches *Batches) settle(ctx context.Context, items []records.BatchItem) (open int, err error) {
	for i := range items {
		item := &items[i]
		if item.State != records.ItemRotating {
			continue
		}
		r, err := batches.store.Rotation(ctx, item.RotationID)
		if err != nil {
			return open, err
		}
		switch {
		case r.Mode == string(rotation.ModeFinished) && r.Result == rotation.FinishedDone:
			item.State, item.Words = records.ItemDone, fmt.Sprintf("rotation %d: done", r.ID)
		case r.Mode == string(rotation.ModeFinished):
			item.State, item.Words = records.ItemFailed, fmt.Sprintf("rotation %d: %s", r.ID, strings.ReplaceAll(r.Result, "-", " "))
		case r.Mode == string(rotation.ModeStopped):
			item.State, item.Words = records.ItemFailed, fmt.Sprintf("rotation %d: stopped, and needs a decision", r.ID)
		default:
			open++
			continue
		}
		if err := batches.store.SetItem(ctx, *item); err != nil {
			return open, err
		}
		batches.base.Topics.Wake("all", topic(item.BatchID))
	}
	return open, nil
}

// begin starts what is ready, as far as there is room and nothing that runs touches the
// same.
func (batches *Batches) begin(ctx context.Context, v records.Batch, items []records.BatchItem, room int, by access.Actor, wish planning.Request, waiting *planning.Waiting) (begun int, err error) {
	unfinished, err := batches.store.Unfinished(ctx)
	if err != nil {
		return 0, err
	}
	before := planning.NewBusy(unfinished)
	for i := range items {
		item := &items[i]
		if item.State != records.ItemReady || room <= 0 || ctx.Err() != nil || waiting.Still(item.CredentialID, before, batches.base.Now()) {
			continue
		}
		unfinished, err := batches.store.Unfinished(ctx)
		if err != nil {
			return begun, err
		}
		started, later, err := batches.startOne(ctx, v, item, planning.NewBusy(unfinished), by, wish, waiting)
		if err != nil {
			return begun, err
		}
		if later {
			continue
		}
		begun++
		if started {
			room--
		}
	}
	return begun, nil
}

// startOne rehearses an item once more and starts it. later: not beside what runs now.
func (batches *Batches) startOne(ctx context.Context, v records.Batch, item *records.BatchItem, busy *planning.Busy, by access.Actor, wish planning.Request, waiting *planning.Waiting) (started, later bool, err error) {
	c, err := batches.store.Credential(ctx, item.CredentialID)
	if err != nil {
		return false, false, err
	}
	// What is started is what was rehearsed just now: those before it may have changed what
	// it stands on.
	wish = wishOf(*item, c, v, wish)
	rehearsal, err := batches.rotations.Rehearse(ctx, by, c, wish)
	switch {
	case ctx.Err() != nil:
		return false, false, ctx.Err()
	case err != nil:
		item.State, item.Words = records.ItemFailed, batches.base.Redact(ctx, err.Error())
	case rehearsal.Verdict != "passed":
		item.State, item.Words = records.ItemBlocked, "the rehearsal failed: "+rehearsal.Failures()
	case !busy.Take(rehearsal.Plan):
		waiting.Behind(item.CredentialID, rehearsal.Plan)
		return false, true, nil
	default:
		reason := fmt.Sprintf("%s (batch %d)", v.Reason, v.ID)
		var id records.RotationID
		if v.Consent != "" && len(rehearsal.Second) > 0 {
			id, err = batches.rotations.StartConsented(ctx, by, c, wish, reason, v.Consent, item.Digest)
		} else {
			id, err = batches.rotations.Start(ctx, by, c, wish, reason, "")
		}
		switch {
		case ctx.Err() != nil && id == 0:
			return false, false, ctx.Err()
		case err != nil && batches.freeze.Frozen():
			return false, true, nil
		case err != nil && !errors.Is(err, app.ErrRefused) && id == 0:
			item.State, item.Words = records.ItemFailed, batches.base.Redact(ctx, err.Error())
		case err != nil && id == 0:
			item.State, item.Words = records.ItemFailed, err.Error()
		default:
			item.State, item.Words, item.RotationID, started = records.ItemRotating, fmt.Sprintf("rotation %d", id), id, true
		}
	}
	err = batches.store.SetItem(context.WithoutCancel(ctx), *item)
	batches.base.Topics.Wake("all", topic(item.BatchID))
	return started, false, err
}
