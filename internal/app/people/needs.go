package people

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	AddUser(ctx context.Context, v store.User, first bool, entries ...ledger.Entry) error
	ChangeUser(ctx context.Context, v store.User, endSessions bool, entries ...ledger.Entry) error
}
