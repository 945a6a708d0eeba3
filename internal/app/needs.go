package app

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
)

// Store is what this package needs of the store.
type Store interface {
	Fingerprints(ctx context.Context) ([]string, error)
	Record(ctx context.Context, entries ...ledger.Entry) error
}
