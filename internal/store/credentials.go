package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/records"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/ledger"
)

const (
	keyKinds       = "d.kind IN ('key', 'authorized key') AND json_extract(d.key, '$.fingerprint') = c.fingerprint AND d.gone = ''"
	credentialFrom = "credentials c LEFT JOIN accounts a ON a.id = c.account_id LEFT JOIN systems ON systems.id = a.system_id"
	// Also keys that are nowhere any more stay, while they are in custody.
	credentialThere   = "(c.state = 'custody' OR CASE c.kind WHEN 'ssh-key' THEN EXISTS (SELECT 1 FROM dependents d WHERE " + keyKinds + ") ELSE a.gone = '' END)"
	credentialPoints  = "(CASE c.kind WHEN 'ssh-key' THEN (SELECT COUNT(*) FROM dependents d WHERE " + keyKinds + " AND d.kind = 'authorized key') ELSE a.gone = '' END)"
	credentialHolders = `(CASE c.kind WHEN 'ssh-key' THEN (SELECT COUNT(*) FROM dependents d WHERE ` + keyKinds + ` AND d.kind = 'key')
		ELSE (SELECT COUNT(DISTINCT d.id) FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = c.account_id AND d.gone = '' AND (t.strength = 'matches' OR t.strength = 'runs as' AND d.stores)) END)`
	credentialName    = "COALESCE(a.name, c.name)" //nolint:gosec // the columns of a query
	credentialColumns = "c.id, c.kind, " + credentialName + ", COALESCE(c.account_id, 0), COALESCE(a.system_id, 0), COALESCE(systems.name, ''), c.fingerprint, c.type, c.bits, " + credentialPoints + ", " + credentialHolders +
		", c.state, c.not_before, c.not_after, c.first_seen, c.taken, c.taken_by, c.verified, c.verdict, c.words, c.rotated"
)

func scanCredential(row interface{ Scan(...any) error }, more ...any) (records.Credential, error) {
	var v records.Credential
	var before, after, seen, taken, verified, rotated string
	err := row.Scan(append([]any{&v.ID, &v.Kind, &v.Name, &v.AccountID, &v.SystemID, &v.System, &v.Fingerprint, &v.Type, &v.Bits, &v.Points, &v.Locations, &v.State, &before, &after, &seen, &taken, &v.TakenBy, &verified, &v.Verdict, &v.Words, &rotated}, more...)...)
	v.NotBefore, v.NotAfter, v.FirstSeen, v.Taken, v.Verified, v.Rotated = timeOf(before), timeOf(after), timeOf(seen), timeOf(taken), timeOf(verified), timeOf(rotated)
	return v, one(err)
}

// Credentials lists them.
func (s *Store) Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error) {
	return page(ctx, s.read, listing[records.Credential]{
		from: credentialFrom, where: credentialThere, id: "c.id", sort: "name", scan: credentialColumns,
		columns: []column{
			{name: "id", sql: "c.id", number: true},
			{name: "name", sql: credentialName},
			{name: "kind", sql: "c.kind", values: credential.Names()},
			{name: "system", sql: "COALESCE(systems.name, '')"},
			{name: "account_id", sql: "COALESCE(c.account_id, 0)", number: true},
			{name: "fingerprint", sql: "c.fingerprint"},
			{name: "type", sql: "c.type"},
			{name: "bits", sql: "c.bits", number: true},
			{name: "points", sql: credentialPoints, number: true},
			{name: "locations", sql: credentialHolders, number: true},
			{name: "state", sql: "c.state", values: []string{records.CredentialSeen, records.CredentialCustody}},
			{name: "verdict", sql: "c.verdict"},
			{name: "taken", sql: "c.taken"},
			{name: "verified", sql: "c.verified"},
			{name: "rotated", sql: "c.rotated"},
			{name: "not_after", sql: "c.not_after"},
			{name: "first_seen", sql: "c.first_seen"},
		},
		scanRow: func(rows *sql.Rows) (records.Credential, error) { return scanCredential(rows, new(any), new(any)) },
	}, q)
}

// Credential returns one by id.
func (s *Store) Credential(ctx context.Context, id records.CredentialID) (records.Credential, error) {
	return s.credential(ctx, fmt.Sprintf("credential %d", id), "c.id = ?", id)
}

// KeyOf returns the key with a fingerprint.
func (s *Store) KeyOf(ctx context.Context, fingerprint string) (records.Credential, error) {
	return s.credential(ctx, "key "+fingerprint, "c.kind = 'ssh-key' AND c.fingerprint = ?", fingerprint)
}

