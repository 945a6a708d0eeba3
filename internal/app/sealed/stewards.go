package sealed

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// An account by which we sign in to a system ourselves may be in custody too.
// The steward is then no second copy that goes stale when the account is
// rotated: the system is linked to the account, and its current value signs in
// there. While the account is being rotated, that is the value which the
// authority accepts at that moment; and a step of its own proves that we still
// get in everywhere.

// StewardPassword and StewardKey are what the values of a steward are sealed for,
// in the words of the first versions: sealed is sealed.
func StewardPassword(name string) string { return "logon/" + name + "/password" }

// StewardKey is what its private key is sealed for.
func StewardKey(name string) string { return "logon/" + name + "/key" }

// StewardBinding is what the link between a system and the account by which it is
// reached is sealed for.
func StewardBinding(system records.SystemID, steward string) string {
	return fmt.Sprintf("steward/system=%d/logon=%s", system, strings.ToLower(steward))
}

// Steward returns the credential in custody by which a system is reached.
func (keeper *Keeper) Steward(ctx context.Context, v records.System) (records.Credential, bool, error) {
	link, err := keeper.store.StewardLinkOf(ctx, v.ID)
	if errors.Is(err, app.ErrNotFound) {
		return records.Credential{}, false, nil
	}
	if err != nil {
		return records.Credential{}, false, err
	}
	sealed, err := keeper.base.Sealer.Open(StewardBinding(v.ID, v.Steward), link.Sealed)
	if err != nil || sealed.RevealString() != link.AccountID.String() {
		return records.Credential{}, false, nil //nolint:nilerr // of another steward, or written by somebody else
	}
	c, err := keeper.store.PasswordOf(ctx, link.AccountID)
	if errors.Is(err, app.ErrNotFound) {
		return records.Credential{}, false, nil
	}
	return c, err == nil, err
}

// StewardValues are the values that may be in force for a credential now, the
// most likely one first.
func (keeper *Keeper) StewardValues(ctx context.Context, id records.CredentialID) ([]secret.Value, error) {
	own, err := keeper.Values(ctx, id)
	if err != nil || own.Current.Empty() {
		return nil, err
	}
	r, err := keeper.store.UnfinishedOf(ctx, id)
	if errors.Is(err, app.ErrNotFound) || err == nil && r.Plan.Kind == rotation.KindAssign {
		return []secret.Value{own.Current}, nil
	}
	if err != nil {
		return nil, err
	}
	was, made, err := keeper.OfRotation(ctx, r)
	if err != nil || was == nil || made == nil {
		return []secret.Value{own.Current}, err
	}
	old, err := keeper.base.Sealer.Open(was.Binding(), was.Sealed)
	if err != nil {
		return nil, err
	}
	next, err := keeper.base.Sealer.Open(made.Binding(), made.Sealed)
	if err != nil {
		return nil, err
	}
	records, err := keeper.store.Journal(ctx, r.ID, 0)
	if err != nil {
		return nil, err
	}
	state, err := rotation.Fold(r.Plan, records)
	if err != nil {
		return nil, err
	}
	for i, step := range r.Plan.Steps {
		if step.Kind == rotation.StepChange {
			t := state.Steps[i]
			switch {
			case !t.Attempted:
				return []secret.Value{old}, nil
			case t.Status == rotation.Done:
				return []secret.Value{next, old}, nil
			}
			return []secret.Value{old, next}, nil
		}
	}
	return []secret.Value{own.Current}, nil
}
