package database

import (
	"context"
	"database/sql"
	"fmt"
)

// Search indexes follow their rows within the transaction that changed them.
// Triggers note the rows; before the transaction ends their texts are written
// in one statement for each index, because an index is written out at the end
// of every statement that touches it.

// indexed are the searched tables: what notes their rows, and the indexes.
var indexed = []struct {
	noted   string
	indexes []struct{ name, insert string }
}{
	{"unindexed_accounts", []struct{ name, insert string }{
		{"found_accounts", "SELECT a.id, a.name || ' ' || a.dn || ' ' || a.upn || ' ' || a.display_name || ' ' || a.description || ' ' || a.owner FROM unindexed_accounts n CROSS JOIN accounts a ON a.id = n.id WHERE a.gone = ''"},
	}},
	{"unindexed_dependents", []struct{ name, insert string }{
		{"found_dependents", "SELECT d.id, d.name || ' ' || d.place || ' ' || d.description || ' ' || d.runs_as || ' ' || d.executable FROM unindexed_dependents n CROSS JOIN dependents d ON d.id = n.id WHERE d.gone = ''"},
		{"parts_dependents", "SELECT d.id, CASE instr(d.place, d.name) WHEN 0 THEN d.name || ' ' ELSE '' END || d.place || ' ' || d.description || ' ' || d.runs_as || ' ' || d.executable FROM unindexed_dependents n CROSS JOIN dependents d ON d.id = n.id"},
	}},
}

// index writes what the transaction changed into the search indexes.
func (s *DB) index(ctx context.Context, tx *sql.Tx) error {
	for _, table := range indexed {
		var some, known bool
		if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM "+table.noted+"), EXISTS (SELECT 1 FROM "+table.noted+" WHERE known)").Scan(&some, &known); err != nil {
			return fmt.Errorf("search index: %w", err)
		}
		if !some {
			continue
		}
		var statements []string
		for _, index := range table.indexes {
			if known {
				statements = append(statements, "DELETE FROM "+index.name+" WHERE rowid IN (SELECT id FROM "+table.noted+" WHERE known)")
			}
			statements = append(statements, "INSERT INTO "+index.name+" (rowid, text) "+index.insert)
		}
		for _, statement := range append(statements, "DELETE FROM "+table.noted) {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return fmt.Errorf("search index: %w", err)
			}
		}
	}
	return nil
}

// mergedAtOnce is how many pages of an index one step of merging writes: a few
// hundredths of a second, after which others have their turn.
const mergedAtOnce = 400

// MergeIndexes merges the segments that the search indexes grew while rows were
// taken in: a search looks into each. It goes in short steps and ends when there
// is nothing left to merge.
func (s *DB) MergeIndexes(ctx context.Context) error {
	for _, table := range indexed {
		for _, index := range table.indexes {
			for more := true; more; {
				err := s.InTx(ctx, func(tx *sql.Tx) error {
					var before, after int
					if err := tx.QueryRowContext(ctx, "SELECT total_changes()").Scan(&before); err != nil {
						return err
					}
					if _, err := tx.ExecContext(ctx, "INSERT INTO "+index.name+" ("+index.name+", rank) VALUES ('merge', ?)", mergedAtOnce); err != nil { //nolint:gosec // names of tables are our own
						return err
					}
					err := tx.QueryRowContext(ctx, "SELECT total_changes()").Scan(&after)
					more = after-before >= 2 // SQLite, FTS5, section 6.8: less means that nothing was done
					return err
				})
				if err != nil {
					return fmt.Errorf("merge the search index %s: %w", index.name, err)
				}
			}
		}
	}
	return nil
}

// Compact writes the whole file anew: deleted texts stand in its free pages, and
// in the segments of the search index, until then.
func (s *DB) Compact(ctx context.Context) error {
	for _, statement := range []string{
		"INSERT INTO found_accounts (found_accounts) VALUES ('optimize')",
		"INSERT INTO found_dependents (found_dependents) VALUES ('optimize')",
		"INSERT INTO parts_dependents (parts_dependents) VALUES ('optimize')",
		"PRAGMA wal_checkpoint(TRUNCATE)", "VACUUM", "PRAGMA wal_checkpoint(TRUNCATE)",
	} {
		if _, err := s.write.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("compact the database: %w", err)
		}
	}
	return nil
}
