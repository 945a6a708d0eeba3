// Package planning makes the plan of a rotation or an assignment out of the picture:
// where a credential is accepted, what holds it, what has to be restarted, and what a
// person should know before.
package planning

import (
	"context"
	"time"

	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AllSystems(ctx context.Context) ([]records.System, error)
	Chain(ctx context.Context, fingerprint string) (chain string, authority records.SystemID, err error)
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	CopyDecisions(ctx context.Context) (map[records.SystemID]map[string]records.CopyDecision, error)
	Dependent(ctx context.Context, id records.DependentID) (records.Dependent, error)
	DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error)
	DependentsOfKey(ctx context.Context, fingerprint string) ([]records.Dependent, error)
	DependentsOfSystem(ctx context.Context, system records.SystemID) ([]records.Dependent, error)
	DomainsOf(ctx context.Context) (map[records.SystemID][]string, error)
	Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error)
	System(ctx context.Context, idOrName string) (records.System, error)
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
	TandemOf(ctx context.Context, id records.CredentialID) (records.Tandem, error)
	UndoDays(ctx context.Context, id records.CredentialID) (int, error)
}

// Planning makes plans. It changes nothing on any system.
type Planning struct {
	store     Store
	sealed    *sealed.Keeper
	custody   *custody.Custody
	inventory *inventory.Inventory
	picture   *picture.Picture
	policies  *policies.Policies
	now       func() time.Time
	settled   func(context.Context)
}

// New makes a Planning. settled waits until the picture shows what earlier
// rotations changed.
func New(store Store, keeper *sealed.Keeper, custody *custody.Custody, inventory *inventory.Inventory, picture *picture.Picture, policies *policies.Policies, now func() time.Time, settled func(context.Context)) *Planning {
	return &Planning{store, keeper, custody, inventory, picture, policies, now, settled}
}
