package store

import (
	"context"
	"database/sql"
	"strings"
	"unicode"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// phrases turns what somebody types into a full-text query: every word must
// stand somewhere, and the beginning of the last part of one is enough. Signs
// part words: svc-tide is found by its two parts.
func phrases(typed string) string {
	var out []string
	for word := range strings.FieldsSeq(typed) {
		parts := strings.FieldsFunc(word, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
		for i, part := range parts {
			if part = `"` + part + `"`; i == len(parts)-1 {
				part += "*"
			}
			out = append(out, part)
		}
	}
	return strings.Join(out, " AND ")
}

// Search finds accounts, systems and dependents by the words in their names,
// places and descriptions: up to limit of each kind.
func (s *Store) Search(ctx context.Context, typed string, limit int) ([]records.Hit, error) {
	query := phrases(typed)
	if query == "" {
		return []records.Hit{}, nil
	}
	out := []records.Hit{}
	for _, part := range []struct{ kind, sql string }{
		{"system", "SELECT s.id, s.name, s.address, s.kind, s.site FROM systems s JOIN (SELECT rowid FROM found_systems WHERE found_systems MATCH ? LIMIT ?) f ON f.rowid = s.id"},
		{"account", "SELECT a.id, a.name, systems.name, a.type, a.description FROM accounts a JOIN (SELECT rowid FROM found_accounts WHERE found_accounts MATCH ? LIMIT ?) f ON f.rowid = a.id JOIN systems ON systems.id = a.system_id"},
		{"dependent", "SELECT d.id, d.name, systems.name, d.kind, d.place FROM dependents d JOIN (SELECT rowid FROM found_dependents WHERE found_dependents MATCH ? LIMIT ?) f ON f.rowid = d.id JOIN systems ON systems.id = d.system_id"},
	} {
		hits, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (h records.Hit, err error) {
			h.Kind = part.kind
			return h, rows.Scan(&h.ID, &h.Name, &h.System, &h.Of, &h.Detail)
		}, part.sql, query, limit)
		if err != nil {
			return nil, err
		}
		out = append(out, hits...)
	}
	return out, nil
}
