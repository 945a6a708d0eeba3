package store

import (
	"context"
	"database/sql"
	"encoding/json"

	"mossledger.example/moss/internal/records"

	"mossledger.example/moss/internal/core/ledger"
)

// LedgerList lists entries, the newest first unless asked otherwise.
func (s *Store) LedgerList(ctx context.Context, q records.Query) (records.Page[ledger.Entry], error) {
	field := func(name string) column {
		return column{name: name, sql: "COALESCE(CASE WHEN json_valid(leaf) THEN json_extract(leaf, '$." + name + "') END, '')"}
	}
	// An entry has its moment as RFC 3339 writes it; moments are compared as the
	// database stamps them, with three places.
	moment := field("time")
	moment.sql = "CASE WHEN " + moment.sql + " = '' THEN '' ELSE substr(" + moment.sql + ", 1, 19) || '.' || substr(rtrim(substr(" + moment.sql + ", 21), 'Z') || '000', 1, 3) || 'Z' END"
	return page(ctx, s.read, listing[ledger.Entry]{
		from: "ledger", id: "idx", sort: "-index", scan: "leaf",
		columns: []column{{name: "index", sql: "idx", number: true}, moment, field("actor"), field("act"), field("phase"), field("subject"), field("system"), field("ref"), field("result"), field("reason"), field("detail")},
		scanRow: func(rows *sql.Rows) (e ledger.Entry, err error) {
			var leaf []byte
			if err := rows.Scan(padded(&leaf)...); err != nil {
				return e, err
			}
			if err := json.Unmarshal(leaf, &e); err != nil {
				e.Detail = "this entry cannot be read: verify the ledger"
			}
			return e, nil
		},
	}, q)
}
