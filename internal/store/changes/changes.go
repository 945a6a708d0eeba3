// Package changes keeps what became of accounts, dependents and systems.
//
// Whoever takes a look in tells it what the look saw, in the transaction that writes the
// rows: what is known of them is compared before it is replaced. See package change of
// the core for what is compared.
package changes

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Log is the table of what became of things.
type Log struct{ *database.DB }

// Look is what looks at a system: one for each stream of a visit, which keeps what it
// asked for in it.
type Look struct {
	Survey records.SurveyID
	Sight  string // what the reading depends on beside the system

	before  map[string]before // what earlier looks were, by scope; nil before it was asked
	touched map[string]touch  // places that rotations worked on since; nil before it was asked
}

const changeColumns = "x.id, x.at, x.subject, x.what, x.name, x.kind, x.system, COALESCE(x.system_id, 0), COALESCE(x.account_id, 0), COALESCE(x.dependent_id, 0), x.made_by, x.rotation_id, x.survey_id, x.fields, x.witnesses, " + changeCustody

const changeCustody = "EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = x.account_id AND c.state = 'custody')"

var changeList = database.Listing[records.SeenChange]{
	From: "changes x", ID: "x.id", Sort: "-at", Scan: changeColumns,
	Columns: []database.Column{
		{Name: "at", Sql: "x.at", Hidden: true},
		{Name: "subject", Sql: "x.subject", Values: []string{records.SubjectAccount, records.SubjectDependent, records.SubjectSystem}},
		{Name: "what", Sql: "x.what", Values: change.Whats()},
		{Name: "name", Sql: "x.name"},
		{Name: "kind", Sql: "x.kind"},
		{Name: "system", Sql: "x.system"},
		{Name: "fields", Sql: "x.fields"},
		{Name: "made_by", Sql: "x.made_by", Values: []string{records.ByMossLedger, records.ByOthers, records.ByPeople}},
		{Name: "by_whom", Sql: "CASE x.witnesses WHEN '' THEN '' ELSE COALESCE(json_extract(x.witnesses, '$.words'), x.witnesses) END"},
		{Name: "custody", Sql: changeCustody, Number: true},
		{Name: "survey_id", Sql: "x.survey_id", Number: true},
		{Name: "rotation_id", Sql: "x.rotation_id", Number: true},
		{Name: "account_id", Sql: "COALESCE(x.account_id, 0)", Number: true},
		{Name: "dependent_id", Sql: "COALESCE(x.dependent_id, 0)", Number: true},
		{Name: "id", Sql: "x.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.SeenChange, error) { return scanChange(rows, new(any), new(any)) },
}

func scanChange(row interface{ Scan(...any) error }, more ...any) (v records.SeenChange, err error) {
	var at, fields, witnesses string
	err = row.Scan(append([]any{&v.ID, &at, &v.Subject, &v.What, &v.Name, &v.Kind, &v.System, &v.SystemID, &v.AccountID, &v.DependentID, &v.MadeBy, &v.RotationID, &v.SurveyID, &fields, &witnesses, &v.Custody}, more...)...)
	v.At = database.TimeOf(at)
	if v.Fields = database.FromJSON[[]change.Field](fields); v.Fields == nil {
		v.Fields = []change.Field{}
	}
	v.Words = change.Words(v.Fields)
	if witnesses != "" {
		w := database.FromJSON[change.Witnesses](witnesses)
		v.Witnesses, v.ByWhom = &w, w.Words()
	}
	return v, database.OrNotFound(err)
}

// Changes lists what became of things between two moments, the first excluded; zero
// times leave that side open.
func (s *Log) Changes(ctx context.Context, since, until time.Time, q records.Query) (records.Page[records.SeenChange], error) {
	l := changeList
	var where []string
	if !since.IsZero() {
		where = append(where, "x.at > '"+database.StampOf(since)+"'")
	}
	if !until.IsZero() {
		where = append(where, "x.at <= '"+database.StampOf(until)+"'")
	}
	l.Where = strings.Join(where, " AND ")
	return database.PageOf(ctx, s.Read, l, q)
}

// Change returns one by id.
func (s *Log) Change(ctx context.Context, id records.ChangeID) (records.SeenChange, error) {
	v, err := scanChange(s.Read.QueryRowContext(ctx, "SELECT "+changeColumns+" FROM changes x WHERE x.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("change %d: %w", id, err)
	}
	return v, nil
}

// LogOnChanges returns the changes of what dependents of a system run as that were made
// outside, since a moment, the latest first.
func (s *Log) LogOnChanges(ctx context.Context, system records.SystemID, since time.Time) ([]records.SeenChange, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.SeenChange, error) { return scanChange(rows) },
		"SELECT "+changeColumns+` FROM changes x WHERE x.system_id = ? AND x.at > ? AND x.subject = 'dependent' AND x.made_by = 'others' AND x.what = 'changed'
			AND EXISTS (SELECT 1 FROM json_each(x.fields) WHERE json_extract(value, '$.name') = '`+change.FieldRunsAs+`') ORDER BY x.id DESC LIMIT 500`, system, database.StampOf(since))
}

// pruneAtOnce is how many old changes one transaction drops.
const pruneAtOnce = 500

// PruneChanges drops those from before a moment.
func (s *Log) PruneChanges(ctx context.Context, before time.Time) error {
	for {
		var n int64
		err := s.InTx(ctx, func(tx *sql.Tx) error {
			res, err := tx.ExecContext(ctx, "DELETE FROM changes WHERE id IN (SELECT id FROM changes WHERE at < ? ORDER BY at LIMIT ?)", database.StampOf(before), pruneAtOnce)
			if err != nil {
				return err
			}
			n, err = res.RowsAffected()
			return err
		})
		if err != nil || n < pruneAtOnce {
			return err
		}
	}
}

// before is what is known of a scope from earlier looks.
type before struct {
	complete bool   // it was read to its end once, with the same sight as now
	begun    string // when it was settled what that reading looked for

	completed string // when it ended
}

// readBefore tells it, once for each visit. Only what a complete look with the same
// sight did not show is new: everything else may just not have been seen.
func (s *Log) readBefore(ctx context.Context, tx database.Queryer, system records.SystemID, look *Look, scope string) (before, error) {
	if look.before != nil {
		return look.before[scope], nil
	}
	type row struct {
		scope, completed, sight, begun string
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) {
		return r, rows.Scan(&r.scope, &r.completed, &r.sight, &r.begun)
	}, "SELECT scope, completed, sight, begun FROM scopes WHERE system_id = ?", system)
	if err != nil {
		return before{}, fmt.Errorf("read earlier looks: %w", err)
	}
	look.before = make(map[string]before, len(rows))
	for _, r := range rows {
		look.before[r.scope] = before{r.completed != "" && (r.sight == look.Sight || r.sight == ""), r.begun, r.completed}
	}
	return look.before[scope], nil
}

