package inventory

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// signIn puts the value in force into a target. Where two may be, the system
// itself says which one is.
func (inventory *Inventory) signIn(ctx context.Context, connector connect.Connector, t *connect.Target, v records.System) error {
	c, linked, err := inventory.sealed.Steward(ctx, v)
	if err != nil || !linked {
		return err
	}
	values, err := inventory.sealed.StewardValues(ctx, c.ID)
	if err != nil || len(values) == 0 {
		return err // not in custody any more: the stored value counts
	}
	t.Steward.Password = values[0]
	if len(values) == 1 {
		return nil
	}
	for _, stage := range connector.Check(ctx, *t).Stages {
		if stage.Stage == connect.StageSignIn && !stage.OK && stage.Code == connect.CodeStewardRefused {
			t.Steward.Password = values[1]
		}
	}
	return nil
}

// SaveSteward seals and stores a steward.
func (inventory *Inventory) SaveSteward(ctx context.Context, by access.Actor, name, account string, password, key secret.Value) error {
	if err := access.Decide(by, access.SaveSteward, access.Object{Kind: "steward", Name: name}); err != nil {
		return err
	}
	if name == "" || account == "" || password.Empty() && key.Empty() {
		return fmt.Errorf("%w: a steward needs a name, an account, and a password or a private key", app.ErrInput)
	}
	// A name in another letter case is the same one, and sealed under that.
	if have, err := inventory.store.Steward(ctx, name); err == nil {
		name = have.Name
	} else if !errors.Is(err, app.ErrNotFound) {
		return err
	}
	sealedPassword, err := inventory.base.Seal(sealed.StewardPassword(name), password)
	if err != nil {
		return err
	}
	sealedKey, err := inventory.base.Seal(sealed.StewardKey(name), key)
	if err != nil {
		return err
	}
	return inventory.store.SaveSteward(ctx, records.Steward{Name: name, Account: account, SealedPassword: sealedPassword, SealedKey: sealedKey},
		ledger.Entry{Actor: by.Name, Act: "steward.save", Phase: ledger.Outcome, Subject: name, Result: "done"})
}

// RemoveSteward removes a steward that no system uses.
func (inventory *Inventory) RemoveSteward(ctx context.Context, by access.Actor, name string) error {
	if err := access.Decide(by, access.RemoveSteward, access.Object{Kind: "steward", Name: name}); err != nil {
		return err
	}
	return inventory.store.RemoveSteward(ctx, name, ledger.Entry{Actor: by.Name, Act: "steward.remove", Phase: ledger.Outcome, Subject: name, Result: "done"})
}
