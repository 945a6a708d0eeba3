package diagnose

import (
	"context"

	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id int64) (store.Account, error)
	Dependent(ctx context.Context, id int64) (store.Dependent, error)
	Dependents(ctx context.Context, account int64, q store.Query) (store.Page[store.Dependent], error)
	DependentsOfAccount(ctx context.Context, account int64) ([]store.Dependent, error)
	DependentsOfSystem(ctx context.Context, system int64) ([]store.Dependent, error)
	PasswordOf(ctx context.Context, account int64) (store.Credential, error)
	Secrets(ctx context.Context, id store.CredentialID) ([]store.Secret, error)
	System(ctx context.Context, idOrName string) (store.System, error)
}
