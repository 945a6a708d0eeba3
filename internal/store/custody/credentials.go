// Package custody keeps credentials, sealed values, rehearsals and rotations.
package custody

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Custody are the tables of credentials, of their sealed values, and of rehearsals
// and rotations with their journals.
type Custody struct{ *database.DB }

const (
	pairKinds = "'ssh-key', 'cloud-key', 'certificate'"
	// isPair: see credential.Kind.Pair.
	isPair         = "c.kind IN (" + pairKinds + ")"
	keyKinds       = "d.kind IN ('key', 'authorized key', 'cloud key', 'issued key', 'certificate', 'tls port') AND json_extract(d.key, '$.fingerprint') = c.fingerprint AND d.gone = ''"
	credentialFrom = "credentials c LEFT JOIN accounts a ON a.id = c.account_id LEFT JOIN systems ON systems.id = a.system_id"
	// Also keys that are nowhere any more stay, while they are in custody.
	credentialThere   = "(c.state = 'custody' OR CASE WHEN " + isPair + " THEN EXISTS (SELECT 1 FROM dependents d WHERE " + keyKinds + ") ELSE a.gone = '' END)"
	credentialPoints  = "(CASE WHEN " + isPair + " THEN (SELECT COUNT(*) FROM dependents d WHERE " + keyKinds + " AND d.kind IN ('authorized key', 'issued key', 'tls port')) ELSE a.gone = '' END)"
	credentialHolders = `(CASE WHEN ` + isPair + ` THEN (SELECT COUNT(*) FROM dependents d WHERE ` + keyKinds + ` AND d.kind IN ('key', 'cloud key'))
		ELSE (SELECT COUNT(DISTINCT d.id) FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = c.account_id AND d.gone = '' AND (t.strength = 'matches' OR t.strength = 'runs as' AND d.stores)) END)`
	credentialName    = "CASE WHEN " + isPair + " THEN c.name ELSE COALESCE(a.name, c.name) END"
	credentialColumns = "c.id, c.kind, " + credentialName + ", COALESCE(c.account_id, 0), COALESCE(a.system_id, 0), COALESCE(systems.name, ''), c.fingerprint, c.type, c.bits, " + credentialPoints + ", " + credentialHolders +
		", c.state, c.not_before, c.not_after, c.first_seen, c.taken, c.taken_by, c.verified, c.verdict, c.words, c.rotated"
)

func scanCredential(row interface{ Scan(...any) error }, more ...any) (records.Credential, error) {
	var v records.Credential
	var before, after, seen, taken, verified, rotated string
	err := row.Scan(append([]any{&v.ID, &v.Kind, &v.Name, &v.AccountID, &v.SystemID, &v.System, &v.Fingerprint, &v.Type, &v.Bits, &v.Points, &v.Locations, &v.State, &before, &after, &seen, &taken, &v.TakenBy, &verified, &v.Verdict, &v.Words, &rotated}, more...)...)
	v.NotBefore, v.NotAfter, v.FirstSeen, v.Taken, v.Verified, v.Rotated = database.TimeOf(before), database.TimeOf(after), database.TimeOf(seen), database.TimeOf(taken), database.TimeOf(verified), database.TimeOf(rotated)
	return v, database.OrNotFound(err)
}

// Credentials lists them.
func (s *Custody) Credentials(ctx context.Context, q records.Query) (records.Page[records.Credential], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Credential]{
		From: credentialFrom, Where: credentialThere, ID: "c.id", Sort: "name", Scan: credentialColumns,
		Columns: []database.Column{
			{Name: "id", Sql: "c.id", Number: true},
			{Name: "name", Sql: credentialName},
			{Name: "kind", Sql: "c.kind", Values: credential.Names()},
			{Name: "system", Sql: "COALESCE(systems.name, '')"},
			{Name: "account_id", Sql: "COALESCE(c.account_id, 0)", Number: true},
			{Name: "fingerprint", Sql: "c.fingerprint"},
			{Name: "type", Sql: "c.type"},
			{Name: "bits", Sql: "c.bits", Number: true},
			{Name: "points", Sql: credentialPoints, Number: true},
			{Name: "locations", Sql: credentialHolders, Number: true},
			{Name: "state", Sql: "c.state", Values: []string{records.CredentialSeen, records.CredentialCustody}},
			{Name: "verdict", Sql: "c.verdict"},
			{Name: "taken", Sql: "c.taken"},
			{Name: "verified", Sql: "c.verified"},
			{Name: "rotated", Sql: "c.rotated"},
			{Name: "not_after", Sql: "c.not_after"},
			{Name: "first_seen", Sql: "c.first_seen"},
		},
		ScanRow: func(rows *sql.Rows) (records.Credential, error) { return scanCredential(rows, new(any), new(any)) },
	}, q)
}

