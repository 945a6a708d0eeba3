package policies

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const requirementColumns = "q.id, q.name, q.label, q.restarts, q.kinds, q.unread, q.hours, q.description, q.revision, q.changed, q.changed_by"

func scanRequirement(row interface{ Scan(...any) error }, more ...any) (v records.Requirement, err error) {
	var kinds, changed string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Label, &v.Restarts, &kinds, &v.Unread, &v.Hours, &v.Description, &v.Revision, &changed, &v.ChangedBy}, more...)...)
	if v.Kinds = database.FromJSON[[]string](kinds); v.Kinds == nil {
		v.Kinds = []string{}
	}
	v.Changed = database.TimeOf(changed)
	return v, database.OrNotFound(err)
}

var requirementList = database.Listing[records.Requirement]{
	From: "requirements q", ID: "q.id", Sort: "name", Scan: requirementColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "q.name"},
		{Name: "label", Sql: "q.label"},
		{Name: "restarts", Sql: "q.restarts", Number: true},
		{Name: "unread", Sql: "q.unread", Number: true},
		{Name: "hours", Sql: "q.hours", Number: true},
		{Name: "description", Sql: "q.description"},
		{Name: "changed", Sql: "q.changed", Hidden: true},
		{Name: "changed_by", Sql: "q.changed_by"},
		{Name: "id", Sql: "q.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Requirement, error) { return scanRequirement(rows, new(any), new(any)) },
}

// Requirements lists them.
func (s *Tables) Requirements(ctx context.Context, q records.Query) (records.Page[records.Requirement], error) {
	return database.PageOf(ctx, s.Read, requirementList, q)
}

// AllRequirements returns all of them, by name.
func (s *Tables) AllRequirements(ctx context.Context) ([]records.Requirement, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Requirement, error) { return scanRequirement(rows) }, "SELECT "+requirementColumns+" FROM requirements q ORDER BY q.name")
}

// Requirement returns one by its name.
func (s *Tables) Requirement(ctx context.Context, name string) (records.Requirement, error) {
	v, err := scanRequirement(s.Read.QueryRowContext(ctx, "SELECT "+requirementColumns+" FROM requirements q WHERE q.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("requirement %q: %w", name, err)
	}
	return v, nil
}

func namedRequirement(v records.Requirement) database.Named {
	return database.Named{Table: "requirements", What: "requirement", Name: v.Name, ID: int64(v.ID), Revision: v.Revision, Description: v.Description, By: v.ChangedBy}
}

// SaveRequirement adds one, or replaces the one that was seen.
func (s *Tables) SaveRequirement(ctx context.Context, v records.Requirement, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := namedRequirement(v)
		row.Columns, row.Values = []string{"label", "restarts", "kinds", "unread", "hours"}, []any{v.Label, v.Restarts, database.AsJSON(v.Kinds), v.Unread, v.Hours}
		if _, err := database.SaveNamed(ctx, s.DB, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveRequirement removes the one that was seen.
func (s *Tables) RemoveRequirement(ctx context.Context, v records.Requirement, entries ...ledger.Entry) error {
	return database.RemoveNamed(ctx, s.DB, namedRequirement(v), entries)
}
