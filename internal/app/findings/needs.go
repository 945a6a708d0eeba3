package findings

import (
	"context"
	"time"

	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id int64) (store.Account, error)
	AccountsWithTies(ctx context.Context) ([]store.Account, error)
	AllSystems(ctx context.Context) ([]store.System, error)
	PasswordOf(ctx context.Context, account int64) (store.Credential, error)
	CustodyGone(ctx context.Context) ([]store.Account, error)
	Declarations(ctx context.Context, account int64) ([]store.Declaration, error)
	HeldScopes(ctx context.Context) ([]store.HeldScope, error)
	HoldingFingerprint(ctx context.Context, fingerprint string) ([]store.Dependent, error)
	KeyUses(ctx context.Context) ([]store.KeyUse, error)
	Replaced(ctx context.Context) ([]store.ReplacedAccount, error)
	Reused(ctx context.Context) ([]store.Reuse, error)
	SetFindings(ctx context.Context, scope string, list []store.Finding) error
	UnusedAccounts(ctx context.Context, since time.Time) ([]store.Account, error)
	Unread(ctx context.Context) (list []store.Unread, all int, err error)
}
