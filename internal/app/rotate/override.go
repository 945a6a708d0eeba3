package rotate

import (
	"context"
	"encoding/json"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// approvedRotation is what an approver lets somebody start.
type approvedRotation struct {
	Credential records.CredentialID `json:"credential"`
	Wish       planning.Request     `json:"wish"`
	Override   string               `json:"override,omitempty"`
	Digest     string               `json:"digest,omitempty"` // of the rehearsal that was approved; empty for an override
}

// Override starts a rotation without a rehearsal that passed, or asks for it:
// the approval of a second person stands in the rehearsal's place. It returns
// the rotation, or the approval that it waits for.
func (rotations *Rotations) Override(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, override string) (rotationID records.RotationID, approvalID records.ApprovalID, err error) {
	if err := access.Decide(by, access.OverrideRotation, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return 0, 0, err
	}
	if reason == "" || override == "" {
		return 0, 0, fmt.Errorf("%w: give a reason for the rotation, and why it should start without a rehearsal that passed", app.ErrInput)
	}
	alone, err := rotations.approval.Alone(ctx, by.Name)
	if err != nil {
		return 0, 0, err
	}
	if alone {
		id, err := rotations.Start(ctx, by, c, wish, reason, override+" (alone: nobody else could approve it)")
		return id, 0, err
	}
	if err := wish.Check(rotations.base.Now()); err != nil {
		return 0, 0, err
	}
	detail, err := json.Marshal(approvedRotation{Credential: c.ID, Wish: wish, Override: override})
	if err != nil {
		return 0, 0, err
	}
	approvalID, err = rotations.approval.Ask(ctx, records.Approval{Kind: approval.KindRotation, Subject: c.Name, What: "rotate " + c.Name + " without a rehearsal that passed: " + override, Reason: reason, AskedBy: by.Name, Detail: detail}, ledger.Entry{Act: "rotation.override", System: c.System})
	rotations.base.Topics.Wake("all")
	return 0, approvalID, err
}

func (rotations *Rotations) startApproved(ctx context.Context, by, asker access.Actor, v records.Approval) error {
	var asked approvedRotation
	if err := json.Unmarshal(v.Detail, &asked); err != nil {
		return fmt.Errorf("%w: it was asked for in an earlier version (%w): ask again", app.ErrRefused, err)
	}
	if asked.Wish.OnFailure == "" {
		return fmt.Errorf("%w: it was asked for in an earlier version: ask again", app.ErrRefused)
	}
	c, err := rotations.store.Credential(ctx, asked.Credential)
	if err != nil {
		return err
	}
	if asked.Digest != "" {
		id, err := rotations.startConsented(ctx, by, asker, c, asked, v)
		if err != nil {
			return err
		}
		return rotations.store.ApprovalWords(ctx, v.ID, fmt.Sprintf("started as rotation %d", id))
	}
	id, err := rotations.start(ctx, asker, c, asked.Wish, v.Reason, fmt.Sprintf("%s (approved by %s, approval %d)", asked.Override, by.Name, v.ID), consent{approved: fmt.Sprintf("approved by %s, approval %d", by.Name, v.ID)})
	if err != nil {
		return err
	}
	return rotations.store.ApprovalWords(ctx, v.ID, fmt.Sprintf("started as rotation %d", id))
}
