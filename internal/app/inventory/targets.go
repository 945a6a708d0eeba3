package inventory

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/traced"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// Authority is where an account's credential is decided.
func (inventory *Inventory) Authority(ctx context.Context, a records.Account) (connect.Connector, connect.Target, error) {
	v, err := inventory.store.SystemByID(ctx, a.SystemID)
	if err != nil {
		return nil, connect.Target{}, err
	}
	connector, target, err := inventory.Target(ctx, v)
	if err != nil {
		return nil, target, err
	}
	if !connector.Describe().Can(connect.ActVerify) {
		return nil, target, fmt.Errorf("%w: %s cannot verify a credential", app.ErrCannot, v.Name)
	}
	return connector, target, nil
}

// RefOf is how a connector is told of an account.
func RefOf(a records.Account) connect.AccountRef {
	return connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
}

// Target makes a connector's target of a system, with its steward opened. It is
// the only way to a target, so nothing secret goes to an endpoint that was not
// approved.
func (inventory *Inventory) Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error) {
	connector, t, err := inventory.targetWithoutSecrets(ctx, v)
	if err != nil {
		return nil, t, err
	}
	if err := inventory.approvedEndpoint(ctx, v); err != nil {
		return nil, t, err
	}
	if v.Steward != "" {
		steward, err := inventory.store.Steward(ctx, v.Steward)
		if err != nil {
			return nil, t, err
		}
		t.Steward.Account = steward.Account
		if t.Steward.Password, err = inventory.base.Open(sealed.StewardPassword(steward.Name), steward.SealedPassword); err != nil {
			return nil, t, fmt.Errorf("steward %q: %w", steward.Name, err)
		}
		if t.Steward.PrivateKey, err = inventory.base.Open(sealed.StewardKey(steward.Name), steward.SealedKey); err != nil {
			return nil, t, fmt.Errorf("steward %q: %w", steward.Name, err)
		}
		if err := inventory.signIn(ctx, connector, &t, v); err != nil {
			return nil, t, fmt.Errorf("steward %q: %w", steward.Name, err)
		}
	}
	return connector, t, nil
}

// place is a target without anything secret.
func (inventory *Inventory) targetWithoutSecrets(ctx context.Context, v records.System) (connect.Connector, connect.Target, error) {
	connector, ok := connect.For(estate.Kind(v.Kind))
	if !ok {
		return nil, connect.Target{}, fmt.Errorf("%w: %s: nothing here reaches the kind %q", app.ErrCannot, v.Name, v.Kind)
	}
	t := connect.Target{
		SystemID: v.ID.String(), Name: v.Name, Kind: estate.Kind(v.Kind), Address: v.Address, Port: v.Port,
		TrustedCA: v.TrustedCA, HostKeys: v.HostKeys, Identity: v.Facts.Identity,
	}
	if inventory.traced != nil {
		connector = traced.Of(connector, inventory.traced(v.ID))
	}
	var err error
	if t.Options, err = inventory.optionsFor(ctx, v); err != nil {
		return nil, t, err
	}
	return connector, t, nil
}

// Traced has what is sent to a system be told to what f says of it.
func (inventory *Inventory) Traced(f func(records.SystemID) connect.Tracer) { inventory.traced = f }
