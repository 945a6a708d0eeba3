package charters

import (
	"context"
	"database/sql"
	"slices"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const (
	lineFrom    = "charter_lines n JOIN charters h ON h.id = n.charter_id JOIN systems s ON s.id = n.system_id LEFT JOIN accounts a ON a.id = n.account_id"
	lineColumns = "n.id, h.name, n.charter_id, s.name, n.system_id, COALESCE(a.name, ''), COALESCE(n.account_id, 0), n.section, n.item, n.state, n.was, n.why, n.at_next, n.detail, n.since, n.ended"
)

func scanLine(row interface{ Scan(...any) error }, more ...any) (v records.CharterLine, err error) {
	var detail, since, ended string
	err = row.Scan(append([]any{&v.ID, &v.Charter, &v.CharterID, &v.System, &v.SystemID, &v.Account, &v.AccountID, &v.Section, &v.Item, &v.State, &v.Was, &v.Why, &v.AtNext, &detail, &since, &ended}, more...)...)
	v.CharterDetail = database.FromJSON[records.CharterDetail](detail)
	v.Since, v.Ended = database.TimeOf(since), database.TimeOf(ended)
	return v, database.OrNotFound(err)
}

var lineList = database.Listing[records.CharterLine]{
	From: lineFrom, ID: "n.id", Sort: "rank", Scan: lineColumns,
	Columns: []database.Column{
		{Name: "charter", Sql: "h.name"},
		{Name: "system", Sql: "s.name"},
		{Name: "account", Sql: "COALESCE(a.name, '')"},
		{Name: "section", Sql: "n.section", Values: []string{charter.SectionMust, charter.SectionNever, charter.SectionAccount, charter.SectionOneOn, charter.SectionGroups, charter.SectionBeyond}},
		{Name: "item", Sql: "n.item"},
		{Name: "state", Sql: "n.state", Values: []string{"met", "missing", "excess", "forbidden", "differs", "unknown"}},
		{Name: "was", Sql: "n.was"},
		{Name: "why", Sql: "n.why"},
		{Name: "at_next", Sql: "n.at_next"},
		{Name: "since", Sql: "n.since", Hidden: true},
		{Name: "ended", Sql: "n.ended", Hidden: true},
		{Name: "rank", Sql: "CASE n.state WHEN 'forbidden' THEN 0 WHEN 'missing' THEN 1 WHEN 'differs' THEN 2 WHEN 'unknown' THEN 3 WHEN 'excess' THEN 4 ELSE 5 END", Number: true},
		{Name: "account_id", Sql: "COALESCE(n.account_id, 0)", Number: true},
		{Name: "system_id", Sql: "n.system_id", Number: true},
		{Name: "id", Sql: "n.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.CharterLine, error) { return scanLine(rows, new(any), new(any)) },
}

// CharterLines lists what charters come to now, or with ended what they came to and is otherwise.
func (s *Book) CharterLines(ctx context.Context, ended bool, q records.Query) (records.Page[records.CharterLine], error) {
	l := lineList
	l.Where = "n.ended = ''"
	if ended {
		l.Where = "n.ended <> ''"
	}
	return database.PageOf(ctx, s.Read, l, q)
}

// OpenLines are all lines of some states that hold now, at most so many of them.
func (s *Book) OpenLines(ctx context.Context, states []charter.State, most int) ([]records.CharterLine, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.CharterLine, error) { return scanLine(rows) },
		"SELECT "+lineColumns+" FROM "+lineFrom+" WHERE n.ended = '' AND n.state IN (SELECT value FROM json_each(?)) ORDER BY h.name, s.name, a.name, n.id LIMIT ?", database.AsJSON(states), most)
}

// LinesOfCharter are those that hold now, by account.
func (s *Book) LinesOfCharter(ctx context.Context, id records.CharterID) ([]records.CharterLine, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.CharterLine, error) { return scanLine(rows) },
		"SELECT "+lineColumns+" FROM "+lineFrom+" WHERE n.charter_id = ? AND n.ended = '' ORDER BY s.name, a.name, n.id", id)
}

// sliceLines is how many lines one transaction writes.
const sliceLines = 1000

