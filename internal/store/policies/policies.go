// Package policies keeps what a team decides about rotations that nobody watches: windows,
// policies, the order of restarts; and the turns that come of them.
package policies

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Tables are those of all that.
type Tables struct{ *database.DB }

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
		{Name: "renew_days", Sql: "COALESCE(json_extract(p.settings, '$.renew_days'), 0)", Number: true},
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

func namedPolicy(v records.Policy) database.Named {
	return database.Named{Table: "policies", What: "policy", Name: v.Name, ID: int64(v.ID), Revision: v.Revision, Description: v.Description, By: v.ChangedBy}
}

// SavePolicy adds one, or replaces the one that was seen. ErrConflict when another one has
// its name or its precedence.
func (s *Tables) SavePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		var other string
		if there, err := database.Found(tx.QueryRowContext(ctx, "SELECT name FROM policies WHERE precedence = ? AND id <> ?", v.Precedence, v.ID).Scan(&other)); err != nil || there {
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
		row.Columns = []string{"label", "precedence", "window_id", "paused", "settings"}
		row.Values = []any{v.Label, v.Precedence, window, v.Paused, database.AsJSON(v.PolicySettings)}
		if _, err := database.SaveNamed(ctx, s.DB, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemovePolicy removes one, and the turns that came of it.
func (s *Tables) RemovePolicy(ctx context.Context, v records.Policy, entries ...ledger.Entry) error {
	return database.RemoveNamed(ctx, s.DB, namedPolicy(v), entries)
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

func namedOrder(v records.Order) database.Named {
	return database.Named{Table: "orders", What: "order", Name: v.Name, ID: int64(v.ID), Revision: v.Revision, Description: v.Description, By: v.ChangedBy}
}

// SaveOrder adds one, or replaces the one that was seen.
func (s *Tables) SaveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := namedOrder(v)
		row.Columns, row.Values = []string{"kind", "at_once", "members"}, []any{v.Kind, v.AtOnce, database.AsJSON(v.Members)}
		if _, err := database.SaveNamed(ctx, s.DB, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveOrder removes one.
func (s *Tables) RemoveOrder(ctx context.Context, v records.Order, entries ...ledger.Entry) error {
	return database.RemoveNamed(ctx, s.DB, namedOrder(v), entries)
}
