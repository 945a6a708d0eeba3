package custody

import (
	"context"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// A value that was replaced stays sealed for a time, so that its rotation can be undone.
// Only what is proven to be refused is erased after that (law 2), never what might be in
// force; and nothing that somebody is about to undo.

// rehearsedLately is for how long after a rehearsal nothing is erased: undoing needs one
// that is not older than an hour.
const rehearsedLately = 2 * time.Hour

// EraseFormer erases former values whose time is over.
func (custody *Custody) EraseFormer(ctx context.Context) (string, error) {
	now := custody.base.Now()
	list, err := custody.store.FormerValues(ctx, now.Add(-rehearsedLately))
	if err != nil {
		return "", err
	}
	of := map[records.CredentialID][]records.FormerValue{}
	var order []records.CredentialID
	for _, v := range list {
		if now.Before(v.Ended.AddDate(0, 0, v.Days)) {
			continue
		}
		if len(of[v.CredentialID]) == 0 {
			order = append(order, v.CredentialID)
		}
		of[v.CredentialID] = append(of[v.CredentialID], v)
	}
	var erased int64
	for _, id := range order {
		ids := make([]records.SecretID, 0, len(of[id]))
		for _, v := range of[id] {
			ids = append(ids, v.ID)
		}
		one := of[id][0]
		entry := ledger.Entry{Actor: app.ByService, Act: "custody.erase", Phase: ledger.Outcome, Subject: one.Credential, System: one.System, Result: "done", Ref: id.Ref(), Detail: fmt.Sprintf("%d former values, refused for more than %d days", len(ids), one.Days)}
		n, err := custody.store.EraseFormer(ctx, ids, now.Add(-rehearsedLately), entry)
		if err != nil {
			return fmt.Sprintf("%d former values erased", erased), err
		}
		erased += n
	}
	return fmt.Sprintf("%d former values erased", erased), nil
}
