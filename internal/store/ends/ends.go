// Package ends keeps when things end, in one list for all kinds.
package ends

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Calendar is the table of that.
type Calendar struct{ *database.DB }

const (
	from = "ends e CROSS JOIN systems s ON s.id = e.system_id LEFT JOIN accounts a ON a.id = e.account_id LEFT JOIN dependents d ON d.id = e.dependent_id"
	at   = "CASE e.state WHEN 'ends' THEN e.ordered ELSE '' END"
	name = "COALESCE(a.name, d.name, e.name)"
	// What a membership is of may have been read after its members.
	group = "(SELECT g.name FROM right_principals g WHERE g.system_id = e.system_id AND g.key = e.place)"
	place = "COALESCE(d.place, CASE WHEN e.what = 'membership' THEN " + group + " END, e.place)"
	uses  = `(CASE d.kind WHEN 'tls port' THEN json_array_length(d.requires)
		WHEN 'certificate' THEN (SELECT COUNT(*) FROM readers r JOIN dependents u ON u.id = r.dependent_id WHERE r.system_id = d.system_id AND r.path = d.path AND u.gone = '')
		WHEN 'issued key' THEN (SELECT COUNT(*) FROM dependents f WHERE f.kind = 'cloud key' AND json_extract(f.key, '$.key_id') = json_extract(d.key, '$.key_id') AND f.gone = '')
		ELSE (SELECT COUNT(*) FROM ties t JOIN dependents u ON u.id = t.dependent_id WHERE t.account_id = e.account_id AND u.gone = '') END)`
	labels  = "COALESCE((SELECT json_group_array(label) FROM account_labels WHERE account_id = e.account_id), '[]')"
	columns = "e.id, e.what, " + name + ", s.name, e.system_id, s.kind, COALESCE(e.account_id, 0), COALESCE(e.dependent_id, 0), " + place + ", e.state, " + at + ", e.why, e.live, " + uses + ", " + labels
)

// ofSystem finds the rows of a system, by what they are about.
const ofSystem = "SELECT id * 2 AS id FROM accounts WHERE system_id IN @ UNION ALL SELECT id * 2 + 1 FROM accounts WHERE system_id IN @ UNION ALL SELECT -id FROM dependents WHERE system_id IN @" + given + "system_id IN @"

// Names and places are looked for where they stand, rather than in each row of the list: those
// of accounts by the order of their names, those of keys by their kind or an index of parts.
const (
	namedAccounts = `SELECT a.id * 2 + n.n AS id FROM accounts a CROSS JOIN (SELECT 0 AS n UNION ALL SELECT 1) n WHERE a.name LIKE ?1 ESCAPE '\'`
	ofKeys        = "dependents d WHERE d.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key', 'tls port')"
	namedKeys     = "SELECT -d.id AS id FROM " + ofKeys + ` AND d.name LIKE ?1 ESCAPE '\'`
	placedKeys    = "SELECT -d.id AS id FROM " + ofKeys + ` AND d.place LIKE ?1 ESCAPE '\'`
	// What is given for a while has rows of its own, behind all others; they are few.
	given     = " UNION ALL SELECT id FROM ends WHERE id >= 1125899906842624 AND "
	ofSystems = `(SELECT id FROM systems WHERE name LIKE ?1 ESCAPE '\')`
)

func givenLike(column string) string { return given + column + ` LIKE ?1 ESCAPE '\'` }

func whats() (out []string) {
	for _, w := range expiry.Whats() {
		out = append(out, string(w))
	}
	return out
}

func states() (out []string) {
	for _, s := range expiry.States() {
		out = append(out, string(s))
	}
	return out
}

