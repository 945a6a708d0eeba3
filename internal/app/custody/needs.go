package custody

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/lookup"
)

// Store is what this package needs of the store.
type Store interface {
	Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error)
	EraseFormer(ctx context.Context, ids []records.SecretID, rehearsed time.Time, entries ...ledger.Entry) (int64, error)
	FormerValues(ctx context.Context, rehearsed time.Time) ([]records.FormerValue, error)
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddCandidate(ctx context.Context, v records.Secret) error
	AllSystems(ctx context.Context) ([]records.System, error)
	InCustody(ctx context.Context) ([]records.Credential, error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	DropCandidate(ctx context.Context, id records.CredentialID, fingerprint string) error
	Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error)
	NotePassword(ctx context.Context, account records.AccountID) (records.Credential, error)
	LinkStewards(ctx context.Context, links []records.StewardLink, entries ...ledger.Entry) error
	Steward(ctx context.Context, name string) (records.Steward, error)
	Stewards(ctx context.Context, q records.Query) (records.Page[records.Steward], error)
	Lookup(ctx context.Context) (*lookup.Lookup, error)
	OpenCandidates(ctx context.Context) ([]records.Secret, error)
	ReleaseCustody(ctx context.Context, id records.CredentialID, entries ...ledger.Entry) error
	TandemRests(ctx context.Context, v records.Tandem) error
	TandemOf(ctx context.Context, id records.CredentialID) (records.Tandem, error)
	UnfinishedOf(ctx context.Context, id records.CredentialID) (records.Rotation, error)
	SaveVerdict(ctx context.Context, id records.CredentialID, verdict string, words string) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	StewardLinkOf(ctx context.Context, system records.SystemID) (v records.StewardLink, err error)
	StewardLinks(ctx context.Context, account records.AccountID) ([]records.StewardLink, error)
	System(ctx context.Context, idOrName string) (records.System, error)
	TakeCustody(ctx context.Context, v records.Secret, by string, words string, entries ...ledger.Entry) error
}
