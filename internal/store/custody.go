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

// Credential names what can be in custody: the password of an account, or a
// key pair. One of the two is set.
type Credential struct {
	AccountID int64
	KeyID     int64
}

// credentialIs picks the rows of a credential.
const credentialIs = "account_id IS NULLIF(?, 0) AND key_id IS NULLIF(?, 0)"

func (c Credential) String() string {
	if c.KeyID != 0 {
		return fmt.Sprintf("key/%d", c.KeyID)
	}
	return fmt.Sprintf("account/%d", c.AccountID)
}

// Secret is a sealed value.
type Secret struct {
	ID int64
	Credential
	RotationID  int64
	State       string
	Sealed      []byte
	Fingerprint string
	Public      string // of a private key: the fingerprint of its public half
	Created     time.Time
	SystemID    int64 // of a password: where its account lives, which is part of what it is bound to
}

// Binding names the record that a sealed value belongs to.
func (v Secret) Binding() string {
	if v.KeyID != 0 {
		return fmt.Sprintf("secret/key=%d/fingerprint=%s", v.KeyID, v.Fingerprint)
	}
	return fmt.Sprintf("secret/account=%d/system=%d/fingerprint=%s", v.AccountID, v.SystemID, v.Fingerprint)
}

// FormerBinding is how passwords were bound in databases of the first versions.
func (v Secret) FormerBinding() string {
	return fmt.Sprintf("secret/account=%d/fingerprint=%s", v.AccountID, v.Fingerprint)
}

func addSecret(ctx context.Context, tx *sql.Tx, v Secret, now string) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO secrets (account_id, key_id, rotation_id, state, sealed, fingerprint, public, created) VALUES (NULLIF(?, 0), NULLIF(?, 0), NULLIF(?, 0), ?, ?, ?, ?, ?)",
		v.AccountID, v.KeyID, v.RotationID, v.State, v.Sealed, v.Fingerprint, v.Public, now)
	return err
}

// AddCandidate stores a prepared value, synced (law 1).
func (s *Store) AddCandidate(ctx context.Context, v Secret) error {
	v.State = SecretCandidate
	return s.inTx(ctx, func(tx *sql.Tx) error { return addSecret(ctx, tx, v, s.stamp()) })
}

// Secrets returns all sealed values of a credential, the newest first.
func (s *Store) Secrets(ctx context.Context, c Credential) ([]Secret, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (v Secret, err error) {
		var created string
		err = rows.Scan(&v.ID, &v.AccountID, &v.KeyID, &v.RotationID, &v.State, &v.Sealed, &v.Fingerprint, &v.Public, &created, &v.SystemID)
		v.Created = timeOf(created)
		return v, err
	}, "SELECT id, COALESCE(account_id, 0), COALESCE(key_id, 0), COALESCE(rotation_id, 0), state, sealed, fingerprint, public, created, COALESCE((SELECT system_id FROM accounts WHERE accounts.id = secrets.account_id), 0) FROM secrets WHERE "+credentialIs+" ORDER BY id DESC", c.AccountID, c.KeyID)
}

// OpenCandidates returns prepared values of accounts that no rotation made: of
// resets whose end is not known.
func (s *Store) OpenCandidates(ctx context.Context) ([]Secret, error) {
	accounts, err := collect(ctx, s.read, single[int64], "SELECT DISTINCT account_id FROM secrets WHERE state = 'candidate' AND rotation_id IS NULL AND account_id IS NOT NULL ORDER BY account_id")
	var out []Secret
	for _, account := range accounts {
		all, err := s.Secrets(ctx, Credential{AccountID: account})
		if err != nil {
			return nil, err
		}
		for _, v := range all {
			if v.State == SecretCandidate && v.RotationID == 0 {
				out = append(out, v)
			}
		}
	}
	return out, err
}

// lookedFor is how long a value that is refused is still looked for: what holds
// it was forgotten.
const lookedFor = 30 * 24 * time.Hour

// Fingerprints returns those of all values in custody, for a visit to look for,
// and of those that were retired lately.
func (s *Store) Fingerprints(ctx context.Context) ([]string, error) {
	return collect(ctx, s.read, single[string], "SELECT DISTINCT fingerprint FROM secrets WHERE state <> 'retired' OR ended > ?", stampOf(s.now().Add(-lookedFor)))
}

