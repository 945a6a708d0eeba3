package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// DecideCopy stores one, or with an empty decision takes it back.
func (s *Store) DecideCopy(ctx context.Context, d records.CopyDecision, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM copy_decisions WHERE system_id = ? AND place = ?", d.SystemID, d.Place); err != nil {
			return err
		}
		if d.Decision != "" {
			if _, err := tx.ExecContext(ctx, "INSERT INTO copy_decisions (system_id, place, decision, reason, by, at) VALUES (?,?,?,?,?,?)", d.SystemID, d.Place, d.Decision, d.Reason, d.By, s.Stamp()); err != nil {
				return fmt.Errorf("decision: %w", err)
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// CopyDecisions returns all, by system and place.
func (s *Store) CopyDecisions(ctx context.Context) (map[records.SystemID]map[string]records.CopyDecision, error) {
	list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (d records.CopyDecision, err error) {
		var at string
		err = rows.Scan(&d.SystemID, &d.Place, &d.Decision, &d.Reason, &d.By, &at)
		d.At = database.TimeOf(at)
		return d, err
	}, "SELECT system_id, place, decision, reason, by, at FROM copy_decisions")
	out := map[records.SystemID]map[string]records.CopyDecision{}
	for _, d := range list {
		if out[d.SystemID] == nil {
			out[d.SystemID] = map[string]records.CopyDecision{}
		}
		out[d.SystemID][d.Place] = d
	}
	return out, err
}

// FilesRead tells of each host's last complete reading of its files when it was
// settled what it looks for.
func (s *Store) FilesRead(ctx context.Context) (map[records.SystemID]time.Time, error) {
	out := map[records.SystemID]time.Time{}
	rows, err := s.Read.QueryContext(ctx, "SELECT system_id, begun FROM scopes WHERE scope = 'files' AND completed <> ''")
	if err != nil {
		return out, err
	}
	defer rows.Close()
	for rows.Next() {
		var id records.SystemID
		var completed string
		if err := rows.Scan(&id, &completed); err != nil {
			return out, err
		}
		out[id] = database.TimeOf(completed)
	}
	return out, rows.Err()
}

// CleanTexts passes the free texts of all dependents and accounts through a
// function, for databases from before texts were redacted, and leaves nothing
// of the old ones in the file.
func (s *Store) CleanTexts(ctx context.Context, clean func(string) string) (changed int, err error) {
	for _, of := range []struct {
		table   string
		columns []string
	}{
		{"dependents", []string{"executable", "description", "schedule", "result"}},
		{"accounts", []string{"description", "display_name"}},
		{"findings", []string{"what"}},
		{"journal", []string{"words"}},
		{"visits", []string{"words", "problems", "stages"}},
		{"systems", []string{"state_words", "check_stages"}},
		{"rehearsals", []string{"checks"}},
		{"sessions_seen", []string{"application"}},
	} {
		for _, column := range of.columns {
			texts, err := database.Collect(ctx, s.Read, database.Single[string], "SELECT DISTINCT "+column+" FROM "+of.table+" WHERE "+column+" <> ''")
			if err != nil {
				return changed, fmt.Errorf("%s.%s: %w", of.table, column, err)
			}
			for _, text := range texts {
				better := clean(text)
				if better == text {
					continue
				}
				changed++
				if err := s.InTx(ctx, func(tx *sql.Tx) error {
					_, err := tx.ExecContext(ctx, "UPDATE "+of.table+" SET "+column+" = ? WHERE "+column+" = ?", better, text) //nolint:gosec // names of tables and columns are our own
					return err
				}); err != nil {
					return changed, err
				}
			}
		}
	}
	if changed == 0 {
		return 0, nil
	}
	return changed, s.Compact(ctx)
}
