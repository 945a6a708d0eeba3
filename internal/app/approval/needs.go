package approval

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Approval(ctx context.Context, id int64) (records.Approval, error)
	ApprovalWords(ctx context.Context, id int64, words string) error
	PersonsWithRole(ctx context.Context, role string, except string) ([]string, error)
	AskApproval(ctx context.Context, v records.Approval, entries ...ledger.Entry) (int64, error)
	User(ctx context.Context, name string) (records.User, error)
	DecideApproval(ctx context.Context, id int64, state string, by string, words string, entries ...ledger.Entry) error
}
