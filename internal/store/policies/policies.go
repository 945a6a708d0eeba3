// Package policies keeps what a team decides about rotations that nobody watches: windows,
// policies, the order of restarts; and the turns that come of them.
package policies

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Tables are those of all that.
type Tables struct{ *database.DB }

// named is a row with a name that is changed by revision.
type named struct {
	table, what, name string
	id, revision      int64
	columns           []string // besides name, description, changed and changed_by
	values            []any
	description, by   string
}

// found tells whether there is a row, by the error of reading it.
func found(err error) (bool, error) {
	if errors.Is(database.OrNotFound(err), records.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// save adds a row, or replaces the one that was seen; ErrConflict when there is one of its
// name already, ErrStale when it is not the one that was seen.
func (s *Tables) save(ctx context.Context, tx *sql.Tx, v named) (int64, error) {
	columns := append([]string{"name", "description", "changed", "changed_by"}, v.columns...)
	values := append([]any{v.name, v.description, s.Stamp(), v.by}, v.values...)
	var other int64
	if there, err := found(tx.QueryRowContext(ctx, "SELECT id FROM "+v.table+" WHERE name = ?", v.name).Scan(&other)); err != nil || there && other != v.id {
		if err != nil {
			return 0, err
		}
		return 0, fmt.Errorf("%s %q: %w", v.what, v.name, records.ErrConflict)
	}
	if v.id == 0 {
		marks, list := "", ""
		for i, c := range columns {
			if i > 0 {
				marks, list = marks+",", list+","
			}
			marks, list = marks+"?", list+c
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO "+v.table+" ("+list+") VALUES ("+marks+")", values...) //nolint:gosec // names of our own tables and columns
		if err != nil {
			return 0, err
		}
		return database.Made[int64](res)
	}
	sets := "revision = revision + 1"
	for _, c := range columns {
		sets += ", " + c + " = ?"
	}
	res, err := tx.ExecContext(ctx, "UPDATE "+v.table+" SET "+sets+" WHERE id = ? AND revision = ?", append(values, v.id, v.revision)...) //nolint:gosec // the same
	if err != nil {
		return 0, err
	}
	return v.id, v.stale(res)
}

func (v named) stale(res sql.Result) error {
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("%s %q: %w", v.what, v.name, records.ErrStale)
	}
	return nil
}

// remove takes a row away; ErrStale when it is not the one that was seen.
func (s *Tables) remove(ctx context.Context, v named, entries []ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM "+v.table+" WHERE id = ? AND revision = ?", v.id, v.revision) //nolint:gosec // the name of one of our own tables
		if err != nil {
			return err
		}
		if err := v.stale(res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

const policyColumns = `p.id, p.name, p.label, p.precedence, p.paused, p.settings, p.description, p.revision, p.changed, p.changed_by, COALESCE((SELECT w.name FROM windows w WHERE w.id = p.window_id), ''),
	` + policyCount + `, ` + policyDue

const (
	policyCount = "(SELECT COUNT(*) FROM turns t WHERE t.policy_id = p.id)"
	policyDue   = "(SELECT COUNT(*) FROM turns t WHERE t.policy_id = p.id AND t.due <> '')"
)

var policyList = database.Listing[records.Policy]{
	From: "policies p", ID: "p.id", Sort: "-precedence", Scan: policyColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "p.name"},
		{Name: "label", Sql: "p.label"},
		{Name: "precedence", Sql: "p.precedence", Number: true},
		{Name: "window", Sql: "COALESCE((SELECT w.name FROM windows w WHERE w.id = p.window_id), '')"},
		{Name: "every_days", Sql: "COALESCE(json_extract(p.settings, '$.every_days'), 0)", Number: true},
		{Name: "rule", Sql: "COALESCE(json_extract(p.settings, '$.rule'), '')"},
		{Name: "paused", Sql: "p.paused", Number: true},
		{Name: "credentials", Sql: policyCount, Number: true},
		{Name: "due", Sql: policyDue, Number: true},
		{Name: "description", Sql: "p.description"},
		{Name: "changed", Sql: "p.changed", Hidden: true},
		{Name: "changed_by", Sql: "p.changed_by"},
		{Name: "id", Sql: "p.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Policy, error) { return scanPolicy(rows, new(any), new(any)) },
}

func scanPolicy(row interface{ Scan(...any) error }, more ...any) (v records.Policy, err error) {
	var changed, settings string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Label, &v.Precedence, &v.Paused, &settings, &v.Description, &v.Revision, &changed, &v.ChangedBy, &v.Window, &v.Credentials, &v.Due}, more...)...)
	v.Changed, v.PolicySettings = database.TimeOf(changed), database.FromJSON[records.PolicySettings](settings)
	return v, database.OrNotFound(err)
}

// Policies lists them, the one that decides first before all others.
func (s *Tables) Policies(ctx context.Context, q records.Query) (records.Page[records.Policy], error) {
	return database.PageOf(ctx, s.Read, policyList, q)
}

// AllPolicies returns all of them, the highest precedence first.
func (s *Tables) AllPolicies(ctx context.Context) ([]records.Policy, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Policy, error) { return scanPolicy(rows) }, "SELECT "+policyColumns+" FROM policies p ORDER BY p.precedence DESC")
}

