package inventory

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// approveHostKey pins a host key. It must be the key that the host offers right
// now: approving what one has read elsewhere and something else being pinned is
// what this prevents. Who pins the key of a host that somebody else asked for
// has approved it.
func (inventory *Inventory) approveHostKey(ctx context.Context, by string, v records.System, fingerprint string) error {
	offered, err := inventory.offeredKey(ctx, v)
	if err != nil {
		return err
	}
	if offered == "" {
		return fmt.Errorf("%w: %s offers no host key now: check it without --approve first", app.ErrRefused, v.Name)
	}
	if offered != fingerprint {
		return fmt.Errorf("%w: %s offers the host key %s, not %s", app.ErrRefused, v.Name, offered, fingerprint)
	}
	return inventory.approveOffered(ctx, by, v, fingerprint)
}

// offeredKey is the key that a host offers now; "" when none was seen.
func (inventory *Inventory) offeredKey(ctx context.Context, v records.System) (string, error) {
	connector, target, err := inventory.targetWithoutSecrets(ctx, v)
	if err != nil {
		return "", err
	}
	target.HostKeys = nil
	return connector.Check(ctx, target).Facts.Fingerprint, nil
}

// approveOffered pins a key that the host offered just now.
func (inventory *Inventory) approveOffered(ctx context.Context, by string, v records.System, fingerprint string) error {
	waits, waitErr := inventory.store.WaitsFor(ctx, v.ID)
	before := strings.Join(v.HostKeys, " ")
	entry := ledger.Entry{Actor: by, Act: "system.approve-host-key", Phase: ledger.Outcome, Subject: fingerprint, System: v.Name, Result: "done", Changes: ledger.Diff([3]string{"host key", before, fingerprint})}
	if err := inventory.store.ApproveHostKey(ctx, v.ID, fingerprint, by, entry); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	v, err := inventory.store.System(ctx, v.Name)
	if err != nil {
		return err
	}
	// A key takes the place of another only as any change of an endpoint does.
	if waitErr == nil && before == "" && !strings.EqualFold(waits.AskedBy, by) {
		words := fmt.Sprintf("asked by %s, approved by %s with its host key", waits.AskedBy, by)
		entry := ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done", Detail: words, Ref: fmt.Sprintf("approval/%d", waits.ID), Changes: waits.Changes}
		if err := inventory.store.DecideApproval(ctx, waits.ID, records.ApprovalApproved, by, "with its host key"); err != nil {
			return err
		}
		return inventory.sealEndpoints(ctx, []records.System{v}, words, entry)
	}
	_, err = inventory.trust(ctx, by, "host key", v)
	return err
}
