package picture

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/lookup"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	DecideCopy(ctx context.Context, d records.CopyDecision, entries ...ledger.Entry) error
	Declare(ctx context.Context, d records.Declaration, system records.SystemID, entries ...ledger.Entry) (records.DeclarationID, error)
	Dependent(ctx context.Context, id records.DependentID) (records.Dependent, error)
	DependentsOfKey(ctx context.Context, fingerprint string) ([]records.Dependent, error)
	DependentsOfSystem(ctx context.Context, system records.SystemID) ([]records.Dependent, error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	KeyOf(ctx context.Context, fingerprint string) (records.Credential, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error)
	Lookup(ctx context.Context) (*lookup.Lookup, error)
	NamesAlike(ctx context.Context, folded string) ([]string, error)
	NoteKeys(ctx context.Context) error
	PlaceUse(ctx context.Context, system records.SystemID, name string, account records.AccountID) error
	PutObserved(ctx context.Context, list []records.ObservedTie, before time.Time) error
	PutTies(ctx context.Context, derived map[records.DependentID][]ties.Tie) error
	PutUses(ctx context.Context, system records.SystemID, list []estate.Use) error
	SeenUses(ctx context.Context, account records.AccountID) ([]records.SeenUse, error)
	SetLimit(ctx context.Context, id records.DependentID, limit *credential.Limit, entries ...ledger.Entry) error
	SetCheck(ctx context.Context, id records.DependentID, check *rotation.AppCheck, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (records.System, error)
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
	TieSource(ctx context.Context) (ties.Known, error)
	UnplacedUses(ctx context.Context) (map[records.SystemID][]string, error)
	Unread(ctx context.Context) (list []records.Unread, all int, err error)
	Withdraw(ctx context.Context, id records.DeclarationID, by string, entries ...ledger.Entry) error
}