// Policy returns one by its name.
func (s *Tables) Policy(ctx context.Context, name string) (records.Policy, error) {
	v, err := scanPolicy(s.Read.QueryRowContext(ctx, "SELECT "+policyColumns+" FROM policies p WHERE p.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("policy %q: %w", name, err)
	}
	return v, nil
}

func namedPolicy(v records.Policy) named {
	return named{table: "policies", what: "policy", name: v.Name, id: int64(v.ID), revision: v.Revision, description: v.Description, by: v.ChangedBy}
}

// SavePolicy adds one, or replaces the one that was seen. ErrConflict when another one has
// its name or its precedence.
func (s *Tables) SavePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		var other string
		if there, err := found(tx.QueryRowContext(ctx, "SELECT name FROM policies WHERE precedence = ? AND id <> ?", v.Precedence, v.ID).Scan(&other)); err != nil || there {
			if err != nil {
				return err
			}
			return database.InUse(fmt.Sprintf("the policy %q has the precedence %d already, and which of two decides must be clear", other, v.Precedence))
		}
		var window any
		if v.Window != "" {
			var id records.WindowID
			if err := tx.QueryRowContext(ctx, "SELECT id FROM windows WHERE name = ?", v.Window).Scan(&id); err != nil {
				return fmt.Errorf("window %q: %w", v.Window, database.OrNotFound(err))
			}
			window = id
		}
		row := namedPolicy(v)
		row.columns = []string{"label", "precedence", "window_id", "paused", "settings"}
		row.values = []any{v.Label, v.Precedence, window, v.Paused, database.AsJSON(v.PolicySettings)}
		if _, err := s.save(ctx, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemovePolicy removes one, and the turns that came of it.
func (s *Tables) RemovePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error {
	return s.remove(ctx, namedPolicy(v), entries)
}

const orderColumns = "o.id, o.name, o.kind, o.at_once, o.members, o.description, o.revision, o.changed, o.changed_by"

var orderList = database.Listing[records.Order]{
	From: "orders o", ID: "o.id", Sort: "name", Scan: orderColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "o.name"},
		{Name: "kind", Sql: "o.kind", Values: []string{"group", "sequence"}},
		{Name: "at_once", Sql: "o.at_once", Number: true},
		{Name: "members", Sql: "o.members"},
		{Name: "description", Sql: "o.description"},
		{Name: "changed", Sql: "o.changed", Hidden: true},
		{Name: "changed_by", Sql: "o.changed_by"},
		{Name: "id", Sql: "o.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Order, error) { return scanOrder(rows, new(any), new(any)) },
}

func scanOrder(row interface{ Scan(...any) error }, more ...any) (v records.Order, err error) {
	var changed, members string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Kind, &v.AtOnce, &members, &v.Description, &v.Revision, &changed, &v.ChangedBy}, more...)...)
	v.Changed, v.Members = database.TimeOf(changed), database.FromJSON[[]records.OrderMember](members)
	return v, database.OrNotFound(err)
}

// Orders lists what people say of the order of restarts.
func (s *Tables) Orders(ctx context.Context, q records.Query) (records.Page[records.Order], error) {
	return database.PageOf(ctx, s.Read, orderList, q)
}

// AllOrders returns all of it, by name.
func (s *Tables) AllOrders(ctx context.Context) ([]records.Order, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Order, error) { return scanOrder(rows) }, "SELECT "+orderColumns+" FROM orders o ORDER BY o.name")
}

// Order returns one by its name.
func (s *Tables) Order(ctx context.Context, name string) (records.Order, error) {
	v, err := scanOrder(s.Read.QueryRowContext(ctx, "SELECT "+orderColumns+" FROM orders o WHERE o.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("order %q: %w", name, err)
	}
	return v, nil
}

func namedOrder(v records.Order) named {
	return named{table: "orders", what: "order", name: v.Name, id: int64(v.ID), revision: v.Revision, description: v.Description, by: v.ChangedBy}
}

// SaveOrder adds one, or replaces the one that was seen.
func (s *Tables) SaveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := namedOrder(v)
		row.columns, row.values = []string{"kind", "at_once", "members"}, []any{v.Kind, v.AtOnce, database.AsJSON(v.Members)}
		if _, err := s.save(ctx, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveOrder removes one.
func (s *Tables) RemoveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error {
	return s.remove(ctx, namedOrder(v), entries)
}
