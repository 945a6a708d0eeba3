package operate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// Some acts take two people: one asks, another one approves. While only one
// person could approve, that person acts alone, and the act is marked so. From
// the second one on the rule holds, and lifting it is such an act itself.

// Kinds of approval.
const (
	approvalEndpoint = "endpoint"
	approvalRotation = "rotation"
	approvalPerson   = "person"
)

// RoleApprover is the role of those who approve.
const RoleApprover = "approver"

// alone: nobody else could approve what this person asks for.
func (o *Operator) alone(ctx context.Context, by string) (bool, error) {
	others, err := o.Store.Approvers(ctx, RoleApprover, by)
	return len(others) == 0, err
}

func (o *Operator) ask(ctx context.Context, request store.Approval, entry ledger.Entry) (int64, error) {
	entry.Actor, entry.Phase, entry.Subject, entry.Result, entry.Reason, entry.Changes = request.AskedBy, ledger.Intent, request.Subject, "asked", request.Reason, request.Changes
	return o.Store.AskApproval(ctx, request, entry)
}

// Approve approves a request of somebody else and does what was asked for.
// digest is that of the request as the person saw it.
func (o *Operator) Approve(ctx context.Context, by string, id int64, digest, words string) (store.Approval, error) {
	v, err := o.Store.Approval(ctx, id)
	if err != nil {
		return v, err
	}
	switch {
	case v.State != store.ApprovalAsked:
		return v, fmt.Errorf("%w: approval %d is %s", ErrRefused, id, v.State)
	case strings.EqualFold(v.AskedBy, by):
		return v, fmt.Errorf("%w: %s asked for it: somebody else approves it", ErrRefused, by)
	case digest != v.Digest:
		return v, fmt.Errorf("%w: approval %d is not what was looked at: look at it again", ErrRefused, id)
	}
	ctx = context.WithoutCancel(ctx)
	entry := ledger.Entry{Actor: by, Act: "approval.approve", Phase: ledger.Outcome, Subject: v.Subject, Ref: fmt.Sprintf("approval/%d", id), Result: "done", Reason: words, Detail: v.Kind + " asked by " + v.AskedBy, Changes: v.Changes}
	if v.Kind == approvalEndpoint {
		// What was approved must be what stands there.
		if err := o.sameEndpoints(ctx, v); err != nil {
			return v, err
		}
	}
	if err := o.Store.DecideApproval(ctx, id, store.ApprovalApproved, by, words, entry); err != nil {
		return v, err
	}
	defer o.bus.wake("all")
	if err := o.carryOut(ctx, by, v); err != nil {
		return v, errors.Join(err, o.Store.ApprovalWords(ctx, id, "approved, but it did not work: "+err.Error()))
	}
	return o.Store.Approval(ctx, id)
}

func (o *Operator) carryOut(ctx context.Context, by string, v store.Approval) error {
	switch v.Kind {
	case approvalEndpoint:
		systems, err := o.systemsOf(ctx, v)
		if err != nil {
			return err
		}
		words := fmt.Sprintf("asked by %s, approved by %s", v.AskedBy, by)
		return o.sealEndpoints(ctx, systems, words, ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: v.Subject, Result: "done", Detail: words, Ref: fmt.Sprintf("approval/%d", v.ID), Changes: v.Changes})
	case approvalRotation:
		return o.startApproved(ctx, by, v)
	case approvalPerson:
		var user store.User
		var asked approvedPerson
		if err := json.Unmarshal(v.Detail, &asked); err != nil {
			return err
		}
		user = asked.User
		user.Password = asked.Hash
		entry := ledger.Entry{Actor: v.AskedBy, Act: "user.change", Phase: ledger.Outcome, Subject: user.Name, Result: "done", Detail: "approved by " + by, Ref: fmt.Sprintf("approval/%d", v.ID), Changes: v.Changes}
		if asked.New {
			entry.Act = "user.add"
			return o.Store.AddUser(ctx, user, false, entry)
		}
		return o.Store.ChangeUser(ctx, user, asked.EndSessions, entry)
	}
	return fmt.Errorf("%w: an approval of the kind %q", ErrCannot, v.Kind)
}

func (o *Operator) systemsOf(ctx context.Context, v store.Approval) ([]store.System, error) {
	var out []store.System
	for _, id := range v.SystemIDs {
		system, err := o.Store.SystemByID(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, system)
	}
	return out, nil
}

// sameEndpoints: the changes that were asked for are those that stand there.
func (o *Operator) sameEndpoints(ctx context.Context, v store.Approval) error {
	systems, err := o.systemsOf(ctx, v)
	if err != nil {
		return err
	}
	var changes []ledger.Change
	for _, system := range systems {
		now, err := o.endpointOf(ctx, system)
		if err != nil {
			return err
		}
		was, err := o.sealedEndpoint(ctx, system)
		if err != nil {
			return err
		}
		changes = append(changes, endpointChanges(system.Name, was, now)...)
	}
	if len(changes) == 0 {
		return fmt.Errorf("%w: there is nothing to approve any more: everything is as it was approved before", ErrRefused)
	}
	for _, c := range changes {
		if !hasChange(v.Changes, c) {
			return fmt.Errorf("%w: %s is %q now, which is not what was asked for: ask again by changing the system again", ErrRefused, c.Field, c.To)
		}
	}
	return nil
}

