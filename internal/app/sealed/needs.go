package sealed

import (
	"context"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Custodies(ctx context.Context) ([]store.Credential, error)
	Journal(ctx context.Context, id int64, after int64) ([]rotation.Record, error)
	Secrets(ctx context.Context, c store.Credential) ([]store.Secret, error)
	StewardLinkOf(ctx context.Context, system int64) (v store.StewardLink, err error)
	UnfinishedOf(ctx context.Context, c store.Credential) (store.Rotation, error)
}
