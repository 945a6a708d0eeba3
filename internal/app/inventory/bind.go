package inventory

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

const actBound = "service.bind"

// BindExisting takes over a database from before secrets were bound: once, and
// the ledger says so, which nobody can take back to have it done again.
func (inventory *Inventory) BindExisting(ctx context.Context) error {
	if inventory.store.LedgerTrouble() != nil {
		return nil //nolint:nilerr // a ledger in trouble is told elsewhere; nothing is bound then
	}
	done, err := inventory.store.HasAct(ctx, actBound)
	if err != nil || done {
		return err
	}
	all, err := inventory.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	kept, err := inventory.store.InCustody(ctx)
	if err != nil {
		return err
	}
	resealed := map[records.SecretID][]byte{}
	for _, c := range kept {
		list, err := inventory.store.Secrets(ctx, c.ID)
		if err != nil {
			return err
		}
		for _, s := range list {
			if _, err := inventory.base.Sealer.Open(s.Binding(), s.Sealed); err == nil {
				continue
			}
			value, err := inventory.base.Sealer.Open(s.FormerBinding(), s.Sealed)
			if err != nil {
				return fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
			if resealed[s.ID], err = inventory.base.Sealer.Seal(s.Binding(), value); err != nil {
				return err
			}
		}
	}
	if err := inventory.store.Reseal(ctx, resealed); err != nil {
		return err
	}
	if err := inventory.store.MarkUsers(ctx); err != nil {
		return err
	}
	cleaned, err := inventory.store.CleanTexts(ctx, inventory.base.Redactor(ctx).Text)
	if err != nil {
		return err
	}
	return inventory.sealEndpoints(ctx, all, "as it was before endpoints were approved", ledger.Entry{
		Actor: app.ByService, Act: actBound, Phase: ledger.Outcome, Result: "done", Detail: fmt.Sprintf("endpoints of %s sealed as they were, %d values bound to their systems, people marked, secrets taken out of %d texts", app.Counted(len(all)), len(resealed), cleaned),
	})
}
