package picture

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id int64) (store.Account, error)
	DecideCopy(ctx context.Context, d store.CopyDecision, entries ...ledger.Entry) error
	Declare(ctx context.Context, d store.Declaration, system int64, entries ...ledger.Entry) (int64, error)
	Dependent(ctx context.Context, id int64) (store.Dependent, error)
	DependentsOfKey(ctx context.Context, fingerprint string) ([]store.Dependent, error)
	DependentsOfSystem(ctx context.Context, system int64) ([]store.Dependent, error)
	Credential(ctx context.Context, id store.CredentialID) (store.Credential, error)
	KeyOf(ctx context.Context, fingerprint string) (store.Credential, error)
	PasswordOf(ctx context.Context, account int64) (store.Credential, error)
	Credentials(ctx context.Context, q store.Query) (store.Page[store.Credential], error)
	Lookup(ctx context.Context) (*store.Lookup, error)
	NoteKeys(ctx context.Context) error
	PlaceUse(ctx context.Context, system int64, name string, account int64) error
	PutObserved(ctx context.Context, list []store.ObservedTie, before time.Time) error
	PutTies(ctx context.Context, derived map[int64][]ties.Tie) error
	PutUses(ctx context.Context, system int64, list []estate.Use) error
	SeenUses(ctx context.Context, account int64) ([]store.SeenUse, error)
	SetCheck(ctx context.Context, id int64, check *rotation.AppCheck, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (store.System, error)
	SystemByID(ctx context.Context, id int64) (store.System, error)
	TieSource(ctx context.Context) (ties.Known, error)
	UnplacedUses(ctx context.Context) (map[int64][]string, error)
	Unread(ctx context.Context) (list []store.Unread, all int, err error)
	Withdraw(ctx context.Context, id int64, by string, entries ...ledger.Entry) error
}
