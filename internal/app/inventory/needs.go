package inventory

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AddSystem(ctx context.Context, v records.System, entries ...ledger.Entry) (records.SystemID, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	ApproveHostKey(ctx context.Context, id records.SystemID, fingerprint string, by string, entries ...ledger.Entry) error
	ChangeSystem(ctx context.Context, v records.System, revision int64, entries ...ledger.Entry) error
	ClaimIdentity(ctx context.Context, id records.SystemID, identity string, clash func(records.System) bool) (kept string, err error)
	CleanTexts(ctx context.Context, clean func(string) string) (changed int, err error)
	CommonOptions(ctx context.Context, q records.Query) (records.Page[records.CommonOption], error)
	CommonOptionsOf(ctx context.Context, v records.System) ([]records.CommonOption, error)
	InCustody(ctx context.Context) ([]records.Credential, error)
	DecideApproval(ctx context.Context, id records.ApprovalID, state string, by string, words string, entries ...ledger.Entry) error
	Endpoint(ctx context.Context, system records.SystemID) (sealed []byte, err error)
	HasAct(ctx context.Context, act string) (bool, error)
	HoldsSecretsOf(ctx context.Context, system records.SystemID) (bool, error)
	LedgerTrouble() error
	Steward(ctx context.Context, name string) (records.Steward, error)
	MarkUsers(ctx context.Context, entries ...ledger.Entry) error
	RemoveCommonOption(ctx context.Context, id records.CommonOptionID, entries ...ledger.Entry) error
	RemoveSteward(ctx context.Context, name string, entries ...ledger.Entry) error
	RemoveSystem(ctx context.Context, id records.SystemID, entries ...ledger.Entry) error
	Reseal(ctx context.Context, sealed map[records.SecretID][]byte, entries ...ledger.Entry) error
	SaveCheck(ctx context.Context, id records.SystemID, report connect.CheckReport) error
	SaveSteward(ctx context.Context, v records.Steward, entries ...ledger.Entry) error
	Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error)
	SetCommonOption(ctx context.Context, o records.CommonOption, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (records.System, error)
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
	TrustEndpoints(ctx context.Context, sealed map[records.SystemID][]byte, words string, entries ...ledger.Entry) error
	WaitsFor(ctx context.Context, system records.SystemID) (records.Approval, error)
}
