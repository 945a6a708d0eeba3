package database

import (
	"context"
	"database/sql"
	"fmt"
)

// Queryer is a pool or a transaction.
type Queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// Collect runs a query and scans every row.
func Collect[T any](ctx context.Context, db Queryer, scan func(*sql.Rows) (T, error), query string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("query: %w", err)
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		item, err := scan(rows)
		if err != nil {
			return nil, fmt.Errorf("scan: %w", err)
		}
		out = append(out, item)
	}
	return out, rows.Err()
}

// Single scans rows of one column.
func Single[T any](rows *sql.Rows) (v T, err error) {
	err = rows.Scan(&v)
	return v, err
}

// Made is the number of the row that a statement made.
func Made[ID ~int64](res sql.Result) (ID, error) {
	id, err := res.LastInsertId()
	return ID(id), err
}
