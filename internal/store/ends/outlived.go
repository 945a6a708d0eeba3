package ends

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const (
	outlivedFrom = "outlived o JOIN systems s ON s.id = o.system_id LEFT JOIN accounts a ON a.id = o.account_id LEFT JOIN dependents d ON d.id = o.dependent_id"
	outlivedName = "COALESCE(d.name, a.name)"
	outlivedWhat = "CASE WHEN o.dependent_id IS NULL THEN 'account' ELSE 'key' END"
	outlivedKey  = "CASE WHEN d.id IS NULL THEN '' ELSE COALESCE(NULLIF(json_extract(d.key, '$.key_id'), ''), json_extract(d.key, '$.fingerprint'), '') END"
	outlivedAll  = "o.id, " + outlivedWhat + ", " + outlivedName + ", s.name, o.system_id, s.kind, COALESCE(o.account_id, 0), COALESCE(o.dependent_id, 0), " + outlivedKey + ", o.points, o.reasons, o.remedy, o.uses, o.since"
)

var outlived = database.Listing[records.Outlived]{
	From: outlivedFrom, ID: "o.id", Sort: "-points", Scan: outlivedAll,
	Columns: []database.Column{
		{Name: "points", Sql: "o.points", Number: true},
		{Name: "name", Sql: outlivedName},
		{Name: "system", Sql: "s.name"},
		{Name: "system_kind", Sql: "s.kind"},
		{Name: "what", Sql: outlivedWhat, Values: []string{"account", "key"}},
		{Name: "remedy", Sql: "o.remedy", Values: expiry.Remedies()},
		{Name: "dependents", Sql: "o.uses", Number: true},
		{Name: "reasons", Sql: "o.reasons", Hidden: true},
		{Name: "key_id", Sql: outlivedKey},
		{Name: "since", Sql: "o.since"},
		{Name: "account_id", Sql: "COALESCE(o.account_id, 0)", Number: true},
		{Name: "dependent_id", Sql: "COALESCE(o.dependent_id, 0)", Number: true},
		{Name: "system_id", Sql: "o.system_id", Number: true},
		{Name: "id", Sql: "o.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.Outlived, err error) {
		var reasons, since string
		err = rows.Scan(&v.ID, &v.What, &v.Name, &v.System, &v.SystemID, &v.Kind, &v.AccountID, &v.DependentID, &v.KeyID, &v.Points, &reasons, &v.Remedy, &v.Dependents, &since, new(any), new(any))
		v.Reasons, v.Since = append([]string{}, database.FromJSON[[]string](reasons)...), database.TimeOf(since)
		return v.Told(), err
	},
}

// Outlived lists what has outlived its purpose, what has most first.
func (c *Calendar) Outlived(ctx context.Context, q records.Query) (records.Page[records.Outlived], error) {
	return database.PageOf(ctx, c.Read, outlived, q)
}

// judged are accounts that programs use, as far as is known: something depends on them, they are
// in custody or have a label, or are of a system that has no others. A directory has very many
// besides.
const judged = `SELECT a.id, a.name, a.enabled, MAX(a.last_logon, COALESCE((SELECT MAX(last) FROM uses u WHERE u.account_id = a.id AND u.account_id <> 0 AND u.failed = 0), '')), a.password_changed, a.account_expires, a.first_seen,
		COALESCE(c.state, '') = 'custody', COALESCE((SELECT json_group_array(label) FROM account_labels l WHERE l.account_id = a.id), '[]'),
		(SELECT COUNT(DISTINCT d.id) FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = a.id AND d.gone = '' AND d.kind NOT IN ('issued key', 'authorized key')),
		a.owner
	FROM accounts a LEFT JOIN credentials c ON c.account_id = a.id AND c.kind = 'password'
	WHERE a.system_id = ?1 AND a.gone = '' AND a.type NOT IN ('computer', 'system', 'managed') AND NOT ` + database.AccountBuiltIn + `
		AND (?2 OR c.state = 'custody' OR EXISTS (SELECT 1 FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = a.id AND d.gone = '') OR EXISTS (SELECT 1 FROM account_labels l WHERE l.account_id = a.id))`

// usedByPrograms are the few of a directory among which those are.
const usedByPrograms = " AND a.id IN (SELECT account_id FROM ties UNION SELECT account_id FROM credentials WHERE state = 'custody' AND account_id IS NOT NULL UNION SELECT account_id FROM account_labels)"

// LivesOf are the accounts of a system, and the keys that it accepts, with what they are judged
// by. all: its accounts are all those of programs.
func (c *Calendar) LivesOf(ctx context.Context, system records.SystemID, all bool) ([]records.LifeToJudge, error) {
	away, err := c.away(ctx, system)
	if err != nil {
		return nil, err
	}
	of := judged
	if !all {
		of += usedByPrograms
	}
	list, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (v records.LifeToJudge, err error) {
		var enabled estate.Tristate
		var used, changed, expires, seen, labels string
		err = rows.Scan(&v.AccountID, &v.Name, &enabled, &used, &changed, &expires, &seen, &v.Custody, &labels, &v.Dependents, &v.Owner)
		v.Owner = away[strings.ToLower(v.Owner)]
		v.ID, v.What, v.SystemID, v.Labels = int64(v.AccountID), expiry.Account, system, database.FromJSON[[]string](labels)
		v.Life = expiry.Life{Seen: database.TimeOf(seen), Used: database.TimeOf(used), Changed: database.TimeOf(changed), End: expiry.End{State: expiry.Never}, Enabled: enabled != estate.No}
		if at := database.TimeOf(expires); !at.IsZero() {
			v.Life.End = expiry.At(at)
		}
		return v, err
	}, of, system, all)
	if err != nil {
		return nil, err
	}
	keys, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (v records.LifeToJudge, err error) {
		var raw, seen, enabled, labels string
		var issued int // an entry lets in without a password, whether the account has one or not
		err = rows.Scan(&v.DependentID, &v.Name, &raw, &seen, &issued, &v.AccountID, &enabled, &labels, &v.Dependents)
		key := database.FromJSON[estate.Key](raw)
		v.ID, v.What, v.SystemID, v.Labels = -int64(v.DependentID), expiry.Key, system, database.FromJSON[[]string](labels)
		v.Life = expiry.Life{Born: key.Begins, Seen: database.TimeOf(seen), Used: key.Used, End: expiry.End{State: expiry.Never}, Enabled: key.Ended == "" && (issued == 0 || enabled != string(estate.No))}
		if !key.Ends.IsZero() {
			v.Life.End = expiry.At(key.Ends)
		}
		return v, err
	}, `SELECT d.id, d.name, d.key, d.first_seen, d.kind = 'issued key', COALESCE(MAX(a.id), 0), COALESCE(MAX(a.enabled), ''), COALESCE((SELECT json_group_array(label) FROM account_labels l WHERE l.account_id = a.id), '[]'),
			(SELECT COUNT(*) FROM dependents h WHERE h.kind IN ('key', 'authorized key', 'cloud key', 'issued key', 'certificate', 'tls port') AND h.kind IN ('key', 'cloud key') AND json_extract(h.key, '$.fingerprint') = json_extract(d.key, '$.fingerprint') AND h.gone = '')
		FROM dependents d LEFT JOIN ties t ON t.dependent_id = d.id AND t.strength = 'authorizes' LEFT JOIN accounts a ON a.id = t.account_id AND a.gone = ''
		WHERE d.system_id = ? AND d.kind IN ('issued key', 'authorized key') AND d.gone = '' GROUP BY d.id`, system)
	return append(list, keys...), err
}

