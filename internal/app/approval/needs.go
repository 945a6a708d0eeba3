package approval

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Approval(ctx context.Context, id records.ApprovalID) (records.Approval, error)
	ApprovalWords(ctx context.Context, id records.ApprovalID, words string) error
	PersonsWithRole(ctx context.Context, role string, except string) ([]string, error)
	AskApproval(ctx context.Context, v records.Approval, entries ...ledger.Entry) (records.ApprovalID, error)
	Approvals(ctx context.Context, q records.Query) (records.Page[records.Approval], error)
	ExpireApprovals(ctx context.Context) (int, error)
	User(ctx context.Context, name string) (records.User, error)
	DecideApproval(ctx context.Context, id records.ApprovalID, state string, by string, words string, entries ...ledger.Entry) error
}
