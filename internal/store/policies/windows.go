package policies

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const windowColumns = "w.id, w.name, w.rule, w.begins, w.zone, w.minutes, w.description, w.revision, w.changed, w.changed_by, " + windowTargets

// What a window counts for, each as a list in JSON.
const windowTargets = `(SELECT json_group_array(t.label) FROM (SELECT label FROM window_targets WHERE window_id = w.id AND label IS NOT NULL ORDER BY label) t),
	(SELECT json_group_array(t.name) FROM (SELECT s.name FROM window_targets x JOIN systems s ON s.id = x.system_id WHERE x.window_id = w.id ORDER BY s.name) t),
	(SELECT json_group_array(json_object('id', t.id, 'system', t.system, 'place', t.place)) FROM (SELECT d.id, s.name AS system, d.place FROM window_targets x JOIN dependents d ON d.id = x.dependent_id JOIN systems s ON s.id = d.system_id WHERE x.window_id = w.id ORDER BY s.name, d.place) t),
	(SELECT json_group_array(t.name) FROM (SELECT name FROM policies WHERE window_id = w.id ORDER BY name) t)`

var windowList = database.Listing[records.Window]{
	From: "windows w", ID: "w.id", Sort: "name", Scan: windowColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "w.name"},
		{Name: "rule", Sql: "w.rule"},
		{Name: "begins", Sql: "w.begins"},
		{Name: "zone", Sql: "w.zone"},
		{Name: "minutes", Sql: "w.minutes", Number: true},
		{Name: "description", Sql: "w.description"},
		{Name: "changed", Sql: "w.changed", Hidden: true},
		{Name: "changed_by", Sql: "w.changed_by"},
		{Name: "id", Sql: "w.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Window, error) { return scanWindow(rows, new(any), new(any)) },
}

func scanWindow(row interface{ Scan(...any) error }, more ...any) (v records.Window, err error) {
	var changed, labels, systems, dependents, policies string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Rule, &v.Begins, &v.Zone, &v.Minutes, &v.Description, &v.Revision, &changed, &v.ChangedBy, &labels, &systems, &dependents, &policies}, more...)...)
	v.Changed = database.TimeOf(changed)
	v.Labels, v.Systems, v.Dependents, v.Policies = database.FromJSON[[]string](labels), database.FromJSON[[]string](systems), database.FromJSON[[]records.WindowDependent](dependents), database.FromJSON[[]string](policies)
	return v, database.OrNotFound(err)
}

// Windows lists them.
func (s *Tables) Windows(ctx context.Context, q records.Query) (records.Page[records.Window], error) {
	return database.PageOf(ctx, s.Read, windowList, q)
}

// AllWindows returns all of them, by name.
func (s *Tables) AllWindows(ctx context.Context) ([]records.Window, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Window, error) { return scanWindow(rows) }, "SELECT "+windowColumns+" FROM windows w ORDER BY w.name")
}

// Window returns one by its name.
func (s *Tables) Window(ctx context.Context, name string) (records.Window, error) {
	v, err := scanWindow(s.Read.QueryRowContext(ctx, "SELECT "+windowColumns+" FROM windows w WHERE w.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("window %q: %w", name, err)
	}
	return v, nil
}

func namedWindow(v records.Window) database.Named {
	return database.Named{Table: "windows", What: "window", Name: v.Name, ID: int64(v.ID), Revision: v.Revision, Description: v.Description, By: v.ChangedBy}
}

// SaveWindow adds one, or replaces the one that was seen, with what it counts for.
// ErrConflict when any of that has another window already.
func (s *Tables) SaveWindow(ctx context.Context, v records.Window, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := namedWindow(v)
		row.Columns, row.Values = []string{"rule", "begins", "zone", "minutes"}, []any{v.Rule, v.Begins, v.Zone, v.Minutes}
		id, err := database.SaveNamed(ctx, s.DB, tx, row)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM window_targets WHERE window_id = ?", id); err != nil {
			return err
		}
		for _, label := range v.Labels {
			if err := target(ctx, tx, id, "label", "the label "+label, label); err != nil {
				return err
			}
		}
		for _, name := range v.Systems {
			var system records.SystemID
			if err := tx.QueryRowContext(ctx, "SELECT id FROM systems WHERE name = ?", name).Scan(&system); err != nil {
				return fmt.Errorf("system %q: %w", name, database.OrNotFound(err))
			}
			if err := target(ctx, tx, id, "system_id", "the system "+name, system); err != nil {
				return err
			}
		}
		for _, d := range v.Dependents {
			var place string
			if err := tx.QueryRowContext(ctx, "SELECT place FROM dependents WHERE id = ?", d.ID).Scan(&place); err != nil {
				return fmt.Errorf("dependent %d: %w", d.ID, database.OrNotFound(err))
			}
			if err := target(ctx, tx, id, "dependent_id", place, d.ID); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// target has a window count for something that has none yet.
func target(ctx context.Context, tx *sql.Tx, window int64, column, what string, value any) error {
	var other string
	there, err := database.Found(tx.QueryRowContext(ctx, "SELECT w.name FROM window_targets t JOIN windows w ON w.id = t.window_id WHERE t."+column+" = ?", value).Scan(&other))
	if err != nil {
		return err
	}
	if there {
		return database.InUse(fmt.Sprintf("%s has the window %q already, and has at most one", what, other))
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO window_targets (window_id, "+column+") VALUES (?, ?)", window, value) //nolint:gosec // the name of one of our own columns
	return err
}

// RemoveWindow removes one that no policy rotates in.
func (s *Tables) RemoveWindow(ctx context.Context, v records.Window, entries ...ledger.Entry) error {
	var policy string
	there, err := database.Found(s.Read.QueryRowContext(ctx, "SELECT name FROM policies WHERE window_id = ? ORDER BY name LIMIT 1", v.ID).Scan(&policy))
	if err != nil {
		return err
	}
	if there {
		return database.InUse(fmt.Sprintf("the policy %q rotates in it", policy))
	}
	var rule string
	if there, err = database.Found(s.Read.QueryRowContext(ctx, "SELECT name FROM rules WHERE take_in = ? ORDER BY name LIMIT 1", v.ID).Scan(&rule)); err != nil {
		return err
	}
	if there {
		return database.InUse(fmt.Sprintf("the rule %q takes accounts into custody in it", rule))
	}
	return database.RemoveNamed(ctx, s.DB, namedWindow(v), entries)
}
