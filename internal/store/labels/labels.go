package labels

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// AllLabels lists the labels that there are.
func (s *Labels) AllLabels(ctx context.Context) ([]records.Label, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Label, err error) {
		return v, rows.Scan(&v.Label, &v.Accounts, &v.ByHand, &v.Rules)
	}, `SELECT l.label,
			(SELECT COUNT(*) FROM account_labels x JOIN accounts a ON a.id = x.account_id WHERE x.label = l.label AND a.gone = ''),
			(SELECT COUNT(*) FROM hand_labels h JOIN accounts a ON a.id = h.account_id WHERE h.label = l.label AND a.gone = ''),
			(SELECT COUNT(*) FROM rules r WHERE r.label = l.label)
		FROM (SELECT label FROM hand_labels UNION SELECT label FROM rules) l ORDER BY l.label`)
}

// LabelsOf says which labels are on an account, or would be, and why.
func (s *Labels) LabelsOf(ctx context.Context, account records.AccountID) ([]records.AccountLabel, error) {
	hand, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.AccountLabel, err error) {
		var at string
		err = rows.Scan(&v.Label, &v.Reason, &v.SetBy, &at)
		v.SetAt = database.TimeOf(at)
		return v, err
	}, "SELECT label, reason, set_by, set_at FROM hand_labels WHERE account_id = ?", account)
	if err != nil {
		return nil, err
	}
	matched, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (r rules.Rule, err error) { return r, rows.Scan(&r.Label, &r.Name, &r.Excludes) },
		"SELECT r.label, r.name, r.excludes FROM rule_matches m JOIN rules r ON r.id = m.rule_id WHERE m.account_id = ? ORDER BY r.name", account)
	if err != nil {
		return nil, err
	}
	said, names := map[string]records.AccountLabel{}, make([]string, len(hand))
	for i, v := range hand {
		said[v.Label], names[i] = v, v.Label
	}
	out := []records.AccountLabel{}
	for _, l := range rules.Decide(names, matched) {
		if !l.ByHand && len(l.Rules) == 0 {
			continue // kept away from what nobody gives it to
		}
		v := said[l.Label]
		v.Label, v.On, v.ByHand, v.Rules, v.Excluded = l.Label, l.On(), l.ByHand, append([]string{}, l.Rules...), append([]string{}, l.Excluded...)
		out = append(out, v)
	}
	return out, nil
}

const handFrom = "accounts a JOIN systems ON systems.id = a.system_id"

const handColumns = "a.id, systems.name || '/' || a.name, (SELECT json_group_array(label) FROM (SELECT label FROM hand_labels h WHERE h.account_id = a.id ORDER BY label))"

const handThere = "a.gone = '' AND EXISTS (SELECT 1 FROM hand_labels h WHERE h.account_id = a.id)"

func scanHand(row interface{ Scan(...any) error }, more ...any) (v records.HandLabels, err error) {
	var labels string
	err = row.Scan(append([]any{&v.AccountID, &v.Name, &labels}, more...)...)
	v.Labels = database.FromJSON[[]string](labels)
	return v, err
}

var handList = database.Listing[records.HandLabels]{
	From: handFrom, Where: handThere, ID: "a.id", Sort: "name", Scan: handColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "systems.name || '/' || a.name"},
		{Name: "account_id", Sql: "a.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.HandLabels, error) { return scanHand(rows, new(any), new(any)) },
}

// HandLabels lists them.
func (s *Labels) HandLabels(ctx context.Context, q records.Query) (records.Page[records.HandLabels], error) {
	return database.PageOf(ctx, s.Read, handList, q)
}

// AllHandLabels returns the labels that accounts which are there were given by hand.
func (s *Labels) AllHandLabels(ctx context.Context) ([]records.HandLabels, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.HandLabels, error) { return scanHand(rows) }, "SELECT "+handColumns+" FROM "+handFrom+" WHERE "+handThere+" ORDER BY 2")
}

