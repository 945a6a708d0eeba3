package policies

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const turnFrom = "turns t JOIN credentials c ON c.id = t.credential_id JOIN policies p ON p.id = t.policy_id LEFT JOIN accounts a ON a.id = c.account_id LEFT JOIN systems s ON s.id = a.system_id LEFT JOIN windows w ON w.id = p.window_id"

// turnSystem is that of the account, or one of those that have a certificate.
const turnSystem = "COALESCE(s.name, CASE WHEN c.kind = 'certificate' THEN " + certificateSystem + " END, '')"

// Of a certificate: the places of its key, and of itself. The list of kinds is that of an index.
const (
	certificatePlaces = "FROM dependents d JOIN systems x ON x.id = d.system_id WHERE d.kind IN ('key', 'authorized key', 'cloud key', 'issued key', 'certificate', 'tls port') AND json_extract(d.key, '$.fingerprint') = c.fingerprint AND d.gone = '' AND d.kind IN ('certificate', 'tls port')"
	certificateSystem = "(SELECT MIN(x.name) " + certificatePlaces + ")"
	certificateEnds   = "(SELECT MIN(json_extract(d.key, '$.ends')) " + certificatePlaces + ")"
)

const turnUndone = "COALESCE((SELECT r.ended FROM rotations r WHERE r.id = t.rotation_id AND r.result = 'undone'), '')"

const turnRunning = "EXISTS (SELECT 1 FROM rotations r WHERE r.credential_id = t.credential_id AND r.mode <> 'finished')"

const turnState = "CASE WHEN " + turnRunning + " THEN 'running' WHEN p.paused THEN 'paused' WHEN t.due <> '' AND t.failed > 0 THEN 'failed' WHEN t.due <> '' THEN 'due' ELSE 'planned' END"

const turnColumns = "t.credential_id, c.name, COALESCE(c.account_id, 0), " + turnSystem + ", t.policy_id, p.name, COALESCE(w.name, ''), " + turnState + ", t.since, t.next, t.next_ends, t.due, t.tried, t.failed, t.words, COALESCE(t.rotation_id, 0)"