// Custody is what is kept of a credential in custody beside its values.
type Custody struct {
	AccountID int64     `json:"account_id,omitempty"`
	KeyID     int64     `json:"key_id,omitempty"`
	Taken     time.Time `json:"taken"`
	TakenBy   string    `json:"taken_by"`
	Verified  time.Time `json:"verified,omitzero"`
	Verdict   string    `json:"verdict" enum:"accepted,refused,unclear,"`
	Words     string    `json:"words"`
	Rotated   time.Time `json:"rotated,omitzero"`
}

// Custody returns one, or ErrNotFound.
func (s *Store) Custody(ctx context.Context, c Credential) (Custody, error) {
	var v Custody
	var taken, verified, rotated string
	err := s.read.QueryRowContext(ctx, "SELECT COALESCE(account_id, 0), COALESCE(key_id, 0), taken, taken_by, verified, verdict, words, rotated FROM custody WHERE "+credentialIs, c.AccountID, c.KeyID).Scan(&v.AccountID, &v.KeyID, &taken, &v.TakenBy, &verified, &v.Verdict, &v.Words, &rotated)
	v.Taken, v.Verified, v.Rotated = timeOf(taken), timeOf(verified), timeOf(rotated)
	return v, one(err)
}

// Custodies returns all that is in custody.
func (s *Store) Custodies(ctx context.Context) ([]Credential, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (c Credential, err error) {
		return c, rows.Scan(&c.AccountID, &c.KeyID)
	}, "SELECT COALESCE(account_id, 0), COALESCE(key_id, 0) FROM custody ORDER BY account_id, key_id")
}

// TakeCustody makes a value the current one of a credential.
func (s *Store) TakeCustody(ctx context.Context, v Secret, by, words string, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		now := s.stamp()
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'previous' WHERE "+credentialIs+" AND state = 'current'", v.AccountID, v.KeyID); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'current' WHERE "+credentialIs+" AND fingerprint = ? AND state = 'candidate'", v.AccountID, v.KeyID, v.Fingerprint)
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
		if _, err := tx.ExecContext(ctx, `INSERT INTO custody (account_id, key_id, taken, taken_by, verified, verdict, words) VALUES (NULLIF(?, 0), NULLIF(?, 0), ?, ?, ?, 'accepted', ?)
			ON CONFLICT DO UPDATE SET verified=excluded.verified, verdict='accepted', words=excluded.words`, v.AccountID, v.KeyID, now, by, now, words); err != nil {
			return err
		}
		return s.record(ctx, tx, entries...)
	})
}

// SaveVerdict stores the outcome of a verification.
func (s *Store) SaveVerdict(ctx context.Context, c Credential, verdict, words string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE custody SET verified = ?, verdict = ?, words = ? WHERE "+credentialIs, s.stamp(), verdict, words, c.AccountID, c.KeyID)
		return err
	})
}

// ReleaseCustody ends custody. The sealed values are removed: from now on
// somebody else is responsible for them.
func (s *Store) ReleaseCustody(ctx context.Context, c Credential, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM rotations WHERE "+credentialIs+" AND mode <> 'finished'", c.AccountID, c.KeyID).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return inUse("a rotation of it is not finished")
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM secrets WHERE "+credentialIs, c.AccountID, c.KeyID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM steward_links WHERE account_id = ?", c.AccountID); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "DELETE FROM custody WHERE "+credentialIs, c.AccountID, c.KeyID)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("%s is not in custody: %w", c, ErrNotFound)
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
	Pair          *KeyPair // of a key: the winner's public half
}

func (s *Store) settle(ctx context.Context, tx *sql.Tx, c Credential, v Settlement) error {
	state := SecretPrevious
	if v.LoserRefused {
		state = SecretRetired
	}
	now := s.stamp()
	for _, act := range []struct {
		state string
		id    int64
	}{{state, v.Loser}, {SecretCurrent, v.Winner}} {
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = ?, ended = ? WHERE "+credentialIs+" AND id = ?", act.state, now, c.AccountID, c.KeyID, act.id); err != nil {
			return err
		}
	}
	if v.Pair != nil {
		if err := becomes(ctx, tx, c.KeyID, *v.Pair); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE custody SET rotated = ?, verified = ?, verdict = 'accepted', words = 'proven by the rotation' WHERE "+credentialIs, now, now, c.AccountID, c.KeyID)
	return err
}

// DropCandidate retires a prepared value that the authority refused.
func (s *Store) DropCandidate(ctx context.Context, c Credential, fingerprint string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'retired', ended = ? WHERE "+credentialIs+" AND fingerprint = ? AND state = 'candidate'", s.stamp(), c.AccountID, c.KeyID, fingerprint)
		return err
	})
}