type lineKey struct {
	charter records.CharterID
	account records.AccountID
	section string
	item    string
	nth     int // of several that read the same
}

type keptLine struct {
	id                       int64
	state, why, next, detail string
}

// PutCharterLines says what some charters come to on a system now, for all accounts there.
// What is as before is left; of what is otherwise the former line ends. It returns how many
// were otherwise.
func (s *Book) PutCharterLines(ctx context.Context, system records.SystemID, charters []records.CharterID, lines []records.CharterLine) (changed int, err error) {
	have := map[lineKey]keptLine{}
	seen := map[lineKey]int{}
	key := func(l records.CharterLine) lineKey {
		k := lineKey{l.CharterID, l.AccountID, l.Section, l.Item, 0}
		k.nth = seen[k]
		base := k
		base.nth = 0
		seen[base]++
		return k
	}
	if _, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var l records.CharterLine
		var k keptLine
		err = rows.Scan(&k.id, &l.CharterID, &l.AccountID, &l.Section, &l.Item, &k.state, &k.why, &k.next, &k.detail)
		have[key(l)] = k
		return none, err
	}, "SELECT id, charter_id, COALESCE(account_id, 0), section, item, state, why, at_next, detail FROM charter_lines WHERE system_id = ? AND ended = '' AND charter_id IN (SELECT value FROM json_each(?)) ORDER BY id", system, database.AsJSON(charters)); err != nil {
		return 0, err
	}
	clear(seen)
	now := s.Stamp()
	var writes []func(tx *sql.Tx) error
	for _, l := range lines {
		k := key(l)
		was, there := have[k]
		delete(have, k)
		detail := database.AsJSON(l.CharterDetail)
		switch {
		case there && was.state == string(l.State) && was.why == l.Why && was.next == l.AtNext && was.detail == detail:
			continue
		case there && was.state == string(l.State):
			writes = append(writes, func(tx *sql.Tx) error {
				_, err := tx.ExecContext(ctx, "UPDATE charter_lines SET why = ?, at_next = ?, detail = ? WHERE id = ?", l.Why, l.AtNext, detail, was.id)
				return err
			})
			continue
		}
		changed++
		writes = append(writes, func(tx *sql.Tx) error {
			if there {
				if _, err := tx.ExecContext(ctx, "UPDATE charter_lines SET ended = ? WHERE id = ?", now, was.id); err != nil {
					return err
				}
			}
			_, err := tx.ExecContext(ctx, "INSERT INTO charter_lines (charter_id, system_id, account_id, section, item, state, was, why, at_next, detail, since) VALUES (?,?,NULLIF(?, 0),?,?,?,?,?,?,?,?)",
				l.CharterID, system, l.AccountID, l.Section, l.Item, l.State, was.state, l.Why, l.AtNext, detail, now)
			return err
		})
	}
	gone := make([]int64, 0, len(have))
	for _, k := range have {
		gone = append(gone, k.id)
	}
	changed += len(gone)
	if len(gone) > 0 {
		writes = append(writes, func(tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, "UPDATE charter_lines SET ended = ? WHERE id IN (SELECT value FROM json_each(?))", now, database.AsJSON(gone))
			return err
		})
	}
	for part := range slices.Chunk(writes, sliceLines) {
		if err := s.InTx(ctx, func(tx *sql.Tx) error {
			for _, write := range part {
				if err := write(tx); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return changed, err
		}
	}
	return changed, nil
}

// EndCharterLines ends the lines of charters on systems other than those where they are held
// against something now.
func (s *Book) EndCharterLines(ctx context.Context, id records.CharterID, but []records.SystemID) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE charter_lines SET ended = ? WHERE charter_id = ? AND ended = '' AND system_id NOT IN (SELECT value FROM json_each(?))", s.Stamp(), id, database.AsJSON(append([]records.SystemID{}, but...)))
		return err
	})
}

// ForgetCharterLines removes lines that ended before a moment.
func (s *Book) ForgetCharterLines(ctx context.Context, before string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM charter_lines WHERE ended <> '' AND ended < ?", before)
		return err
	})
}