var turnList = database.Listing[records.Turn]{
	From: turnFrom, ID: "t.credential_id", Sort: "next", Scan: turnColumns,
	Columns: []database.Column{
		{Name: "credential", Sql: "c.name"},
		{Name: "system", Sql: turnSystem},
		{Name: "policy", Sql: "p.name"},
		{Name: "window", Sql: "COALESCE(w.name, '')"},
		{Name: "state", Sql: turnState, Values: []string{"planned", "due", "failed", "running", "paused"}},
		{Name: "next", Sql: "t.next", Hidden: true},
		{Name: "due", Sql: "t.due", Hidden: true},
		{Name: "tried", Sql: "t.tried", Hidden: true},
		{Name: "failed", Sql: "t.failed", Number: true},
		{Name: "words", Sql: "t.words"},
		{Name: "account_id", Sql: "COALESCE(c.account_id, 0)", Number: true},
		{Name: "credential_id", Sql: "t.credential_id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.Turn, err error) {
		var since, next, ends, due, tried string
		err = rows.Scan(&v.CredentialID, &v.Credential, &v.AccountID, &v.System, &v.PolicyID, &v.Policy, &v.Window, &v.State, &since, &next, &ends, &due, &tried, &v.Failed, &v.Words, &v.RotationID, new(any), new(any))
		v.Since, v.Next, v.NextEnds, v.Due, v.Tried = database.TimeOf(since), database.TimeOf(next), database.TimeOf(ends), database.TimeOf(due), database.TimeOf(tried)
		return v, err
	},
}

// Turns lists when credentials are rotated next, the soonest first.
func (s *Tables) Turns(ctx context.Context, q records.Query) (records.Page[records.Turn], error) {
	return database.PageOf(ctx, s.Read, turnList, q)
}

// Candidates are the credentials in custody that belong to an account that is there, and the
// certificates that are somewhere, with their turns as they are kept. account chooses those of one; 0 all.
func (s *Tables) Candidates(ctx context.Context, account records.AccountID) ([]records.Candidate, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Candidate, err error) {
		var since, next, ends, due, tried, labels, changed, rotated, written, first, undone string
		err = rows.Scan(&v.CredentialID, &v.Credential, &v.AccountID, &v.System, &v.PolicyID, &v.HasTurn, &since, &next, &ends, &due, &tried, &v.Failed, &v.Words, &v.RotationID, &labels, &changed, &rotated, &written, &v.Running, &undone, &first)
		v.Since, v.Next, v.NextEnds, v.Due, v.Tried = database.TimeOf(since), database.TimeOf(next), database.TimeOf(ends), database.TimeOf(due), database.TimeOf(tried)
		v.Labels = database.FromJSON[[]string](labels)
		v.Undone = database.TimeOf(undone)
		v.Ends, _ = time.Parse(time.RFC3339, first)
		// What the authority says, what we did, and when the value that is current was made
		// here: the latest of them is when it changed last.
		for _, text := range []string{changed, rotated, written} {
			if at := database.TimeOf(text); at.After(v.Last) {
				v.Last = at
			}
		}
		return v, err
	}, `SELECT c.id, c.name, a.id, s.name, COALESCE(t.policy_id, 0), t.credential_id IS NOT NULL, COALESCE(t.since, ''), COALESCE(t.next, ''), COALESCE(t.next_ends, ''), COALESCE(t.due, ''), COALESCE(t.tried, ''), COALESCE(t.failed, 0), COALESCE(t.words, ''), COALESCE(t.rotation_id, 0),
			(SELECT json_group_array(l.label) FROM account_labels l WHERE l.account_id = a.id),
			CASE c.kind WHEN 'password' THEN a.password_changed ELSE '' END, c.rotated,
			COALESCE((SELECT x.created FROM secrets x WHERE x.credential_id = c.id AND x.state = 'current' AND x.rotation_id IS NOT NULL), ''),
			EXISTS (SELECT 1 FROM rotations r WHERE r.credential_id = c.id AND r.mode <> 'finished'), `+turnUndone+`, ''
		FROM credentials c JOIN accounts a ON a.id = c.account_id AND a.gone = '' JOIN systems s ON s.id = a.system_id LEFT JOIN turns t ON t.credential_id = c.id
		WHERE c.state = 'custody' AND (? = 0 OR a.id = ?) AND NOT EXISTS (SELECT 1 FROM tandems n WHERE n.resting = c.id)
		UNION ALL SELECT c.id, c.name, 0, COALESCE(`+certificateSystem+`, ''), COALESCE(t.policy_id, 0), t.credential_id IS NOT NULL, COALESCE(t.since, ''), COALESCE(t.next, ''), COALESCE(t.next_ends, ''), COALESCE(t.due, ''), COALESCE(t.tried, ''), COALESCE(t.failed, 0), COALESCE(t.words, ''), COALESCE(t.rotation_id, 0),
			'[]', '', c.rotated, COALESCE((SELECT x.created FROM secrets x WHERE x.credential_id = c.id AND x.state = 'current' AND x.rotation_id IS NOT NULL), ''),
			EXISTS (SELECT 1 FROM rotations r WHERE r.credential_id = c.id AND r.mode <> 'finished'), `+turnUndone+`, `+certificateEnds+`
		FROM credentials c LEFT JOIN turns t ON t.credential_id = c.id
		WHERE c.state = 'custody' AND c.kind = 'certificate' AND ? = 0 AND `+certificateEnds+` IS NOT NULL ORDER BY 1`, account, account, account)
}

// StaleTurns are those of credentials that are not in custody any more, or whose account
// is gone.
func (s *Tables) StaleTurns(ctx context.Context) ([]records.CredentialID, error) {
	return database.Collect(ctx, s.Read, database.Single[records.CredentialID],
		"SELECT t.credential_id FROM turns t JOIN credentials c ON c.id = t.credential_id LEFT JOIN accounts a ON a.id = c.account_id WHERE c.state <> 'custody' OR c.kind = 'certificate' AND "+certificateEnds+" IS NULL OR c.kind <> 'certificate' AND (a.id IS NULL OR a.gone <> '')")
}

