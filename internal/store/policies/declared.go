package policies

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// SetCheck keeps an application's own check; nil removes it.
func (s *Tables) SetCheck(ctx context.Context, id records.DependentID, check *rotation.AppCheck, entries ...ledger.Entry) error {
	value := ""
	if check != nil {
		value = database.AsJSON(check)
	}
	return s.declare(ctx, "UPDATE dependents SET app_check = ? WHERE id = ?", value, id, entries)
}

// SetLimit keeps what a dependent can carry of a password; nil removes it.
func (s *Tables) SetLimit(ctx context.Context, id records.DependentID, limit *credential.Limit, entries ...ledger.Entry) error {
	value := ""
	if limit != nil {
		value = database.AsJSON(limit)
	}
	return s.declare(ctx, "UPDATE dependents SET value_limit = ? WHERE id = ?", value, id, entries)
}

// declare keeps what people say of a dependent.
func (s *Tables) declare(ctx context.Context, statement, value string, id records.DependentID, entries []ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, statement, value, id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("dependent %d: %w", id, records.ErrNotFound)
		}
		return s.Enter(ctx, tx, entries...)
	})
}