func hasChange(list []ledger.Change, want ledger.Change) bool {
	for _, c := range list {
		if c == want {
			return true
		}
	}
	return false
}

// Refuse ends a request of somebody else, Withdraw one's own.
func (o *Operator) Refuse(ctx context.Context, by string, id int64, words string) (store.Approval, error) {
	v, err := o.Store.Approval(ctx, id)
	if err != nil {
		return v, err
	}
	state := store.ApprovalRefused
	if strings.EqualFold(v.AskedBy, by) {
		state = store.ApprovalWithdrawn
	}
	defer o.bus.wake("all")
	err = o.Store.DecideApproval(ctx, id, state, by, words, ledger.Entry{Actor: by, Act: "approval." + map[string]string{store.ApprovalRefused: "refuse", store.ApprovalWithdrawn: "withdraw"}[state], Phase: ledger.Outcome, Subject: v.Subject, Ref: fmt.Sprintf("approval/%d", id), Result: "done", Reason: words})
	if err != nil {
		return v, err
	}
	return o.Store.Approval(ctx, id)
}

// approvedRotation is what an approver lets somebody start.
type approvedRotation struct {
	Credential store.Credential `json:"credential"`
	Wish       Wish             `json:"wish"`
	Override   string           `json:"override"`
}

// Override starts a rotation without a rehearsal that passed, or asks for it:
// the approval of a second person stands in the rehearsal's place. It returns
// the rotation, or the approval that it waits for.
func (o *Operator) Override(ctx context.Context, by string, s Subject, wish Wish, reason, override string) (rotation, approval int64, err error) {
	if reason == "" || override == "" {
		return 0, 0, fmt.Errorf("%w: give a reason for the rotation, and why it should start without a rehearsal that passed", ErrInput)
	}
	alone, err := o.alone(ctx, by)
	if err != nil {
		return 0, 0, err
	}
	if alone {
		id, err := o.StartRotation(ctx, by, s, wish, reason, override+" (alone: nobody else could approve it)")
		return id, 0, err
	}
	if err := o.checkWish(&wish); err != nil {
		return 0, 0, err
	}
	detail, err := json.Marshal(approvedRotation{s.Credential(), wish, override})
	if err != nil {
		return 0, 0, err
	}
	approval, err = o.ask(ctx, store.Approval{Kind: approvalRotation, Subject: nameOf(s), What: "rotate " + nameOf(s) + " without a rehearsal that passed: " + override, Reason: reason, AskedBy: by, Detail: detail}, ledger.Entry{Act: "rotation.override", System: systemOf(s)})
	o.bus.wake("all")
	return 0, approval, err
}

func (o *Operator) startApproved(ctx context.Context, by string, v store.Approval) error {
	var asked approvedRotation
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return err
	}
	s, err := o.subject(ctx, asked.Credential)
	if err != nil {
		return err
	}
	id, err := o.StartRotation(ctx, v.AskedBy, s, asked.Wish, v.Reason, fmt.Sprintf("%s (approved by %s, approval %d)", asked.Override, by, v.ID))
	if err != nil {
		return err
	}
	return o.Store.ApprovalWords(ctx, v.ID, fmt.Sprintf("started as rotation %d", id))
}

// approvedPerson is a person as they shall be.
type approvedPerson struct {
	User        store.User `json:"user"`
	Hash        string     `json:"hash"` // argon2id
	New         bool       `json:"new"`
	EndSessions bool       `json:"end_sessions"`
}

// ChangePerson adds or changes a person, or asks for it when it gives, takes or
// takes over the power to approve: that could lift the rule of two. It returns
// the approval that it waits for, or 0.
func (o *Operator) ChangePerson(ctx context.Context, by string, before, after store.User, isNew, endSessions bool, entry ledger.Entry) (int64, error) {
	delicate := false
	for _, role := range append(append([]string{}, before.Roles...), after.Roles...) {
		delicate = delicate || role == RoleApprover
	}
	alone, err := o.alone(ctx, by)
	if err != nil {
		return 0, err
	}
	if delicate && !alone {
		detail, err := json.Marshal(approvedPerson{after, after.Password, isNew, endSessions})
		if err != nil {
			return 0, err
		}
		what := "change the person " + after.Name
		if isNew {
			what = "add the person " + after.Name + " (" + strings.Join(after.Roles, ", ") + ")"
		}
		defer o.bus.wake("all")
		return o.ask(ctx, store.Approval{Kind: approvalPerson, Subject: after.Name, What: what, Changes: entry.Changes, AskedBy: by, Detail: detail}, ledger.Entry{Act: entry.Act})
	}
	if delicate {
		entry.Detail = strings.TrimPrefix(entry.Detail+"; alone: nobody else could approve it", "; ")
	}
	if isNew {
		return 0, o.Store.AddUser(ctx, after, false, entry)
	}
	return 0, o.Store.ChangeUser(ctx, after, endSessions, entry)
}
