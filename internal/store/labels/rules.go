// Package labels keeps rules, the labels that people give by hand, and what comes of both.
package labels

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Labels are the tables of rules and labels.
type Labels struct{ *database.DB }

const ruleColumns = "r.id, r.name, r.label, r.excludes, r.condition, r.description, r.revision, r.changed, r.changed_by, " + ruleMatches + ", COALESCE((SELECT w.name FROM windows w WHERE w.id = r.take_in), ''), r.take_unread"

const ruleMatches = "(SELECT COUNT(*) FROM rule_matches m JOIN accounts a ON a.id = m.account_id WHERE m.rule_id = r.id AND a.gone = '')"

var ruleList = database.Listing[records.Rule]{
	From: "rules r", ID: "r.id", Sort: "name", Scan: ruleColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "r.name"},
		{Name: "label", Sql: "r.label"},
		{Name: "excludes", Sql: "r.excludes", Number: true},
		{Name: "condition", Sql: "r.condition"},
		{Name: "description", Sql: "r.description"},
		{Name: "take_in", Sql: "COALESCE((SELECT w.name FROM windows w WHERE w.id = r.take_in), '')"},
		{Name: "matches", Sql: ruleMatches, Number: true},
		{Name: "changed", Sql: "r.changed", Hidden: true},
		{Name: "changed_by", Sql: "r.changed_by"},
		{Name: "id", Sql: "r.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Rule, error) { return scanRule(rows, new(any), new(any)) },
}

func scanRule(row interface{ Scan(...any) error }, more ...any) (v records.Rule, err error) {
	var changed string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Label, &v.Excludes, &v.Condition, &v.Description, &v.Revision, &changed, &v.ChangedBy, &v.Matches, &v.TakeIn, &v.TakeUnread}, more...)...)
	v.Changed = database.TimeOf(changed)
	return v, database.OrNotFound(err)
}

// Rules lists them.
func (s *Labels) Rules(ctx context.Context, q records.Query) (records.Page[records.Rule], error) {
	return database.PageOf(ctx, s.Read, ruleList, q)
}

// AllRules returns all of them, in the order of their names.
func (s *Labels) AllRules(ctx context.Context) ([]records.Rule, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Rule, error) { return scanRule(rows) }, "SELECT "+ruleColumns+" FROM rules r ORDER BY r.name, r.id")
}

// Rule returns one by its name.
func (s *Labels) Rule(ctx context.Context, name string) (records.Rule, error) {
	v, err := scanRule(s.Read.QueryRowContext(ctx, "SELECT "+ruleColumns+" FROM rules r WHERE r.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("rule %q: %w", name, err)
	}
	return v, nil
}

// AddRule adds one; ErrConflict when there is one of its name.
func (s *Labels) AddRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) (records.RuleID, error) {
	var id records.RuleID
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		var taken bool
		if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM rules WHERE name = ?)", v.Name).Scan(&taken); err != nil {
			return err
		}
		if taken {
			return fmt.Errorf("rule %q: %w", v.Name, records.ErrConflict)
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO rules (name, label, excludes, condition, description, take_in, take_unread, changed, changed_by) VALUES (?,?,?,?,?,(SELECT id FROM windows WHERE name = ?),?,?,?)", v.Name, v.Label, v.Excludes, v.Condition, v.Description, v.TakeIn, v.TakeUnread, s.Stamp(), v.ChangedBy)
		if err != nil {
			return err
		}
		if id, err = database.Made[records.RuleID](res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// ChangeRule replaces one; ErrStale when it is not the one that was seen.
func (s *Labels) ChangeRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE rules SET label=?, excludes=?, condition=?, description=?, take_in=(SELECT id FROM windows WHERE name = ?), take_unread=?, revision=revision+1, changed=?, changed_by=? WHERE id=? AND revision=?", v.Label, v.Excludes, v.Condition, v.Description, v.TakeIn, v.TakeUnread, s.Stamp(), v.ChangedBy, v.ID, v.Revision)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("rule %q: %w", v.Name, records.ErrStale)
		}
		// Who matches it is found by applying it; what it gives those that matched before is
		// another label from now on.
		matched, err := database.Collect(ctx, tx, database.Single[records.AccountID], "SELECT account_id FROM rule_matches WHERE rule_id = ?", v.ID)
		if err != nil {
			return err
		}
		if err := s.settle(ctx, tx, records.ByMossLedger, matched...); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveRule removes one; ErrStale when it is not the one that was seen.
func (s *Labels) RemoveRule(ctx context.Context, v records.Rule, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		matched, err := database.Collect(ctx, tx, database.Single[records.AccountID], "SELECT account_id FROM rule_matches WHERE rule_id = ?", v.ID)
		if err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "DELETE FROM rules WHERE id = ? AND revision = ?", v.ID, v.Revision)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("rule %q: %w", v.Name, records.ErrStale)
		}
		if err := s.settle(ctx, tx, records.ByMossLedger, matched...); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}
