// Package charters keeps charters with all their versions, and what they come to for each
// account: lines, from when something was so until it was otherwise.
package charters

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Book are the tables of all that.
type Book struct{ *database.DB }

func count(state string) string {
	return "(SELECT COUNT(*) FROM charter_lines n WHERE n.charter_id = h.id AND n.ended = '' AND n.state = '" + state + "')"
}

const accounts = "(SELECT COUNT(*) FROM account_labels x JOIN accounts a ON a.id = x.account_id WHERE x.label = h.label AND a.gone = '')"

var columns = "h.id, h.name, h.label, h.description, h.document, h.revision, h.changed, h.changed_by, " + accounts + ", " + count("missing") + ", " + count("forbidden") + ", " + count("excess") + ", " + count("differs") + ", " + count("unknown")

var listing = database.Listing[records.Charter]{
	From: "charters h", ID: "h.id", Sort: "name", Scan: columns,
	Columns: []database.Column{
		{Name: "name", Sql: "h.name"},
		{Name: "label", Sql: "h.label"},
		{Name: "description", Sql: "h.description"},
		{Name: "accounts", Sql: accounts, Number: true},
		{Name: "missing", Sql: count("missing"), Number: true},
		{Name: "forbidden", Sql: count("forbidden"), Number: true},
		{Name: "excess", Sql: count("excess"), Number: true},
		{Name: "differs", Sql: count("differs"), Number: true},
		{Name: "unknown", Sql: count("unknown"), Number: true},
		{Name: "version", Sql: "h.revision", Number: true},
		{Name: "changed", Sql: "h.changed", Hidden: true},
		{Name: "changed_by", Sql: "h.changed_by"},
		{Name: "id", Sql: "h.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Charter, error) { return scan(rows, new(any), new(any)) },
}

func scan(row interface{ Scan(...any) error }, more ...any) (v records.Charter, err error) {
	var changed string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Label, &v.Description, &v.Document, &v.Version, &changed, &v.ChangedBy, &v.Accounts, &v.Missing, &v.Forbidden, &v.Excess, &v.Differs, &v.Unknown}, more...)...)
	v.Changed = database.TimeOf(changed)
	return v, database.OrNotFound(err)
}

// Charters lists them.
func (s *Book) Charters(ctx context.Context, q records.Query) (records.Page[records.Charter], error) {
	return database.PageOf(ctx, s.Read, listing, q)
}

// AllCharters returns all of them, by name.
func (s *Book) AllCharters(ctx context.Context) ([]records.Charter, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Charter, error) { return scan(rows) }, "SELECT "+columns+" FROM charters h ORDER BY h.name")
}

// Charter returns one by its name.
func (s *Book) Charter(ctx context.Context, name string) (records.Charter, error) {
	v, err := scan(s.Read.QueryRowContext(ctx, "SELECT "+columns+" FROM charters h WHERE h.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("charter %q: %w", name, err)
	}
	return v, nil
}

func named(v records.Charter) database.Named {
	return database.Named{Table: "charters", What: "charter", Name: v.Name, ID: int64(v.ID), Revision: v.Version, Description: v.Description, By: v.ChangedBy}
}

// SaveCharter adds one, or replaces the one that was seen; what it says is kept as a version.
func (s *Book) SaveCharter(ctx context.Context, v records.Charter, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := named(v)
		row.Columns, row.Values = []string{"label", "document"}, []any{v.Label, v.Document}
		id, err := database.SaveNamed(ctx, s.DB, tx, row)
		if err != nil {
			return err
		}
		// One that was removed and added again goes on with its versions.
		if _, err := tx.ExecContext(ctx, "INSERT INTO charter_versions (charter, version, document, changed, changed_by) SELECT ?1, COALESCE((SELECT MAX(version) FROM charter_versions WHERE charter = ?1), 0) + 1, document, changed, changed_by FROM charters WHERE id = ?2", v.Name, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE charters SET revision = (SELECT MAX(version) FROM charter_versions WHERE charter = ?) WHERE id = ?", v.Name, id); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveCharter removes the one that was seen, and what it came to; its versions stay.
func (s *Book) RemoveCharter(ctx context.Context, v records.Charter, entries ...ledger.Entry) error {
	return database.RemoveNamed(ctx, s.DB, named(v), entries)
}

// CharterVersions lists what it said, the latest first.
func (s *Book) CharterVersions(ctx context.Context, name string) ([]records.CharterVersion, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.CharterVersion, err error) {
		var changed string
		err = rows.Scan(&v.Version, &v.Document, &changed, &v.ChangedBy)
		v.Changed = database.TimeOf(changed)
		return v, err
	}, "SELECT version, document, changed, changed_by FROM charter_versions WHERE charter = ? ORDER BY version DESC", name)
}
