package rotate

import (
	"context"
	"time"

	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	planning.Store
	AddInterruptions(ctx context.Context, list []records.Interruption) error
	AllSystems(ctx context.Context) ([]records.System, error)
	AppendJournal(ctx context.Context, v records.Rotation, r rotation.Record, mode string, result string, effects records.Effects, entries ...ledger.Entry) error
	ApprovalWords(ctx context.Context, id records.ApprovalID, words string) error
	Approvals(ctx context.Context, q records.Query) (records.Page[records.Approval], error)
	BeginRotation(ctx context.Context, v records.Rotation, entries ...ledger.Entry) (records.RotationID, error)
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	FilesRead(ctx context.Context) (map[records.SystemID]time.Time, error)
	Findings(ctx context.Context, all bool, q records.Query) (records.Page[records.Finding], error)
	FindingsOf(ctx context.Context, account records.AccountID, kind string) ([]records.Finding, error)
	HoldingFingerprint(ctx context.Context, fingerprint string) ([]records.Dependent, error)
	Journal(ctx context.Context, id records.RotationID, after int64) ([]rotation.Record, error)
	LatestRehearsal(ctx context.Context, id records.CredentialID) (records.Rehearsal, error)
	LedgerTrouble() error
	Rotation(ctx context.Context, id records.RotationID) (records.Rotation, error)
	Rotations(ctx context.Context, q records.Query) (records.Page[records.Rotation], error)
	SaveRehearsal(ctx context.Context, v *records.Rehearsal) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	SupersedeApprovals(ctx context.Context, kind, subject string) error
	Unfinished(ctx context.Context) ([]records.Rotation, error)
}