// PasswordOf returns the password of an account; ErrNotFound when none was noted.
func (s *Store) PasswordOf(ctx context.Context, account int64) (records.Credential, error) {
	return s.credential(ctx, fmt.Sprintf("password of account %d", account), "c.kind = 'password' AND c.account_id = ?", account)
}

func (s *Store) credential(ctx context.Context, what, where string, args ...any) (records.Credential, error) {
	v, err := scanCredential(s.read.QueryRowContext(ctx, "SELECT "+credentialColumns+" FROM "+credentialFrom+" WHERE "+where, args...))
	if err != nil {
		return v, fmt.Errorf("%s: %w", what, err)
	}
	return v, nil
}

// NotePassword gives the password of an account a row, unless it has one.
func (s *Store) NotePassword(ctx context.Context, account int64) (records.Credential, error) {
	if v, err := s.PasswordOf(ctx, account); err == nil || !errors.Is(err, records.ErrNotFound) {
		return v, err
	}
	if err := s.inTx(ctx, func(tx *sql.Tx) error { return notePasswords(ctx, tx, []int64{account}, "") }); err != nil {
		return records.Credential{}, err
	}
	return s.PasswordOf(ctx, account)
}

// passwordUsed: something holds the account's password, or stands beside one.
const passwordUsed = "EXISTS (SELECT 1 FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = a.id AND d.gone = '' AND (t.strength IN ('matches', 'beside', 'differs') OR t.strength = 'runs as' AND d.stores))"

const passwordsOf = `INSERT INTO credentials (kind, account_id, name, first_seen) SELECT 'password', a.id, a.name, a.first_seen FROM accounts a
	WHERE a.id IN (SELECT value FROM json_each(?)) AND NOT EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.kind = 'password')`

func notePasswords(ctx context.Context, tx *sql.Tx, accounts []int64, and string) error {
	_, err := tx.ExecContext(ctx, passwordsOf+and, text(accounts))
	return err
}

// InCustody returns all credentials whose values are kept.
func (s *Store) InCustody(ctx context.Context) ([]records.Credential, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (records.Credential, error) { return scanCredential(rows) },
		"SELECT "+credentialColumns+" FROM "+credentialFrom+" WHERE c.state = 'custody' ORDER BY c.id")
}

// TakeCustody makes a value the current one of a credential.
func (s *Store) TakeCustody(ctx context.Context, v records.Secret, by, words string, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		now := s.stamp()
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'previous' WHERE credential_id = ? AND state = 'current'", v.CredentialID); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'current' WHERE credential_id = ? AND fingerprint = ? AND state = 'candidate'", v.CredentialID, v.Fingerprint)
		if err != nil {
			return err
		}
		if changed, err := res.RowsAffected(); err != nil {
			return err
		} else if changed == 0 {
			v.State = records.SecretCurrent
			if err := addSecret(ctx, tx, v, now); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE credentials SET taken = CASE state WHEN 'custody' THEN taken ELSE ? END, taken_by = CASE state WHEN 'custody' THEN taken_by ELSE ? END,
			state = 'custody', verified = ?, verdict = 'accepted', words = ? WHERE id = ?`, now, by, now, words, v.CredentialID); err != nil {
			return err
		}
		return s.record(ctx, tx, entries...)
	})
}

// SaveVerdict stores the outcome of a verification.
func (s *Store) SaveVerdict(ctx context.Context, id records.CredentialID, verdict, words string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE credentials SET verified = ?, verdict = ?, words = ? WHERE id = ? AND state = 'custody'", s.stamp(), verdict, words, id)
		return err
	})
}

// ReleaseCustody ends custody. The sealed values are removed: from now on
// somebody else is responsible for them.
func (s *Store) ReleaseCustody(ctx context.Context, id records.CredentialID, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM rotations WHERE credential_id = ? AND mode <> 'finished'", id).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return inUse("a rotation of it is not finished")
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM secrets WHERE credential_id = ?", id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM steward_links WHERE account_id = (SELECT account_id FROM credentials WHERE id = ? AND kind = 'password')", id); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "UPDATE credentials SET state = 'seen', taken = '', taken_by = '', verified = '', verdict = '', words = '', rotated = '' WHERE id = ? AND state = 'custody'", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("credential %d is not in custody: %w", id, records.ErrNotFound)
		}
		return s.record(ctx, tx, entries...)
	})
}
