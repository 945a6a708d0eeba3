package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const findingColumns = "f.id, f.key, f.kind, f.severity, f.subject, f.system, COALESCE(f.account_id, 0), f.dependent_id, f.credential_id, f.what, f.next, f.raised, f.seen, f.cleared, f.first"

func scanFinding(rows *sql.Rows, more ...any) (v records.Finding, err error) {
	var raised, seen, cleared, first string
	err = rows.Scan(append([]any{&v.ID, &v.Key, &v.Kind, &v.Severity, &v.Subject, &v.System, &v.AccountID, &v.DependentID, &v.CredentialID, &v.What, &v.Next, &raised, &seen, &cleared, &first}, more...)...)
	v.Raised, v.Seen, v.Cleared, v.First = database.TimeOf(raised), database.TimeOf(seen), database.TimeOf(cleared), database.TimeOf(first)
	return v, err
}

// FindingsAbout returns the open findings about a credential, and about places that
// hold or admit it, the gravest first.
func (s *Store) FindingsAbout(ctx context.Context, id records.CredentialID, places []records.DependentID) ([]records.Finding, error) {
	list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Finding, error) { return scanFinding(rows) },
		"SELECT "+findingColumns+" FROM findings f WHERE f.cleared = '' AND (f.credential_id = ? OR f.kind GLOB '*key*' AND f.dependent_id IN (SELECT value FROM json_each(?))) ORDER BY "+findingRank+", f.id", id, database.AsJSON(places))
	if list == nil {
		list = []records.Finding{}
	}
	return list, err
}

const findingRank = "CASE f.severity WHEN 'high' THEN '1 high' WHEN 'medium' THEN '2 medium' ELSE '3 low' END"

// Findings lists open findings, or all of them.
func (s *Store) Findings(ctx context.Context, all bool, q records.Query) (records.Page[records.Finding], error) {
	where := "f.cleared = ''"
	if all {
		where = ""
	}
	return database.PageOf(ctx, s.Read, database.Listing[records.Finding]{
		From: "findings f", ID: "f.id", Sort: "severity", Where: where,
		Scan:    findingColumns,
		Columns: []database.Column{{Name: "kind", Sql: "f.kind"}, {Name: "severity", Sql: "f.severity", Order: findingRank, Hidden: true}, {Name: "subject", Sql: "f.subject"}, {Name: "system", Sql: "f.system"}, {Name: "what", Sql: "f.what"}, {Name: "raised", Sql: "f.raised", Hidden: true}, {Name: "cleared", Sql: "f.cleared", Hidden: true}, {Name: "account_id", Sql: "COALESCE(f.account_id, 0)", Number: true}, {Name: "credential_id", Sql: "f.credential_id", Number: true}, {Name: "id", Sql: "f.id", Number: true}},
		ScanRow: func(rows *sql.Rows) (records.Finding, error) { return scanFinding(rows, new(any), new(any)) },
	}, q)
}

// inScope is a condition on keys, with an index: the scope itself, and what is
// under it. "drift/1" does not have "drift/12" in it.
const inScope = "(key = ? OR key >= ? AND key < ?)"

func scopeOf(scope string) []any {
	under := strings.TrimSuffix(scope, "/")
	return []any{under, under + "/", under + "0"} // 0 follows / in ASCII
}

// SetFindings replaces the open findings of a scope (a key, or the beginning of
// keys up to a slash): those in the list are raised or seen again, the others
// are cleared.
func (s *Store) SetFindings(ctx context.Context, scope string, list []records.Finding) error {
	if len(list) == 0 {
		// Nothing to raise and nothing to clear: nothing to write.
		open, err := database.Collect(ctx, s.Read, database.Single[int64], "SELECT id FROM findings WHERE cleared = '' AND "+inScope+" LIMIT 1", scopeOf(scope)...)
		if err != nil || len(open) == 0 {
			return err
		}
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		now := s.Stamp()
		keys := []string{}
		for _, f := range list {
			keys = append(keys, f.Key)
			_, err := tx.ExecContext(ctx, `INSERT INTO findings (key, kind, severity, subject, system, account_id, dependent_id, credential_id, what, next, raised, seen, first) VALUES (?,?,?,?,?,NULLIF(?, 0),?,?,?,?,?,?,?)
				ON CONFLICT (key) DO UPDATE SET severity=excluded.severity, subject=excluded.subject, system=excluded.system, account_id=excluded.account_id, dependent_id=excluded.dependent_id, credential_id=excluded.credential_id, what=excluded.what, next=excluded.next, seen=excluded.seen,
				raised=CASE WHEN findings.cleared = '' THEN findings.raised ELSE excluded.raised END, cleared=''`,
				f.Key, f.Kind, f.Severity, f.Subject, f.System, f.AccountID, f.DependentID, f.CredentialID, f.What, f.Next, now, now, now)
			if err != nil {
				return err
			}
		}
		raw, err := json.Marshal(keys)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE findings SET cleared = ? WHERE cleared = '' AND "+inScope+" AND key NOT IN (SELECT value FROM json_each(?))", append(append([]any{now}, scopeOf(scope)...), string(raw))...)
		return err
	})
}

// Overview counts.
func (s *Store) Overview(ctx context.Context) (records.Overview, error) {
	v := records.Overview{SystemStates: map[string]int{}, Findings: map[string]int{}}
	err := s.Read.QueryRowContext(ctx, `SELECT (SELECT COUNT(*) FROM systems), (SELECT COUNT(*) FROM accounts WHERE gone = ''), (SELECT COUNT(*) FROM credentials WHERE state = 'custody'),
		(SELECT COUNT(*) FROM dependents WHERE gone = ''), (SELECT COUNT(DISTINCT dependent_id) FROM ties JOIN dependents d ON d.id = dependent_id WHERE d.gone = ''),
		(SELECT COUNT(*) FROM accounts WHERE gone = '' AND never_expires AND enabled = 'yes')`).Scan(&v.Systems, &v.Accounts, &v.Custody, &v.Dependents, &v.Tied, &v.NeverExpire)
	if err != nil {
		return v, err
	}
	for query, into := range map[string]map[string]int{
		"SELECT state, COUNT(*) FROM systems GROUP BY state":                           v.SystemStates,
		"SELECT severity, COUNT(*) FROM findings WHERE cleared = '' GROUP BY severity": v.Findings,
	} {
		if err := s.counts(ctx, query, into); err != nil {
			return v, err
		}
	}
	return v, nil
}

func (s *Store) counts(ctx context.Context, query string, into map[string]int) error {
	rows, err := s.Read.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var key string
		var n int
		if err := rows.Scan(&key, &n); err != nil {
			return err
		}
		into[key] = n
	}
	return rows.Err()
}

// FindingsOf returns the open findings of a kind about an account.
func (s *Store) FindingsOf(ctx context.Context, account records.AccountID, kind string) ([]records.Finding, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (f records.Finding, err error) {
		return f, rows.Scan(&f.ID, &f.Kind, &f.Severity, &f.Subject, &f.System, &f.What, &f.Next)
	}, "SELECT id, kind, severity, subject, system, what, next FROM findings WHERE account_id = ? AND kind = ? AND cleared = '' ORDER BY key", account, kind)
}