// Credential returns one by id.
func (s *Custody) Credential(ctx context.Context, id records.CredentialID) (records.Credential, error) {
	return s.credential(ctx, fmt.Sprintf("credential %d", id), "c.id = ?", id)
}

// KeyOf returns the key with a fingerprint.
func (s *Custody) KeyOf(ctx context.Context, fingerprint string) (records.Credential, error) {
	return s.credential(ctx, "key "+fingerprint, isPair+" AND c.fingerprint = ?", fingerprint)
}

// PasswordOf returns the password of an account; ErrNotFound when none was noted.
func (s *Custody) PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error) {
	return s.credential(ctx, fmt.Sprintf("password of account %d", account), "c.kind = 'password' AND c.account_id = ?", account)
}

func (s *Custody) credential(ctx context.Context, what, where string, args ...any) (records.Credential, error) {
	v, err := scanCredential(s.Read.QueryRowContext(ctx, "SELECT "+credentialColumns+" FROM "+credentialFrom+" WHERE "+where, args...))
	if err != nil {
		return v, fmt.Errorf("%s: %w", what, err)
	}
	return v, nil
}

// NotePassword gives the password of an account a row, unless it has one.
func (s *Custody) NotePassword(ctx context.Context, account records.AccountID) (records.Credential, error) {
	if v, err := s.PasswordOf(ctx, account); err == nil || !errors.Is(err, records.ErrNotFound) {
		return v, err
	}
	if err := s.InTx(ctx, func(tx *sql.Tx) error { return NotePasswords(ctx, tx, []records.AccountID{account}, "") }); err != nil {
		return records.Credential{}, err
	}
	return s.PasswordOf(ctx, account)
}

// PasswordUsed: something holds the account's password, or stands beside one.
const PasswordUsed = "EXISTS (SELECT 1 FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id = a.id AND d.gone = '' AND (t.strength IN ('matches', 'beside', 'differs') OR t.strength = 'runs as' AND d.stores))"

const passwordsOf = `INSERT INTO credentials (kind, account_id, name, first_seen) SELECT 'password', a.id, a.name, a.first_seen FROM accounts a
	WHERE a.id IN (SELECT value FROM json_each(?)) AND NOT EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.kind = 'password')`

// NotePasswords gives the passwords of accounts a row where they have none; and
// narrows which of them.
func NotePasswords(ctx context.Context, tx *sql.Tx, accounts []records.AccountID, and string) error {
	_, err := tx.ExecContext(ctx, passwordsOf+and, database.AsJSON(accounts))
	return err
}

// InCustody returns all credentials whose values are kept.
func (s *Custody) InCustody(ctx context.Context) ([]records.Credential, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Credential, error) { return scanCredential(rows) },
		"SELECT "+credentialColumns+" FROM "+credentialFrom+" WHERE c.state = 'custody' ORDER BY c.id")
}

// TakeCustody makes a value the current one of a credential.
func (s *Custody) TakeCustody(ctx context.Context, v records.Secret, by, words string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		now := s.Stamp()
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
		return s.Enter(ctx, tx, entries...)
	})
}

// SaveVerdict stores the outcome of a verification.
func (s *Custody) SaveVerdict(ctx context.Context, id records.CredentialID, verdict, words string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE credentials SET verified = ?, verdict = ?, words = ? WHERE id = ? AND state = 'custody'", s.Stamp(), verdict, words, id)
		return err
	})
}

// ReleaseCustody ends custody. The sealed values are removed: from now on
// somebody else is responsible for them.
func (s *Custody) ReleaseCustody(ctx context.Context, id records.CredentialID, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		var open, turns bool
		if err := tx.QueryRowContext(ctx, "SELECT "+rotating+", EXISTS (SELECT 1 FROM tandems WHERE working = ? OR resting = ?)", id, id, id, id).Scan(&open, &turns); err != nil {
			return err
		}
		switch {
		case open:
			return database.InUse("a rotation of it is not finished")
		case turns:
			return database.InUse("it takes turns with another account: remove the tandem first")
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
		return s.Enter(ctx, tx, entries...)
	})
}
