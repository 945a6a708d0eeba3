package findings

import (
	"context"
	"time"

	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AccountsWithTies(ctx context.Context) ([]records.Account, error)
	AllPolicies(ctx context.Context) ([]records.Policy, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	CustodyGone(ctx context.Context) ([]records.Account, error)
	Declarations(ctx context.Context, account records.AccountID) ([]records.Declaration, error)
	EndsInUse(ctx context.Context, after, until time.Time, most int) ([]records.EndRow, error)
	HeldScopes(ctx context.Context) ([]records.HeldScope, error)
	HoldingFingerprint(ctx context.Context, fingerprint string) ([]records.Dependent, error)
	KeyUses(ctx context.Context) ([]records.KeyUse, error)
	LogOnChanges(ctx context.Context, system records.SystemID, since time.Time) ([]records.SeenChange, error)
	Replaced(ctx context.Context) ([]records.ReplacedAccount, error)
	Reused(ctx context.Context) ([]records.Reuse, error)
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	UnusedAccounts(ctx context.Context, since time.Time) ([]records.Account, error)
	Unread(ctx context.Context) (list []records.Unread, all int, err error)
}
