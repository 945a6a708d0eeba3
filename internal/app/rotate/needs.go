package rotate

import (
	"context"
	"time"

	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	planning.Store
	AddCandidate(ctx context.Context, v store.Secret) error
	AllSystems(ctx context.Context) ([]store.System, error)
	AppendJournal(ctx context.Context, v store.Rotation, r rotation.Record, mode string, result string, effects store.Effects, entries ...ledger.Entry) error
	ApprovalWords(ctx context.Context, id int64, words string) error
	BeginRotation(ctx context.Context, v store.Rotation, entries ...ledger.Entry) (int64, error)
	Credential(ctx context.Context, id store.CredentialID) (store.Credential, error)
	PasswordOf(ctx context.Context, account int64) (store.Credential, error)
	FilesRead(ctx context.Context) (map[int64]time.Time, error)
	Findings(ctx context.Context, all bool, q store.Query) (store.Page[store.Finding], error)
	FindingsOf(ctx context.Context, account int64, kind string) ([]store.Finding, error)
	HoldingFingerprint(ctx context.Context, fingerprint string) ([]store.Dependent, error)
	Journal(ctx context.Context, id int64, after int64) ([]rotation.Record, error)
	LatestRehearsal(ctx context.Context, id store.CredentialID) (store.Rehearsal, error)
	LedgerTrouble() error
	Rotation(ctx context.Context, id int64) (store.Rotation, error)
	Rotations(ctx context.Context, q store.Query) (store.Page[store.Rotation], error)
	SaveRehearsal(ctx context.Context, v *store.Rehearsal) error
	SetFindings(ctx context.Context, scope string, list []store.Finding) error
	Unfinished(ctx context.Context) ([]store.Rotation, error)
}