// away are the accounts of a system that are gone or disabled, by how an owner may be written.
// One that was made anew under its name is there.
func (c *Calendar) away(ctx context.Context, system records.SystemID) (map[string]string, error) {
	out := map[string]string{}
	_, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var name, dn string
		if err = rows.Scan(&name, &dn); name != "" {
			out[strings.ToLower(name)] = name
		}
		if dn != "" {
			out[strings.ToLower(dn)] = name
		}
		return none, err
	}, `SELECT a.name, a.dn FROM accounts a WHERE a.system_id = ? AND (a.gone <> '' OR a.enabled = 'no')
		AND NOT EXISTS (SELECT 1 FROM accounts l WHERE l.name = a.name COLLATE NOCASE AND l.system_id = a.system_id AND l.gone = '' AND l.enabled <> 'no')`, system)
	return out, err
}

// rowsAtOnce are written by one transaction.
const rowsAtOnce = 500

// PutOutlived says what of a system has outlived its purpose; what is not named has not.
func (c *Calendar) PutOutlived(ctx context.Context, system records.SystemID, list []records.Outlived) error {
	have := map[int64]string{}
	type row struct {
		id  int64
		was string
	}
	known, err := database.Collect(ctx, c.Read, func(rows *sql.Rows) (r row, err error) {
		err = rows.Scan(&r.id, &r.was)
		return r, err
	}, "SELECT id, points || reasons || remedy || uses FROM outlived WHERE system_id = ?", system)
	if err != nil {
		return err
	}
	for _, r := range known {
		have[r.id] = r.was
	}
	var write []records.Outlived
	for _, v := range list {
		if have[v.ID] != fmt.Sprint(v.Points, database.AsJSON(v.Reasons), v.Remedy, v.Dependents) {
			write = append(write, v)
		}
		delete(have, v.ID)
	}
	gone := []int64{}
	for id := range have {
		gone = append(gone, id)
	}
	now := c.Stamp()
	for part := range slices.Chunk(write, rowsAtOnce) {
		if err := c.InTx(ctx, func(tx *sql.Tx) error {
			for _, v := range part {
				if _, err := tx.ExecContext(ctx, `INSERT INTO outlived (id, system_id, account_id, dependent_id, points, reasons, remedy, uses, since) VALUES (?, ?, NULLIF(?, 0), NULLIF(?, 0), ?, ?, ?, ?, ?)
					ON CONFLICT (id) DO UPDATE SET since = CASE WHEN outlived.points = excluded.points THEN outlived.since ELSE excluded.since END, account_id = excluded.account_id, points = excluded.points, reasons = excluded.reasons, remedy = excluded.remedy, uses = excluded.uses`,
					v.ID, system, v.AccountID, v.DependentID, v.Points, database.AsJSON(v.Reasons), v.Remedy, v.Dependents, now); err != nil {
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
	return c.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM outlived WHERE id IN (SELECT value FROM json_each(?))", database.AsJSON(gone))
		return err
	})
}
