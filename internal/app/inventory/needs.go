package inventory

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	AddSystem(ctx context.Context, v store.System, entries ...ledger.Entry) (int64, error)
	AllSystems(ctx context.Context) ([]store.System, error)
	ApproveHostKey(ctx context.Context, id int64, fingerprint string, by string, entries ...ledger.Entry) error
	ChangeSystem(ctx context.Context, v store.System, revision int64, entries ...ledger.Entry) error
	ClaimIdentity(ctx context.Context, id int64, identity string, clash func(store.System) bool) (kept string, err error)
	CleanTexts(ctx context.Context, clean func(string) string) (changed int, err error)
	CommonOptions(ctx context.Context, q store.Query) (store.Page[store.CommonOption], error)
	CommonOptionsOf(ctx context.Context, v store.System) ([]store.CommonOption, error)
	InCustody(ctx context.Context) ([]store.Credential, error)
	DecideApproval(ctx context.Context, id int64, state string, by string, words string, entries ...ledger.Entry) error
	Endpoint(ctx context.Context, system int64) (sealed []byte, err error)
	HasAct(ctx context.Context, act string) (bool, error)
	HoldsSecretsOf(ctx context.Context, system int64) (bool, error)
	LedgerTrouble() error
	Steward(ctx context.Context, name string) (store.Steward, error)
	MarkUsers(ctx context.Context, entries ...ledger.Entry) error
	RemoveCommonOption(ctx context.Context, id int64, entries ...ledger.Entry) error
	RemoveSteward(ctx context.Context, name string, entries ...ledger.Entry) error
	RemoveSystem(ctx context.Context, id int64, entries ...ledger.Entry) error
	Reseal(ctx context.Context, sealed map[int64][]byte, entries ...ledger.Entry) error
	SaveCheck(ctx context.Context, id int64, report connect.CheckReport) error
	SaveSteward(ctx context.Context, v store.Steward, entries ...ledger.Entry) error
	Secrets(ctx context.Context, id store.CredentialID) ([]store.Secret, error)
	SetCommonOption(ctx context.Context, o store.CommonOption, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (store.System, error)
	SystemByID(ctx context.Context, id int64) (store.System, error)
	TrustEndpoints(ctx context.Context, sealed map[int64][]byte, words string, entries ...ledger.Entry) error
	WaitsFor(ctx context.Context, system int64) (store.Approval, error)
}
