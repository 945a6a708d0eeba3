package batches

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Where one person is not enough for some rotations of a batch, a second one approves the
// batch as a whole: what each of its rehearsals came to. Each is rehearsed once more before
// it begins, and begins only if the same comes of it.

// approvedBatch is what an approver lets somebody start.
type approvedBatch struct {
	Batch   records.BatchID `json:"batch"`
	Despite bool            `json:"despite"`
	Digest  string          `json:"digest"`
}

// waitsFor is how long a request for a batch waits.
const waitsFor = 24 * time.Hour

// mostAsked is how many rotations of a batch a request names.
const mostAsked = 100

// consented says nothing when a batch may start, and is an error while a second person has
// to approve it.
func (batches *Batches) consented(ctx context.Context, by access.Actor, v records.Batch, despite bool) error {
	if v.Second == 0 || v.Consent != "" {
		return nil
	}
	alone, err := batches.approvals.Alone(ctx, by.Name)
	if err != nil || alone {
		return err // each rotation says so
	}
	if !by.Is(v.RequestedBy) {
		// Else who asked for it, and may know its values, could approve it themselves.
		return fmt.Errorf("%w: a second person is needed for batch %d, which %s asked for: %s starts it, and somebody else approves it", app.ErrRefused, v.ID, v.RequestedBy, v.RequestedBy)
	}
	items, err := batches.store.ItemsOf(ctx, v.ID)
	if err != nil {
		return err
	}
	waits, asked := &rotate.WaitsError{}, approvedBatch{v.ID, despite, digestOf(items)}
	var names []string
	for _, i := range items {
		if i.State != records.ItemReady || len(i.Second) == 0 {
			continue
		}
		names = append(names, strings.TrimPrefix(i.System+"/"+i.Credential, "/"))
		for _, words := range i.Second {
			if !slices.Contains(waits.Why, words) {
				waits.Why = append(waits.Why, words)
			}
		}
	}
	if len(names) == 0 {
		return nil
	}
	if len(waits.Why) > mostTold {
		waits.Why = append(waits.Why[:mostTold], fmt.Sprintf("and %d more", len(waits.Why)-mostTold))
	}
	before, err := batches.store.Approvals(ctx, records.Query{Filters: []string{"kind=" + approval.KindBatch, "subject=" + subjectOf(v.ID), "state=" + records.ApprovalAsked}, Limit: 20})
	if err != nil {
		return err
	}
	for _, one := range before.Items {
		var was approvedBatch
		if json.Unmarshal(one.Detail, &was) == nil && was == asked && by.Is(one.AskedBy) {
			waits.Approval = one.ID
			return waits
		}
	}
	detail, err := json.Marshal(asked)
	if err != nil {
		return err
	}
	more := ""
	if len(names) > mostAsked {
		more = fmt.Sprintf(", and %d more", len(names)-mostAsked)
		names = names[:mostAsked]
	}
	request := records.Approval{
		Kind: approval.KindBatch, Subject: subjectOf(v.ID), What: fmt.Sprintf("rotate the %d that are ready of batch %d (%s), for %s", v.Ready, v.ID, v.Chosen, strings.Join(waits.Why, "; ")), Reason: v.Reason, AskedBy: by.Name, Detail: detail,
		Changes: []ledger.Change{{Field: "needs a second person", To: strings.Join(names, ", ") + more}, {Field: "restarts", To: fmt.Sprint(restartsOf(items))}}, Expires: batches.base.Now().UTC().Add(waitsFor),
	}
	if waits.Approval, err = batches.approvals.Ask(ctx, request, ledger.Entry{Act: "batch.start"}); err != nil {
		return err
	}
	batches.base.Topics.Wake("all", topic(v.ID))
	return waits
}

func subjectOf(id records.BatchID) string { return fmt.Sprintf("batch %d", id) }

func restartsOf(items []records.BatchItem) (n int) {
	for _, i := range items {
		if i.State == records.ItemReady {
			n += i.Restarts
		}
	}
	return n
}

// digestOf is the mark of what is ready of a batch: which credentials, and what the
// rehearsal of each came to.
func digestOf(items []records.BatchItem) string {
	hash := sha256.New()
	for _, i := range items {
		if i.State == records.ItemReady {
			fmt.Fprintf(hash, "%d %d %s %q\n", i.Position, i.CredentialID, i.Digest, i.Given)
		}
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// stillApproved says whether a batch is what somebody asked for.
func (batches *Batches) stillApproved(ctx context.Context, v records.Approval) error {
	_, _, err := batches.approved(ctx, v)
	return err
}

func (batches *Batches) approved(ctx context.Context, v records.Approval) (records.Batch, approvedBatch, error) {
	var asked approvedBatch
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return records.Batch{}, asked, err
	}
	batch, err := batches.startable(ctx, asked.Batch, asked.Despite)
	if err != nil {
		return batch, asked, err
	}
	items, err := batches.store.ItemsOf(ctx, batch.ID)
	if err == nil && digestOf(items) != asked.Digest {
		err = fmt.Errorf("%w: batch %d is not what was asked for any more: it was rehearsed again since, or a part of it was begun", app.ErrRefused, batch.ID)
	}
	return batch, asked, err
}

// startApproved starts what was approved.
func (batches *Batches) startApproved(ctx context.Context, by, asker access.Actor, v records.Approval) error {
	batch, asked, err := batches.approved(ctx, v)
	if err != nil {
		return err
	}
	batch.Consent = fmt.Sprintf("approved by %s, approval %d", by.Name, v.ID)
	if _, err := batches.start(ctx, asker, batch, asked.Despite); err != nil {
		return err
	}
	return batches.store.ApprovalWords(ctx, v.ID, fmt.Sprintf("started as batch %d", batch.ID))
}
