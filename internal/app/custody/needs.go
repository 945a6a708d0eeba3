package custody

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id int64) (store.Account, error)
	AddCandidate(ctx context.Context, v store.Secret) error
	AllSystems(ctx context.Context) ([]store.System, error)
	InCustody(ctx context.Context) ([]store.Credential, error)
	Credential(ctx context.Context, id store.CredentialID) (store.Credential, error)
	DropCandidate(ctx context.Context, id store.CredentialID, fingerprint string) error
	Secrets(ctx context.Context, id store.CredentialID) ([]store.Secret, error)
	NotePassword(ctx context.Context, account int64) (store.Credential, error)
	LinkStewards(ctx context.Context, links []store.StewardLink, entries ...ledger.Entry) error
	Steward(ctx context.Context, name string) (store.Steward, error)
	Stewards(ctx context.Context, q store.Query) (store.Page[store.Steward], error)
	Lookup(ctx context.Context) (*store.Lookup, error)
	OpenCandidates(ctx context.Context) ([]store.Secret, error)
	ReleaseCustody(ctx context.Context, id store.CredentialID, entries ...ledger.Entry) error
	Rotations(ctx context.Context, q store.Query) (store.Page[store.Rotation], error)
	SaveVerdict(ctx context.Context, id store.CredentialID, verdict string, words string) error
	SetFindings(ctx context.Context, scope string, list []store.Finding) error
	StewardLinkOf(ctx context.Context, system int64) (v store.StewardLink, err error)
	StewardLinks(ctx context.Context, account int64) ([]store.StewardLink, error)
	System(ctx context.Context, idOrName string) (store.System, error)
	TakeCustody(ctx context.Context, v store.Secret, by string, words string, entries ...ledger.Entry) error
}
