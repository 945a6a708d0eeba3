// Package acts does the acts of rotations through the connectors: it changes what an
// authority accepts, replaces copies and log-ons, restarts, and proves, and finds out
// afterwards what became of an act whose answer was lost. Hands are those of one rotation.
//
// What may be done, and when, is decided elsewhere (package rotation of the core); here
// is only how.
package acts

import (
	"context"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddCandidate(ctx context.Context, v records.Secret) error
	Chain(ctx context.Context, fingerprint string) (chain string, authority records.SystemID, err error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	Journal(ctx context.Context, id records.RotationID, after int64) ([]rotation.Record, error)
	KeepChain(ctx context.Context, fingerprint, chain string, authority records.SystemID) error
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	Rotation(ctx context.Context, id records.RotationID) (records.Rotation, error)
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
}

// Acts makes hands.
type Acts struct {
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	inventory *inventory.Inventory
	custody   *custody.Custody
	turns     app.Turns // at files that acts change
}

// New makes Acts.
func New(base *app.Base, store Store, keeper *sealed.Keeper, inventory *inventory.Inventory, custody *custody.Custody) *Acts {
	return &Acts{base: base, store: store, sealed: keeper, inventory: inventory, custody: custody}
}

// State reads a rotation with its steps as they are now.
func (a *Acts) State(ctx context.Context, id records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error) {
	r, err := a.store.Rotation(ctx, id)
	if err != nil {
		return r, rotation.State{}, nil, err
	}
	records, err := a.store.Journal(ctx, id, 0)
	if err != nil {
		return r, rotation.State{}, nil, err
	}
	state, err := rotation.Fold(r.Plan, records)
	return r, state, records, err
}

// Hands do the acts of one rotation.
type Hands struct {
	Rotation   records.Rotation
	Credential records.Credential
	Account    records.Account // whose password it is; zero for a key
	Next       records.Account // that takes its place, where two accounts take turns; zero otherwise

	acts    *Acts
	had     sync.Map // connections before a restart, by place: []estate.Socket
	numbers sync.Map // of the authority's keys, by whether it was put back: int
}

// Of makes ready to do, or to look at, what a rotation does.
func (a *Acts) Of(ctx context.Context, r records.Rotation) (*Hands, error) {
	h := &Hands{acts: a, Rotation: r}
	var err error
	if h.Credential, err = a.store.Credential(ctx, r.CredentialID); err != nil {
		return nil, err
	}
	if r.AccountID != 0 {
		if h.Account, err = a.store.Account(ctx, r.AccountID); err != nil {
			return h, err
		}
	}
	if turn := r.Plan.Turn; turn != nil {
		h.Next, err = a.store.Account(ctx, app.Number[records.AccountID](turn.AccountID))
	}
	return h, err
}

// InForce opens the value that a rotation took away, and the one that it left in force:
// of one that was undone, the old one.
func (h *Hands) InForce(ctx context.Context, step rotation.Step, state rotation.State) (gone, in secret.Value, err error) {
	old, next, err := h.secrets(ctx, step)
	if state.Result == rotation.FinishedUndone {
		return next, old, err
	}
	return old, next, err
}
