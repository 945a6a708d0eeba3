// Package approval is about acts that take two people: one asks, another one
// approves. While only one person could approve, that person acts alone, and the
// act is marked so. From the second one on the rule holds, and lifting it is such
// an act itself. What is done when a request is approved is carried out by the
// package that asked (see Carrier).
package approval

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Approvals asks for approvals and decides them.
type Approvals struct {
	base     *app.Base
	store    Store
	carriers map[string]Carrier
}

// New makes Approvals that nobody carries out yet.
func New(base *app.Base, store Store) *Approvals {
	return &Approvals{base: base, store: store, carriers: map[string]Carrier{}}
}

// Some acts take two people: one asks, another one approves. While only one
// person could approve, that person acts alone, and the act is marked so. From
// the second one on the rule holds, and lifting it is such an act itself.

// Kinds of approval.
const (
	KindEndpoint = "endpoint"
	KindRotation = "rotation"
	KindPerson   = "person"
	// KindRequirement is to change or remove for which rotations a second person is needed.
	KindRequirement = "requirement"
	KindBatch       = "batch"
	// KindAmendment is to give and take rights, or to undo that once it is finished.
	KindAmendment = "amendment"
	// KindConfiguration is to apply a text that changes what takes two people.
	KindConfiguration = "configuration"
)

// Alone: nobody else could approve what this person asks for.
func (approvals *Approvals) Alone(ctx context.Context, by string) (bool, error) {
	others, err := approvals.store.PersonsWithRole(ctx, access.RoleApprover, by)
	return len(others) == 0, err
}

// Ask writes a request down, with its intent in the ledger, and returns its number.
func (approvals *Approvals) Ask(ctx context.Context, request records.Approval, entry ledger.Entry) (records.ApprovalID, error) {
	entry.Actor, entry.Phase, entry.Subject, entry.Result, entry.Reason, entry.Changes = request.AskedBy, ledger.Intent, request.Subject, "asked", request.Reason, request.Changes
	return approvals.store.AskApproval(ctx, request, entry)
}

// Approve approves a request of somebody else and does what was asked for.
// digest is that of the request as the person saw it.
func (approvals *Approvals) Approve(ctx context.Context, by access.Actor, id records.ApprovalID, digest, words string) (records.Approval, error) {
	v, err := approvals.store.Approval(ctx, id)
	if err != nil {
		return v, err
	}
	if err := access.Decide(by, access.Approve, access.Object{Kind: "approval", Name: fmt.Sprint(id), AskedBy: v.AskedBy}); err != nil {
		return v, err
	}
	switch {
	case v.State != records.ApprovalAsked:
		return v, fmt.Errorf("%w: approval %d is %s", app.ErrRefused, id, v.State)
	case !v.Expires.IsZero() && approvals.base.Now().After(v.Expires):
		return v, fmt.Errorf("%w: approval %d waited until %s only: it has to be asked for again", app.ErrRefused, id, v.Expires.UTC().Format(time.RFC3339))
	case digest != v.Digest:
		return v, fmt.Errorf("%w: approval %d is not what was looked at: look at it again", app.ErrRefused, id)
	}
	ctx = context.WithoutCancel(ctx)
	entry := ledger.Entry{Actor: by.Name, Act: "approval.approve", Phase: ledger.Outcome, Subject: v.Subject, Ref: fmt.Sprintf("approval/%d", id), Result: "done", Reason: words, Detail: v.Kind + " asked by " + v.AskedBy, Changes: v.Changes}
	carrier, known := approvals.carriers[v.Kind]
	if !known {
		return v, fmt.Errorf("%w: an approval of the kind %q", app.ErrCannot, v.Kind)
	}
	asker, err := approvals.stillMay(ctx, v, carrier.Action)
	if err != nil {
		return v, err
	}
	if carrier.Still != nil {
		if err := carrier.Still(ctx, v); err != nil {
			return v, err
		}
	}
	if err := approvals.store.DecideApproval(ctx, id, records.ApprovalApproved, by.Name, carrying, entry); err != nil {
		return v, err
	}
	defer approvals.base.Topics.Wake("all")
	if err := carrier.CarryOut(ctx, by, asker, v); err != nil {
		return v, errors.Join(err, approvals.store.ApprovalWords(ctx, id, "approved, but it did not work: "+err.Error()))
	}
	v, err = approvals.store.Approval(ctx, id)
	if err != nil || v.Words != carrying {
		return v, err // who carried it out said what came of it
	}
	v.Words = words
	return v, approvals.store.ApprovalWords(ctx, id, words)
}