func (c *Calendar) scan(rows *sql.Rows, more ...any) (v records.EndRow, err error) {
	var ends, list string
	err = rows.Scan(append([]any{&v.ID, &v.What, &v.Name, &v.System, &v.SystemID, &v.Kind, &v.AccountID, &v.DependentID, &v.Place, &v.State, &ends, &v.Why, &v.Live, &v.Dependents, &list}, more...)...)
	v.At, v.Labels = database.TimeOf(ends), append([]string{}, database.FromJSON[[]string](list)...)
	v.Left = expiry.End{State: v.State, At: v.At, Why: v.Why}.Left(c.Now())
	return v, err
}

// neverEnding are accounts that never end themselves, as rows of the list.
const neverEnding = `(SELECT a.id * 2 + 1 AS id, 'account' AS what, a.system_id, a.id AS account_id, NULL AS dependent_id, 'never' AS state, '~2' AS ordered, '' AS why, a.enabled <> 'no' AND a.type NOT IN ('computer', 'system') AS live, '' AS name, '' AS place
	FROM accounts a JOIN systems s ON s.id = a.system_id WHERE a.gone = '' AND (a.account_expires = '' AND a.ends_unknown = '' OR a.account_expires >= '2200') AND s.kind NOT IN ('postgresql', 'mariadb', 'redis'))`

// Ends lists what ends, what ends first at the top; what never does, or is not known, comes
// last. That an account itself never ends is so of nearly all: they are listed when that is
// asked for, by the filters what=account and state=never.
func (c *Calendar) Ends(ctx context.Context, label string, q records.Query) (records.Page[records.EndRow], error) {
	l, err := c.listing(label, q)
	if err != nil {
		return records.Page[records.EndRow]{}, err
	}
	return database.PageOf(ctx, c.Read, l, q)
}

func (c *Calendar) listing(label string, q records.Query) (database.Listing[records.EndRow], error) {
	l := database.Listing[records.EndRow]{
		From: from, ID: "e.id", Sort: "at", Scan: columns,
		Columns: []database.Column{
			{Name: "at", Sql: at, Order: "e.ordered", Hidden: true},
			{Name: "what", Sql: "e.what", Hidden: true, Values: whats(), Having: "SELECT id FROM ends WHERE what = ?1 COLLATE NOCASE"},
			{Name: "name", Sql: name, Like: namedAccounts + " UNION ALL " + namedKeys + givenLike("name")},
			{Name: "system", Sql: "s.name", Having: strings.ReplaceAll(ofSystem, "@", "(SELECT id FROM systems WHERE name = ?1 COLLATE NOCASE)"), Like: strings.ReplaceAll(ofSystem, "@", ofSystems)},
			{Name: "system_kind", Sql: "s.kind", Hidden: true},
			{Name: "state", Sql: "e.state", Hidden: true, Values: states(), Implied: map[string]string{
				"ended": "e.ordered < '0'", "ends": "e.ordered >= '0' AND e.ordered < '~'", "unknown": "e.ordered >= '~' AND e.ordered < '~2'", "never": "e.ordered >= '~2'",
			}},
			{Name: "why", Sql: "e.why", Hidden: true},
			{Name: "place", Sql: place, Like: placedKeys + strings.Replace(givenLike("COALESCE("+group+", e.place)"), "FROM ends", "FROM ends e", 1)},
			{Name: "live", Sql: "e.live", Number: true, Having: "SELECT id FROM ends WHERE live = (LOWER(?1) IN ('yes', 'true', '1'))"},
			{Name: "dependents", Sql: uses, Number: true},
			{Name: "account_id", Sql: "COALESCE(e.account_id, 0)", Number: true, Having: "SELECT ?1 * 2 AS id UNION ALL SELECT ?1 * 2 + 1" + given + "account_id = ?1 UNION ALL SELECT id FROM ends WHERE account_id IS NULL AND CAST(?1 AS INTEGER) = 0"},
			{Name: "dependent_id", Sql: "COALESCE(e.dependent_id, 0)", Number: true, Having: "SELECT -?1 AS id UNION ALL SELECT id FROM ends WHERE dependent_id IS NULL AND CAST(?1 AS INTEGER) = 0"},
			{Name: "system_id", Sql: "e.system_id", Number: true, Having: strings.ReplaceAll(ofSystem, "@", "(?1)")},
			{Name: "id", Sql: "e.id", Number: true},
		},
		ScanRow: func(rows *sql.Rows) (records.EndRow, error) { return c.scan(rows, new(any), new(any)) },
	}
	if slices.Contains(q.Filters, "what=account") && slices.Contains(q.Filters, "state=never") {
		l.From = strings.Replace(from, "ends e", neverEnding+" e", 1)
		for i := range l.Columns { // they are of the written rows
			l.Columns[i].Having, l.Columns[i].Like = "", ""
		}
	}
	if label != "" {
		if err := rules.CheckLabel(label); err != nil { // it stands in the condition
			return l, fmt.Errorf("%w: %w", database.ErrQuery, err)
		}
		l.Where = "e.account_id IN (SELECT account_id FROM account_labels WHERE label = '" + label + "')"
	}
	return l, nil
}