// PutLabel gives an account a label by hand.
func (s *Labels) PutLabel(ctx context.Context, v records.HandLabel, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO hand_labels (account_id, label, reason, set_by, set_at) VALUES (?,?,?,?,?) ON CONFLICT (account_id, label) DO UPDATE SET reason=excluded.reason, set_by=excluded.set_by, set_at=excluded.set_at",
			v.AccountID, v.Label, v.Reason, v.SetBy, s.Stamp()); err != nil {
			return fmt.Errorf("label %s: %w", v.Label, err)
		}
		if err := s.settle(ctx, tx, records.ByPeople, v.AccountID); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// DropLabel takes a label away that was given by hand.
func (s *Labels) DropLabel(ctx context.Context, account records.AccountID, label string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM hand_labels WHERE account_id = ? AND label = ?", account, label)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("label %q: %w: nobody gave it by hand", label, records.ErrNotFound)
		}
		if err := s.settle(ctx, tx, records.ByPeople, account); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// settled is what comes of hands and rules for some accounts.
const settled = `(SELECT account_id, label FROM hand_labels WHERE account_id IN (SELECT value FROM json_each(?1))
	UNION SELECT m.account_id, r.label FROM rule_matches m JOIN rules r ON r.id = m.rule_id WHERE m.account_id IN (SELECT value FROM json_each(?1)) AND NOT r.excludes
	EXCEPT SELECT m.account_id, r.label FROM rule_matches m JOIN rules r ON r.id = m.rule_id WHERE m.account_id IN (SELECT value FROM json_each(?1)) AND r.excludes)`

// settle makes the labels of accounts anew, and keeps what became of them.
func (s *Labels) settle(ctx context.Context, tx *sql.Tx, by string, accounts ...records.AccountID) error {
	ids := database.AsJSON(accounts)
	type row struct {
		id    records.AccountID
		label string
		added bool
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.id, &r.label, &r.added) },
		"SELECT account_id, label, 1 FROM (SELECT * FROM "+settled+" EXCEPT SELECT account_id, label FROM account_labels WHERE account_id IN (SELECT value FROM json_each(?1))) UNION ALL SELECT account_id, label, 0 FROM (SELECT account_id, label FROM account_labels WHERE account_id IN (SELECT value FROM json_each(?1)) EXCEPT SELECT * FROM "+settled+") ORDER BY 1, 2", ids)
	if err != nil || len(rows) == 0 {
		return err
	}
	fields := map[records.AccountID]*change.Field{}
	var added, removed [][2]any
	for _, r := range rows {
		f := fields[r.id]
		if f == nil {
			f = &change.Field{Name: change.FieldLabels}
			fields[r.id] = f
		}
		if r.added {
			f.Added, added = append(f.Added, r.label), append(added, [2]any{r.id, r.label})
		} else {
			f.Removed, removed = append(f.Removed, r.label), append(removed, [2]any{r.id, r.label})
		}
	}
	notes := make([][2]any, 0, len(fields))
	for _, id := range slices.Sorted(maps.Keys(fields)) {
		notes = append(notes, [2]any{id, database.AsJSON([]change.Field{*fields[id]})})
	}
	// Each of many rows by a statement of its own would be most of the work.
	for _, v := range []struct {
		list      [][2]any
		statement string
	}{
		{added, "INSERT INTO account_labels (account_id, label) SELECT value ->> 0, value ->> 1 FROM json_each(?1)"},
		{removed, "DELETE FROM account_labels WHERE (account_id, label) IN (SELECT value ->> 0, value ->> 1 FROM json_each(?1))"},
		{notes, "INSERT INTO changes (at, subject, what, name, kind, system, made_by, system_id, account_id, fields) SELECT ?2, 'account', 'changed', a.name, a.type, systems.name, ?3, a.system_id, a.id, j.value ->> 1 FROM json_each(?1) j JOIN accounts a ON a.id = j.value ->> 0 JOIN systems ON systems.id = a.system_id ORDER BY j.key"},
	} {
		if len(v.list) == 0 {
			continue
		}
		arguments := []any{database.AsJSON(v.list), s.Stamp(), by}[:1+strings.Count(v.statement, "?2")*2]
		if _, err := tx.ExecContext(ctx, v.statement, arguments...); err != nil {
			return err
		}
	}
	return nil
}

