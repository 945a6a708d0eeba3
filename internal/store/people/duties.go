package people

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const dutyColumns = "name, begun, ended, words"

func scanDuty(row interface{ Scan(...any) error }) (v records.Duty, err error) {
	var begun, ended string
	err = row.Scan(&v.Name, &begun, &ended, &v.Words)
	v.Begun, v.Ended = database.TimeOf(begun), database.TimeOf(ended)
	return v, err
}

// Duty returns one by name, or ErrNotFound.
func (s *People) Duty(ctx context.Context, name string) (records.Duty, error) {
	v, err := scanDuty(s.Read.QueryRowContext(ctx, "SELECT "+dutyColumns+" FROM duties WHERE name = ?", name))
	if err != nil {
		return v, fmt.Errorf("duty %q: %w", name, database.OrNotFound(err))
	}
	return v, nil
}

// BeginDuty writes that one is begun, before it is.
func (s *People) BeginDuty(ctx context.Context, name string, at time.Time) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO duties (name, begun) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET begun = excluded.begun, ended = '', words = ''", name, database.StampOf(at))
		return err
	})
}

// EndDuty writes that one ended, and what came of it.
func (s *People) EndDuty(ctx context.Context, name string, at time.Time, words string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE duties SET ended = ?, words = ? WHERE name = ?", database.StampOf(at), words, name)
		return err
	})
}
