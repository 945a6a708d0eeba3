// Package risks keeps how much each account matters.
package risks

import (
	"context"
	"database/sql"
	"slices"

	"mossledger.example/moss/internal/core/risk"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Ranking is the table of that.
type Ranking struct{ *database.DB }

const (
	from    = "risks r JOIN accounts a ON a.id = r.account_id JOIN systems s ON s.id = a.system_id"
	custody = "EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.state = 'custody')"
	columns = "r.account_id, a.name, s.name, a.system_id, s.kind, " + custody + ", r.score, r.power, r.weakness, r.parts, r.since"
)

var listing = database.Listing[records.Risk]{
	From: from, ID: "r.account_id", Sort: "-score", Scan: columns, Where: "a.gone = ''",
	Columns: []database.Column{
		{Name: "account", Sql: "a.name"},
		{Name: "system", Sql: "s.name"},
		{Name: "system_kind", Sql: "s.kind"},
		{Name: "score", Sql: "r.score", Number: true},
		{Name: "power", Sql: "r.power", Number: true},
		{Name: "weakness", Sql: "r.weakness", Number: true},
		{Name: "custody", Sql: custody, Number: true},
		{Name: "parts", Sql: "r.parts", Hidden: true},
		{Name: "since", Sql: "r.since", Hidden: true},
		{Name: "system_id", Sql: "a.system_id", Number: true},
		{Name: "account_id", Sql: "r.account_id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.Risk, err error) {
		var parts, since string
		err = rows.Scan(&v.AccountID, &v.Account, &v.System, &v.SystemID, &v.Kind, &v.Custody, &v.Score.Score, &v.Power, &v.Weakness, &parts, &since, new(any), new(any))
		v.Parts, v.Since = append([]risk.Part{}, database.FromJSON[[]risk.Part](parts)...), database.TimeOf(since)
		v.Words = v.Score.Words()
		return v, err
	},
}

// Risks lists accounts, those that matter most first.
func (s *Ranking) Risks(ctx context.Context, q records.Query) (records.Page[records.Risk], error) {
	return database.PageOf(ctx, s.Read, listing, q)
}

// toRank are the accounts that may have a score: those of which it is known who lies in what, that
// an entry names, or that are given. A directory has very many besides.
const toRank = `SELECT value AS id FROM json_each(?2)
	UNION SELECT b.id FROM right_principals p CROSS JOIN accounts b WHERE p.system_id = ?1 AND b.system_id = ?1 AND b.stable_id = p.key
	UNION SELECT b.id FROM right_lists l JOIN right_entries e ON e.list_id = l.id AND e.taken = '' CROSS JOIN accounts b WHERE l.system_id = ?1 AND b.system_id = ?1 AND b.stable_id = e.given_to`

// ToRank returns the accounts of a system that are ranked, with what a score is made of and
// nothing else. among are those that have power whatever rights are known.
func (s *Ranking) ToRank(ctx context.Context, system records.SystemID, among []records.AccountID) ([]records.Account, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (a records.Account, err error) {
		var changed string
		err = rows.Scan(&a.ID, &a.StableID, &a.Name, &a.Enabled, &a.NeverExpire, &changed, &a.Owner, &a.Shell)
		a.PasswordChanged = database.TimeOf(changed)
		return a, err
	}, "SELECT a.id, a.stable_id, a.name, a.enabled, a.never_expires, a.password_changed, a.owner, CASE WHEN a.lists = '' THEN '' ELSE COALESCE(json_extract(a.lists, '$.s'), '') END FROM accounts a LEFT JOIN credentials c ON c.account_id = a.id AND c.kind = 'password' WHERE a.id IN ("+toRank+") AND a.system_id = ?1 AND a.gone = '' AND NOT "+database.AccountBuiltIn, system, database.AsJSON(append([]records.AccountID{}, among...)))
}

// TiedTo says for accounts of a system on how many other systems something depends on them,
// and of what kinds the findings about them are.
func (s *Ranking) TiedTo(ctx context.Context, system records.SystemID) (hosts map[records.AccountID]int, findings map[records.AccountID][]string, err error) {
	hosts, findings = map[records.AccountID]int{}, map[records.AccountID][]string{}
	if _, err = database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var id records.AccountID
		var n int
		err = rows.Scan(&id, &n)
		hosts[id] = n
		return none, err
	}, "SELECT t.account_id, COUNT(DISTINCT d.system_id) FROM ties t JOIN accounts a ON a.id = t.account_id JOIN dependents d ON d.id = t.dependent_id WHERE a.system_id = ? AND d.gone = '' GROUP BY t.account_id", system); err != nil {
		return nil, nil, err
	}
	_, err = database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var id records.AccountID
		var kind string
		err = rows.Scan(&id, &kind)
		findings[id] = append(findings[id], kind)
		return none, err
	}, `SELECT f.account_id, f.kind FROM findings f JOIN accounts a ON a.id = f.account_id WHERE f.cleared = '' AND a.system_id = ?1
		UNION SELECT t.account_id, f.kind FROM findings f JOIN ties t ON t.dependent_id = f.dependent_id JOIN accounts a ON a.id = t.account_id WHERE f.cleared = '' AND f.dependent_id <> 0 AND a.system_id = ?1`, system)
	return hosts, findings, err
}

// sliceRows is how many rows one transaction writes.
const sliceRows = 500

// PutRisks says how much the accounts of a system matter; those that are not named have no score.
func (s *Ranking) PutRisks(ctx context.Context, system records.SystemID, scores map[records.AccountID]risk.Score) error {
	have := map[records.AccountID]string{}
	if _, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var id records.AccountID
		var parts string
		err = rows.Scan(&id, &parts)
		have[id] = parts
		return none, err
	}, "SELECT r.account_id, r.parts FROM risks r JOIN accounts a ON a.id = r.account_id WHERE a.system_id = ?", system); err != nil {
		return err
	}
	var write []records.AccountID
	gone := []records.AccountID{}
	for id, v := range scores {
		if have[id] != database.AsJSON(v.Parts) {
			write = append(write, id)
		}
	}
	for id := range have {
		if _, still := scores[id]; !still {
			gone = append(gone, id)
		}
	}
	now := s.Stamp()
	for part := range slices.Chunk(write, sliceRows) {
		if err := s.InTx(ctx, func(tx *sql.Tx) error {
			for _, id := range part {
				v := scores[id]
				if _, err := tx.ExecContext(ctx, `INSERT INTO risks (account_id, score, power, weakness, parts, since) VALUES (?,?,?,?,?,?)
					ON CONFLICT (account_id) DO UPDATE SET since = CASE WHEN risks.score = excluded.score THEN risks.since ELSE excluded.since END, score = excluded.score, power = excluded.power, weakness = excluded.weakness, parts = excluded.parts`,
					id, v.Score, v.Power, v.Weakness, database.AsJSON(v.Parts), now); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM risks WHERE account_id IN (SELECT value FROM json_each(?))", database.AsJSON(gone))
		return err
	})
}
