package sealed

import (
	"context"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	InCustody(ctx context.Context) ([]store.Credential, error)
	Journal(ctx context.Context, id int64, after int64) ([]rotation.Record, error)
	PasswordOf(ctx context.Context, account int64) (store.Credential, error)
	Secrets(ctx context.Context, id store.CredentialID) ([]store.Secret, error)
	StewardLinkOf(ctx context.Context, system int64) (v store.StewardLink, err error)
	UnfinishedOf(ctx context.Context, id store.CredentialID) (store.Rotation, error)
}