// KeepTurns writes turns, and takes those away that there are no more.
func (s *Tables) KeepTurns(ctx context.Context, kept []records.Turn, gone []records.CredentialID) error {
	if len(kept)+len(gone) == 0 {
		return nil
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT INTO turns (credential_id, policy_id, since, next, next_ends, due, tried, failed, words, rotation_id) VALUES (?,?,?,?,?,?,?,?,?, NULLIF(?, 0))
			ON CONFLICT (credential_id) DO UPDATE SET policy_id = excluded.policy_id, since = excluded.since, next = excluded.next, next_ends = excluded.next_ends, due = excluded.due,
				tried = excluded.tried, failed = excluded.failed, words = excluded.words, rotation_id = excluded.rotation_id`)
		if err != nil {
			return err
		}
		defer func() { _ = put.Close() }()
		for _, v := range kept {
			if _, err := put.ExecContext(ctx, v.CredentialID, v.PolicyID, database.StampOf(v.Since), database.StampOf(v.Next), database.StampOf(v.NextEnds), database.StampOf(v.Due), database.StampOf(v.Tried), v.Failed, v.Words, v.RotationID); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM turns WHERE credential_id IN (SELECT value FROM json_each(?))", database.AsJSON(gone))
		return err
	})
}

// AddInterruptions keeps how long dependents stood still in a rotation.
func (s *Tables) AddInterruptions(ctx context.Context, list []records.Interruption) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, v := range list {
			if _, err := tx.ExecContext(ctx, "INSERT INTO interruptions (rotation_id, system_id, place, at, milliseconds, expected) VALUES (?,?,?,?,?,?) ON CONFLICT DO UPDATE SET at = excluded.at, milliseconds = excluded.milliseconds, expected = excluded.expected",
				v.RotationID, v.SystemID, v.Place, database.StampOf(v.At), v.Milliseconds, v.Expected); err != nil {
				return err
			}
		}
		return nil
	})
}

// Interruptions are those of one rotation, the longest first.
func (s *Tables) Interruptions(ctx context.Context, rotation records.RotationID) ([]records.Interruption, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Interruption, err error) {
		var at string
		err = rows.Scan(&v.RotationID, &v.SystemID, &v.System, &v.Place, &at, &v.Milliseconds, &v.Expected)
		v.At = database.TimeOf(at)
		return v, err
	}, "SELECT i.rotation_id, i.system_id, s.name, i.place, i.at, i.milliseconds, i.expected FROM interruptions i JOIN systems s ON s.id = i.system_id WHERE i.rotation_id = ? ORDER BY i.milliseconds DESC, s.name, i.place", rotation)
}

// ExpectedInterruptions are how long the dependents of a system stood still, by place: the
// median of the last five times.
func (s *Tables) ExpectedInterruptions(ctx context.Context, system records.SystemID) (map[string]time.Duration, error) {
	type measured struct {
		place        string
		milliseconds int64
	}
	list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v measured, err error) { return v, rows.Scan(&v.place, &v.milliseconds) },
		`SELECT place, milliseconds FROM (SELECT place, milliseconds, ROW_NUMBER() OVER (PARTITION BY place ORDER BY at DESC) AS n FROM interruptions WHERE system_id = ?) WHERE n <= 5 ORDER BY place, milliseconds`, system)
	if err != nil {
		return nil, err
	}
	out := map[string]time.Duration{}
	for i := 0; i < len(list); {
		end := i
		for end < len(list) && list[end].place == list[i].place {
			end++
		}
		out[list[i].place] = time.Duration(list[i+(end-i)/2].milliseconds) * time.Millisecond
		i = end
	}
	return out, nil
}

const metaFreeze = "freeze"

// FreezeNow returns whether everything is frozen, by whom, and why.
func (s *Tables) FreezeNow(ctx context.Context) (v records.Freeze, err error) {
	raw, err := s.Meta(ctx, metaFreeze)
	if there, err := database.Found(err); !there {
		return v, err
	}
	return v, json.Unmarshal(raw, &v)
}

// SetFreeze keeps it, with its entry in the ledger.
func (s *Tables) SetFreeze(ctx context.Context, v records.Freeze, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", metaFreeze, database.AsJSON(v)); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}
