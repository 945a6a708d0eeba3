package labels

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) (records.RuleID, error)
	AllPolicies(ctx context.Context) ([]records.Policy, error)
	AllRequirements(ctx context.Context) ([]records.Requirement, error)
	AllWindows(ctx context.Context) ([]records.Window, error)
	AllRules(ctx context.Context) ([]records.Rule, error)
	ChangeRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) error
	DropLabel(ctx context.Context, account records.AccountID, label string, entries ...ledger.Entry) error
	LabellingAfter(ctx context.Context, after records.AccountID, most int, dependents bool) ([]records.Labelling, error)
	Meta(ctx context.Context, key string) ([]byte, error)
	PutLabel(ctx context.Context, v records.HandLabel, entries ...ledger.Entry) error
	Relabel(ctx context.Context, list []records.Relabelled) error
	RemoveRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) error
	Rule(ctx context.Context, name string) (records.Rule, error)
	Unread(ctx context.Context) (list []records.Unread, all int, err error)
	SetMeta(ctx context.Context, key string, value []byte) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
}