// Put is a change about to be written.
type Put struct {
	Subject, Name, Kind, MadeBy string
	What                        change.What
	ID                          int64 // of the account or dependent
	Fields                      []change.Field
	Rotation                    records.RotationID
}

// WriteChanges keeps them.
func (s *Log) WriteChanges(ctx context.Context, tx *sql.Tx, system records.SystemID, survey records.SurveyID, list []Put) error {
	if len(list) == 0 {
		return nil
	}
	insert, err := tx.PrepareContext(ctx, `INSERT INTO changes (at, subject, what, name, kind, system, made_by, rotation_id, survey_id, system_id, account_id, dependent_id, fields)
		SELECT ?, ?, ?, ?, ?, systems.name, ?, ?, ?, systems.id, CASE WHEN ? = 'account' THEN ? END, CASE WHEN ? = 'dependent' THEN ? END, ? FROM systems WHERE systems.id = ?`)
	if err != nil {
		return err
	}
	defer insert.Close()
	now := s.Stamp()
	for _, v := range list {
		fields := "[]"
		if len(v.Fields) > 0 {
			fields = database.AsJSON(v.Fields)
		}
		if _, err := insert.ExecContext(ctx, now, v.Subject, v.What, v.Name, v.Kind, v.MadeBy, v.Rotation, survey, v.Subject, v.ID, v.Subject, v.ID, fields, system); err != nil {
			return fmt.Errorf("change of %s: %w", v.Name, err)
		}
	}
	return nil
}

// whatBecame says it of a row that is about to be written; "" for nothing to tell.
func whatBecame(found, gone, newIsTold bool, fields []change.Field) change.What {
	switch {
	case !found && newIsTold:
		return change.New
	case !found:
		return ""
	case gone:
		return change.Back
	case len(fields) > 0:
		return change.Changed
	}
	return ""
}

// LatestChangeByOthers is what somebody outside of Moss Ledger changed last of an account,
// of the one that takes turns with it, or of the dependents of either, since some time;
// ErrNotFound when nothing.
func (s *Log) LatestChangeByOthers(ctx context.Context, account records.AccountID, since time.Time) (records.SeenChange, error) {
	return scanChange(s.Read.QueryRowContext(ctx, `WITH those AS (SELECT ?2 AS id UNION SELECT r.account_id FROM tandems n JOIN credentials w ON w.id = n.working JOIN credentials r ON r.id = n.resting WHERE w.account_id = ?2)
		SELECT `+changeColumns+" FROM changes x WHERE x.made_by = '"+records.ByOthers+"' AND x.what <> '"+string(change.New)+`' AND x.at > ?1
		AND (x.account_id IN (SELECT id FROM those) OR x.dependent_id IN (SELECT t.dependent_id FROM ties t WHERE t.account_id IN (SELECT id FROM those))) ORDER BY x.at DESC, x.id DESC LIMIT 1`, database.StampOf(since), account))
}
