package sealed

import (
	"context"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	GivenValue(ctx context.Context, id records.CredentialID, fingerprint string) (records.Secret, error)
	InCustody(ctx context.Context) ([]records.Credential, error)
	Journal(ctx context.Context, id records.RotationID, after int64) ([]rotation.Record, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error)
	StewardLinkOf(ctx context.Context, system records.SystemID) (v records.StewardLink, err error)
	UnfinishedOf(ctx context.Context, id records.CredentialID) (records.Rotation, error)
}