// Relabel keeps what rules matched, for some accounts at once.
func (s *Labels) Relabel(ctx context.Context, list []records.Relabelled) error {
	if len(list) == 0 {
		return nil
	}
	ids := make([]records.AccountID, len(list))
	for i, v := range list {
		ids[i] = v.AccountID
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM rule_matches WHERE account_id IN (SELECT value FROM json_each(?))", database.AsJSON(ids)); err != nil {
			return err
		}
		var matched [][2]int64
		for _, v := range list {
			for _, rule := range v.Matched {
				matched = append(matched, [2]int64{int64(v.AccountID), int64(rule)})
			}
		}
		// A rule that was removed meanwhile, and an account, are passed over.
		if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO rule_matches (account_id, rule_id) SELECT a.id, r.id FROM json_each(?) j JOIN accounts a ON a.id = j.value ->> 0 JOIN rules r ON r.id = j.value ->> 1", database.AsJSON(matched)); err != nil {
			return err
		}
		return s.settle(ctx, tx, records.ByMossLedger, ids...)
	})
}

// LabellingAfter reads accounts that are there, in the order of their numbers, with what
// rules look at.
func (s *Labels) LabellingAfter(ctx context.Context, after records.AccountID, most int, dependents bool) ([]records.Labelling, error) {
	tied := "'[]'"
	if dependents {
		tied = `COALESCE((SELECT json_group_array(json_array(d.kind, d.place, d.name, sd.name, d.runs_as, d.state, d.start_mode, d.executable, t.evidence, t.strength)) FROM ties t JOIN dependents d ON d.id = t.dependent_id JOIN systems sd ON sd.id = d.system_id WHERE t.account_id = a.id AND d.gone = ''), '[]')`
	}
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Labelling, err error) {
		var changed, expires, end, logon, first, lists, list, hand, matched string
		err = rows.Scan(&v.ID, &v.Name, &v.Type, &v.DN, &v.UPN, &v.SID, &v.UID, &v.DisplayName, &v.Description, &v.Owner, &v.Enabled, &v.Locked, &v.NeverExpire, &v.MustChange, &changed, &expires, &end, &logon, &first, &lists,
			&v.System, &v.SystemID, &v.Kind, &v.Site, &v.Environment, &v.SystemOwner, &v.Custody, &v.BuiltIn, &list, &hand, &matched)
		if err != nil {
			return v, err
		}
		l := database.FromJSON[struct{ G, P []string }](lists)
		v.Groups, v.Principals = l.G, l.P
		v.PasswordChanged, v.PasswordExpires, v.AccountExpires, v.LastLogOn, v.FirstSeen = database.TimeOf(changed), database.TimeOf(expires), database.TimeOf(end), database.TimeOf(logon), database.TimeOf(first)
		for _, d := range database.FromJSON[[][10]string](list) {
			v.Dependents = append(v.Dependents, records.LabellingDependent{Kind: d[0], Place: d[1], Name: d[2], System: d[3], RunsAs: d[4], State: d[5], StartMode: d[6], Executable: d[7], Evidence: d[8], Strength: d[9]})
		}
		v.ByHand, v.Matched = database.FromJSON[[]string](hand), database.FromJSON[[]records.RuleID](matched)
		return v, nil
	}, `SELECT a.id, a.name, a.type, a.dn, a.upn, a.sid, a.uid, a.display_name, a.description, a.owner, a.enabled, a.locked, a.never_expires, a.must_change, a.password_changed, a.password_expires, a.account_expires, a.last_logon, a.first_seen, a.lists,
			systems.name, systems.id, systems.kind, systems.site, systems.environment, systems.owner, COALESCE(c.state, '') = 'custody', `+database.AccountBuiltIn+`, `+tied+`,
			COALESCE((SELECT json_group_array(label) FROM hand_labels h WHERE h.account_id = a.id), '[]'), COALESCE((SELECT json_group_array(rule_id) FROM rule_matches m WHERE m.account_id = a.id), '[]')
		FROM accounts a JOIN systems ON systems.id = a.system_id LEFT JOIN credentials c ON c.account_id = a.id AND c.kind = 'password' WHERE a.id > ? AND a.gone = '' ORDER BY a.id LIMIT ?`, after, most)
}
