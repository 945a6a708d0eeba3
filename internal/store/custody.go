package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
)

// States of a sealed value. Law 2: a value is removed only with its account;
// "retired" values were proven to be refused.
const (
	SecretCandidate = "candidate" // prepared by a rotation, maybe at the authority
	SecretCurrent   = "current"
	SecretPrevious  = "previous" // was current before; not proven to be refused
	SecretRetired   = "retired"
)

// Secret is a sealed value.
type Secret struct {
	ID          int64
	AccountID   int64
	RotationID  int64
	State       string
	Sealed      []byte
	Fingerprint string
	Created     time.Time
}

// Binding names the record that a sealed value belongs to.
func (v Secret) Binding() string {
	return fmt.Sprintf("secret/account=%d/fingerprint=%s", v.AccountID, v.Fingerprint)
}

func addSecret(ctx context.Context, tx *sql.Tx, v Secret, now string) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO secrets (account_id, rotation_id, state, sealed, fingerprint, created) VALUES (?, NULLIF(?, 0), ?, ?, ?, ?)", v.AccountID, v.RotationID, v.State, v.Sealed, v.Fingerprint, now)
	return err
}

// AddCandidate stores a prepared value, synced (law 1).
func (s *Store) AddCandidate(ctx context.Context, v Secret) error {
	v.State = SecretCandidate
	return s.inTx(ctx, func(tx *sql.Tx) error { return addSecret(ctx, tx, v, s.stamp()) })
}

// Secrets returns all sealed values of an account, the newest first.
func (s *Store) Secrets(ctx context.Context, account int64) ([]Secret, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (v Secret, err error) {
		var created string
		err = rows.Scan(&v.ID, &v.AccountID, &v.RotationID, &v.State, &v.Sealed, &v.Fingerprint, &created)
		v.Created = timeOf(created)
		return v, err
	}, "SELECT id, account_id, COALESCE(rotation_id, 0), state, sealed, fingerprint, created FROM secrets WHERE account_id = ? ORDER BY id DESC", account)
}

// Fingerprints returns those of all values in custody, for a visit to look for.
func (s *Store) Fingerprints(ctx context.Context) ([]string, error) {
	return collect(ctx, s.read, single[string], "SELECT DISTINCT fingerprint FROM secrets WHERE state <> 'retired'")
}

// Custody is what is kept of an account in custody beside its values.
type Custody struct {
	AccountID int64     `json:"account_id"`
	Taken     time.Time `json:"taken"`
	TakenBy   string    `json:"taken_by"`
	Verified  time.Time `json:"verified,omitzero"`
	Verdict   string    `json:"verdict" enum:"accepted,refused,unclear,"`
	Words     string    `json:"words"`
	Rotated   time.Time `json:"rotated,omitzero"`
}

// Custody returns one, or ErrNotFound.
func (s *Store) Custody(ctx context.Context, account int64) (Custody, error) {
	var v Custody
	var taken, verified, rotated string
	err := s.read.QueryRowContext(ctx, "SELECT account_id, taken, taken_by, verified, verdict, words, rotated FROM custody WHERE account_id = ?", account).Scan(&v.AccountID, &taken, &v.TakenBy, &verified, &v.Verdict, &v.Words, &rotated)
	v.Taken, v.Verified, v.Rotated = timeOf(taken), timeOf(verified), timeOf(rotated)
	return v, one(err)
}

// Custodies returns the ids of all accounts in custody.
func (s *Store) Custodies(ctx context.Context) ([]int64, error) {
	return collect(ctx, s.read, single[int64], "SELECT account_id FROM custody ORDER BY account_id")
}

// TakeCustody makes a value the current one of an account.
func (s *Store) TakeCustody(ctx context.Context, v Secret, by, words string, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM custody WHERE account_id = ?", v.AccountID).Scan(&n); err != nil {
			return err
		}
		now := s.stamp()
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'previous' WHERE account_id = ? AND state = 'current'", v.AccountID); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'current' WHERE account_id = ? AND fingerprint = ? AND state = 'candidate'", v.AccountID, v.Fingerprint)
		if err != nil {
			return err
		}
		if changed, err := res.RowsAffected(); err != nil {
			return err
		} else if changed == 0 {
			v.State = SecretCurrent
			if err := addSecret(ctx, tx, v, now); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO custody (account_id, taken, taken_by, verified, verdict, words) VALUES (?,?,?,?,'accepted',?)
			ON CONFLICT (account_id) DO UPDATE SET verified=excluded.verified, verdict='accepted', words=excluded.words`, v.AccountID, now, by, now, words); err != nil {
			return err
		}
		return s.record(ctx, tx, entries...)
	})
}

// SaveVerdict stores the outcome of a verification.
func (s *Store) SaveVerdict(ctx context.Context, account int64, verdict, words string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE custody SET verified = ?, verdict = ?, words = ? WHERE account_id = ?", s.stamp(), verdict, words, account)
		return err
	})
}

// ReleaseCustody ends custody. The sealed values are removed: from now on
// somebody else is responsible for them.
func (s *Store) ReleaseCustody(ctx context.Context, account int64, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM rotations WHERE account_id = ? AND mode <> 'finished'", account).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return inUse("a rotation of it is not finished")
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM secrets WHERE account_id = ?", account); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "DELETE FROM custody WHERE account_id = ?", account)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("account %d is not in custody: %w", account, ErrNotFound)
		}
		return s.record(ctx, tx, entries...)
	})
}

// Settlement gives the two values of a finished rotation their places: the
// winner is current, the loser retired when it was proven to be refused, and
// kept as previous when it was not.
type Settlement struct {
	Winner, Loser int64
	LoserRefused  bool
}

func (s *Store) settle(ctx context.Context, tx *sql.Tx, account int64, v Settlement) error {
	state := SecretPrevious
	if v.LoserRefused {
		state = SecretRetired
	}
	now := s.stamp()
	for _, act := range []struct {
		state string
		id    int64
	}{{state, v.Loser}, {SecretCurrent, v.Winner}} {
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = ?, ended = ? WHERE account_id = ? AND id = ?", act.state, now, account, act.id); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE custody SET rotated = ?, verified = ?, verdict = 'accepted', words = 'proven by the rotation' WHERE account_id = ?", now, now, account)
	return err
}

// DropCandidate retires a prepared value that the authority refused.
func (s *Store) DropCandidate(ctx context.Context, account int64, fingerprint string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'retired', ended = ? WHERE account_id = ? AND fingerprint = ? AND state = 'candidate'", s.stamp(), account, fingerprint)
		return err
	})
}
