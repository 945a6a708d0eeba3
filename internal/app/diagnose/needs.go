package diagnose

import (
	"context"

	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	Dependent(ctx context.Context, id records.DependentID) (records.Dependent, error)
	Dependents(ctx context.Context, account records.AccountID, q records.Query) (records.Page[records.Dependent], error)
	DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error)
	DependentsOfSystem(ctx context.Context, system records.SystemID) ([]records.Dependent, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error)
	System(ctx context.Context, idOrName string) (records.System, error)
}