// EndsInUse are those that end before a moment, from another one on, at most so many: of
// accounts that something depends on or that are in custody, of keys and of certificates. Of
// what is disabled nothing is told.
func (c *Calendar) EndsInUse(ctx context.Context, after, until time.Time, most int) ([]records.EndRow, error) {
	return database.Collect(ctx, c.Read, func(rows *sql.Rows) (records.EndRow, error) { return c.scan(rows) },
		// Few accounts are in use beside all that a directory has: the plus keeps the order from
		// being looked up by.
		`WITH used AS (SELECT account_id AS id FROM ties UNION SELECT account_id FROM credentials WHERE state = 'custody' AND account_id IS NOT NULL)
		SELECT `+columns+" FROM "+from+" WHERE e.id IN (SELECT id * 2 FROM used UNION ALL SELECT id * 2 + 1 FROM used UNION ALL SELECT id FROM ends WHERE id < 0"+given+"account_id IN (SELECT id FROM used)) AND +e.ordered >= ? AND +e.ordered < ? AND e.live ORDER BY +e.ordered, e.id LIMIT ?", database.StampOf(after), database.StampOf(until), most)
}

// EndsOf are those of one account.
func (c *Calendar) EndsOf(ctx context.Context, account records.AccountID) ([]records.EndRow, error) {
	return database.Collect(ctx, c.Read, func(rows *sql.Rows) (records.EndRow, error) { return c.scan(rows) },
		"SELECT "+columns+" FROM "+from+" WHERE e.id IN (SELECT ?1 * 2 UNION ALL SELECT ?1 * 2 + 1"+given+"account_id = ?1) ORDER BY e.ordered, e.id", account)
}

// EndsByDay counts what ends on each day, from one on and before another; days are those of
// UTC, written as 2026-12-24. What has no day is counted by its state.
func (c *Calendar) EndsByDay(ctx context.Context, first, before string) ([]records.EndsDay, error) {
	return database.Collect(ctx, c.Read, func(rows *sql.Rows) (v records.EndsDay, err error) {
		return v, rows.Scan(&v.Day, &v.What, &v.Live, &v.Count)
	}, "SELECT day, what, live, SUM(n) FROM ends_days WHERE day >= ? AND day < ? AND n > 0 GROUP BY day, what, live ORDER BY day, what, live", first, before)
}

