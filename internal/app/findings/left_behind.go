package findings

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/records"
)

// LeftBehind looks, after a rotation, for what still holds the value that it
// replaced.
func (engine *Engine) LeftBehind(ctx context.Context, r records.Rotation) error {
	old, next, err := engine.sealed.OfRotation(ctx, r)
	if err != nil || old == nil || next == nil {
		return err
	}
	loser := old
	if next.State != records.SecretCurrent {
		loser = next
	}
	holding, err := engine.store.HoldingFingerprint(ctx, loser.Fingerprint)
	if err != nil {
		return err
	}
	key := fmt.Sprintf("left-behind/%d/", r.CredentialID)
	var list []records.Finding
	for _, d := range holding {
		list = append(list, records.Finding{
			Key: fmt.Sprintf("%s%d", key, d.ID), Kind: "left-behind", Severity: "high", Subject: d.Place, System: d.System, AccountID: r.AccountID, DependentID: d.ID, CredentialID: r.CredentialID,
			What: fmt.Sprintf("it still holds the value of %s that rotation %d replaced", r.Credential, r.ID), Next: "find out what reads it: it is refused at its next sign-in; then change or remove it",
		})
	}
	return engine.store.SetFindings(ctx, key, list)
}
