package database

import (
	"context"
	"database/sql"
	"encoding/json"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// LedgerList lists entries, the newest first unless asked otherwise.
func (s *DB) LedgerList(ctx context.Context, q records.Query) (records.Page[ledger.Entry], error) {
	field := func(name string) Column {
		return Column{Name: name, Sql: "COALESCE(CASE WHEN json_valid(leaf) THEN json_extract(leaf, '$." + name + "') END, '')"}
	}
	// An entry has its moment as RFC 3339 writes it; moments are compared as the
	// database stamps them, with three places.
	moment := field("time")
	moment.Sql = "CASE WHEN " + moment.Sql + " = '' THEN '' ELSE substr(" + moment.Sql + ", 1, 19) || '.' || substr(rtrim(substr(" + moment.Sql + ", 21), 'Z') || '000', 1, 3) || 'Z' END"
	return PageOf(ctx, s.Read, Listing[ledger.Entry]{
		From: "ledger", ID: "idx", Sort: "-index", Scan: "leaf",
		Columns: []Column{{Name: "index", Sql: "idx", Number: true}, moment, field("actor"), field("act"), field("phase"), field("subject"), field("system"), field("ref"), field("result"), field("reason"), field("detail")},
		ScanRow: func(rows *sql.Rows) (e ledger.Entry, err error) {
			var leaf []byte
			if err := rows.Scan(Padded(&leaf)...); err != nil {
				return e, err
			}
			if err := json.Unmarshal(leaf, &e); err != nil {
				e.Detail = "this entry cannot be read: verify the ledger"
			}
			return e, nil
		},
	}, q)
}
