package survey

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// sightOf is what a reading depends on beside the system itself.
func (surveys *Surveys) sightOf(t connect.Target) string {
	return surveys.base.Mark("sight", fmt.Sprintf("%s\x00%s\x00%d\x00%s\x00%s", t.Steward.Account, t.Address, t.Port, t.Options["base"], t.Options["database"]))
}

// mostAsked is how many vanished accounts are asked for one by one; more are a
// question for a person anyway.
const mostAsked = 60

// askForVanished asks for accounts that a complete reading did not see, each by
// itself: absence needs proof.
func (surveys *Surveys) askForVanished(ctx context.Context, v records.System, connector connect.Connector, target connect.Target, end *store.ScopeEnd) error {
	if !connector.Describe().Can(connect.ActAsk) {
		return nil
	}
	gone, _, err := surveys.store.Vanished(ctx, v.ID, *end)
	if err != nil || len(gone) == 0 || len(gone) > mostAsked {
		return err
	}
	refs := make([]connect.AccountRef, len(gone))
	for i, id := range gone {
		a, err := surveys.store.Account(ctx, records.AccountID(id))
		if err != nil {
			return err
		}
		refs[i] = inventory.RefOf(a)
	}
	present, err := connector.StillThere(ctx, target, refs)
	if err != nil {
		return err
	}
	if len(present) != len(gone) { // what was not answered is not gone
		return fmt.Errorf("%s answered about %d of %d accounts", v.Name, len(present), len(gone))
	}
	end.Stays = map[int64]bool{}
	for i, p := range present {
		if p != connect.PresenceGone {
			end.Stays[gone[i]] = true
		}
	}
	return nil
}

// ConfirmAbsence is a person's word that what vanished from a system is gone.
// The system is read again, and what is not seen then is marked so.
func (surveys *Surveys) ConfirmAbsence(ctx context.Context, by access.Actor, system, reason string) (survey records.SurveyID, err error) {
	if err := access.Decide(by, access.ConfirmAbsence, access.Object{Kind: "system", Name: system}); err != nil {
		return 0, err
	}
	if reason == "" {
		return 0, fmt.Errorf("%w: give a reason: accounts and places will be shown as gone", app.ErrInput)
	}
	v, err := surveys.store.System(ctx, system)
	if err != nil {
		return 0, err
	}
	if _, err := surveys.store.ConfirmAbsence(ctx, v.ID, ledger.Entry{Actor: by.Name, Act: "system.confirm-absence", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Reason: reason, Result: "done"}); err != nil {
		return 0, err
	}
	return surveys.Start(ctx, by, []string{v.Name})
}
