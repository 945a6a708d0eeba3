package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Named is a row with a name that is changed by revision.
type Named struct {
	Table, What, Name string
	ID, Revision      int64
	Columns           []string // besides name, description, changed and changed_by
	Values            []any
	Description, By   string
}

// Found tells whether there is a row, by the error of reading it.
func Found(err error) (bool, error) {
	if errors.Is(OrNotFound(err), records.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// SaveNamed adds a row, or replaces the one that was seen; ErrConflict when there is one of its
// name already, ErrStale when it is not the one that was seen.
func SaveNamed(ctx context.Context, s *DB, tx *sql.Tx, v Named) (int64, error) {
	columns := append([]string{"name", "description", "changed", "changed_by"}, v.Columns...)
	values := append([]any{v.Name, v.Description, s.Stamp(), v.By}, v.Values...)
	var other int64
	if there, err := Found(tx.QueryRowContext(ctx, "SELECT id FROM "+v.Table+" WHERE name = ?", v.Name).Scan(&other)); err != nil || there && other != v.ID {
		if err != nil {
			return 0, err
		}
		return 0, fmt.Errorf("%s %q: %w", v.What, v.Name, records.ErrConflict)
	}
	if v.ID == 0 {
		marks, list := "", ""
		for i, c := range columns {
			if i > 0 {
				marks, list = marks+",", list+","
			}
			marks, list = marks+"?", list+c
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO "+v.Table+" ("+list+") VALUES ("+marks+")", values...) //nolint:gosec // names of our own tables and columns
		if err != nil {
			return 0, err
		}
		return Made[int64](res)
	}
	sets := "revision = revision + 1"
	for _, c := range columns {
		sets += ", " + c + " = ?"
	}
	res, err := tx.ExecContext(ctx, "UPDATE "+v.Table+" SET "+sets+" WHERE id = ? AND revision = ?", append(values, v.ID, v.Revision)...) //nolint:gosec // the same
	if err != nil {
		return 0, err
	}
	return v.ID, v.stale(res)
}

func (v Named) stale(res sql.Result) error {
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("%s %q: %w", v.What, v.Name, records.ErrStale)
	}
	return nil
}

// RemoveNamed takes a row away; ErrStale when it is not the one that was seen.
func RemoveNamed(ctx context.Context, s *DB, v Named, entries []ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM "+v.Table+" WHERE id = ? AND revision = ?", v.ID, v.Revision) //nolint:gosec // the name of one of our own tables
		if err != nil {
			return err
		}
		if err := v.stale(res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}