// stillMay is who asked, when they may still do what they asked for: a role that
// was taken since, or a person who was disabled, ends what waits as well.
func (approvals *Approvals) stillMay(ctx context.Context, v records.Approval, action access.Action) (access.Actor, error) {
	if service := access.Service(); service.Is(v.AskedBy) {
		return service, nil
	}
	user, err := approvals.store.User(ctx, v.AskedBy)
	if err != nil && !errors.Is(err, app.ErrNotFound) {
		return access.Actor{}, err
	}
	asker := access.Actor{Name: user.Name, Roles: user.Roles}
	if err != nil || user.Disabled || access.Decide(asker, action, access.Object{}) != nil {
		return asker, fmt.Errorf("%w: %s, who asked for it, may not do it any more: refuse it, and let somebody else ask", app.ErrRefused, v.AskedBy)
	}
	return asker, nil
}

// carrying stands with what was approved while it is carried out; after a crash it stands
// there still.
const carrying = "it is being carried out"

// Recover tells of what was approved and not carried out to its end when the service ended.
func (approvals *Approvals) Recover(ctx context.Context) error {
	page, err := approvals.store.Approvals(ctx, records.Query{Filters: []string{"state=" + records.ApprovalApproved}, Limit: 200})
	if err != nil {
		return err
	}
	for _, v := range page.Items {
		if v.Words != carrying {
			continue
		}
		if err := approvals.store.ApprovalWords(ctx, v.ID, "approved, and the service ended while it was carried out: look whether it was done, and ask again if not"); err != nil {
			return err
		}
	}
	return nil
}

// Expire ends requests that nobody approved in time.
func (approvals *Approvals) Expire(ctx context.Context) (string, error) {
	n, err := approvals.store.ExpireApprovals(ctx)
	if n > 0 {
		approvals.base.Topics.Wake("all")
	}
	return fmt.Sprintf("%d requests ended", n), err
}

// Carrier does what was approved.
type Carrier struct {
	Action access.Action // that was asked for: who asked must still be allowed it
	// Still says whether what was asked for is what stands there; nil when nothing
	// could have changed meanwhile.
	Still func(ctx context.Context, v records.Approval) error
	// CarryOut does it, approved by one and asked for by another.
	CarryOut func(ctx context.Context, by, asker access.Actor, v records.Approval) error
}

// Carry says who carries out the approvals of a kind.
func (approvals *Approvals) Carry(kind string, c Carrier) { approvals.carriers[kind] = c }

// Refuse ends a request of somebody else, Withdraw one's own.
func (approvals *Approvals) Refuse(ctx context.Context, by access.Actor, id records.ApprovalID, words string) (records.Approval, error) {
	v, err := approvals.store.Approval(ctx, id)
	if err != nil {
		return v, err
	}
	if err := access.Decide(by, access.RefuseApproval, access.Object{Kind: "approval", Name: fmt.Sprint(id), AskedBy: v.AskedBy}); err != nil {
		return v, err
	}
	state := records.ApprovalRefused
	if by.Is(v.AskedBy) {
		state = records.ApprovalWithdrawn
	}
	defer approvals.base.Topics.Wake("all")
	err = approvals.store.DecideApproval(ctx, id, state, by.Name, words, ledger.Entry{Actor: by.Name, Act: "approval." + map[string]string{records.ApprovalRefused: "refuse", records.ApprovalWithdrawn: "withdraw"}[state], Phase: ledger.Outcome, Subject: v.Subject, Ref: fmt.Sprintf("approval/%d", id), Result: "done", Reason: words})
	if err != nil {
		return v, err
	}
	return approvals.store.Approval(ctx, id)
}