// Timeline counts what ends in each part of a timeline, to the moment.
func (c *Calendar) Timeline(ctx context.Context) ([]records.EndsPart, error) {
	now := c.Now().UTC()
	// Nothing here is larger than a state's word: the days and the states, all at once.
	days, err := c.EndsByDay(ctx, "", "~")
	if err != nil {
		return nil, err
	}
	lasting, err := c.lasting(ctx)
	if err != nil {
		return nil, err
	}
	type key struct {
		part expiry.Part
		what expiry.What
		live bool
	}
	counts := map[key]int{}
	for _, d := range days {
		end := expiry.End{State: expiry.State(d.Day)}
		if at, err := time.Parse(time.DateOnly, d.Day); err == nil {
			end = expiry.End{State: expiry.Ends, At: at.Add(expiry.Day - time.Nanosecond)}
		}
		counts[key{end.Part(now), d.What, d.Live}] += d.Count
	}
	for live, n := range lasting {
		counts[key{expiry.PartNever, expiry.Account, live}] += n
	}
	// A day in which one part passes into the next was counted for the latter: what ends in it
	// before that moment is moved.
	for i, left := range []int{0, 7, 30, 90} {
		border := now.AddDate(0, 0, left)
		early, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (v records.EndsDay, err error) {
			return v, rows.Scan(&v.What, &v.Live, &v.Count)
		}, "SELECT what, live, COUNT(*) FROM ends WHERE ordered >= ? AND ordered <= ? GROUP BY what, live", database.StampOf(border.Truncate(expiry.Day)), database.StampOf(border))
		if err != nil {
			return nil, err
		}
		for _, d := range early {
			counts[key{expiry.Parts()[i+1], d.What, d.Live}] -= d.Count
			counts[key{expiry.Parts()[i], d.What, d.Live}] += d.Count
		}
	}
	out := []records.EndsPart{}
	for _, part := range expiry.Parts() {
		for _, what := range expiry.Whats() {
			for _, live := range []bool{true, false} {
				if n := counts[key{part, what, live}]; n > 0 {
					out = append(out, records.EndsPart{Part: part, What: what, Live: live, Count: n})
				}
			}
		}
	}
	return out, nil
}

// lasting counts accounts that themselves never end: all that may, but those that do.
func (c *Calendar) lasting(ctx context.Context) (map[bool]int, error) {
	type row struct {
		live bool
		n    int
	}
	rows, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.live, &r.n) },
		"SELECT live, SUM(CASE WHEN may_end THEN n WHEN what = 'account' AND day <> 'never' THEN -n ELSE 0 END) FROM ends_days GROUP BY live")
	out := map[bool]int{}
	for _, r := range rows {
		out[r.live] = r.n
	}
	return out, err
}

// OfAccounts derives when accounts end anew, in the transaction that wrote them. Of those that
// were known before, what was derived then is replaced.
// plain: none of them ends itself, and for none it is unknown, which is so of most.
func OfAccounts(ctx context.Context, tx *sql.Tx, accounts []int64, known, plain bool) error {
	if len(accounts) == 0 {
		return nil
	}
	args := []any{database.AsJSON(accounts)}
	of, rows := "IN (SELECT value FROM json_each(?1))", "IN (SELECT value * 2 FROM json_each(?1) UNION ALL SELECT value * 2 + 1 FROM json_each(?1))"
	if first, last := accounts[0], accounts[len(accounts)-1]; last-first == int64(len(accounts)-1) && slices.IsSorted(accounts) {
		// New ones come one after the other: they are read as they stand.
		args, of, rows = []any{first, last}, "BETWEEN ?1 AND ?2", "BETWEEN ?1 * 2 AND ?2 * 2 + 1"
	}
	if plain {
		of += " AND what <> 'account'" // those parts of the view are not looked at then
	}
	statements := []string{
		"DELETE FROM ends WHERE id " + rows,
		"INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end) SELECT id, what, system_id, account_id, state, ordered, why, live, may_end FROM account_ends WHERE account_id " + of,
		`INSERT INTO ends_days (day, what, live, may_end, n)
			SELECT CASE state WHEN 'ends' THEN substr(ordered, 1, 10) ELSE state END, what, live, may_end, COUNT(*) FROM ends
			WHERE id ` + rows + ` GROUP BY 1, 2, 3, 4
			ON CONFLICT DO UPDATE SET n = n + excluded.n`,
	}
	if !known {
		statements = statements[1:]
	}
	for _, statement := range statements {
		if _, err := tx.ExecContext(ctx, statement, args...); err != nil {
			return err
		}
	}
	return nil
}
