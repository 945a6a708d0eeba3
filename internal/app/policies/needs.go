package policies

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AllOrders(ctx context.Context) ([]records.Order, error)
	AllPolicies(ctx context.Context) ([]records.Policy, error)
	AllWindows(ctx context.Context) ([]records.Window, error)
	Candidates(ctx context.Context, account records.AccountID) ([]records.Candidate, error)
	ExpectedInterruptions(ctx context.Context, system records.SystemID) (map[string]time.Duration, error)
	KeepTurns(ctx context.Context, kept []records.Turn, gone []records.CredentialID) error
	LabelsOf(ctx context.Context, account records.AccountID) ([]records.AccountLabel, error)
	AllRequirements(ctx context.Context) ([]records.Requirement, error)
	RemoveRequirement(ctx context.Context, v records.Requirement, entries ...ledger.Entry) error
	Requirement(ctx context.Context, name string) (records.Requirement, error)
	SaveRequirement(ctx context.Context, v records.Requirement, entries ...ledger.Entry) error
	Order(ctx context.Context, name string) (records.Order, error)
	Policy(ctx context.Context, name string) (records.Policy, error)
	RemoveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error
	RemovePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error
	RemoveWindow(ctx context.Context, v records.Window, entries ...ledger.Entry) error
	SaveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error
	SavePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error
	SaveWindow(ctx context.Context, v records.Window, entries ...ledger.Entry) error
	StaleTurns(ctx context.Context) ([]records.CredentialID, error)
	System(ctx context.Context, idOrName string) (records.System, error)
	Window(ctx context.Context, name string) (records.Window, error)
}
