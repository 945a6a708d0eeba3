package custody

import (
	"context"
	"database/sql"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

func addSecret(ctx context.Context, tx *sql.Tx, v records.Secret, now string) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO secrets (credential_id, rotation_id, state, sealed, fingerprint, public, created) VALUES (?, NULLIF(?, 0), ?, ?, ?, ?, ?)",
		v.CredentialID, v.RotationID, v.State, v.Sealed, v.Fingerprint, v.Public, now)
	return err
}

// AddCandidate stores a prepared value, synced (law 1).
func (s *Custody) AddCandidate(ctx context.Context, v records.Secret) error {
	v.State = records.SecretCandidate
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if v.RotationID == 0 {
			var rotates bool
			if err := tx.QueryRowContext(ctx, "SELECT "+rotating, v.CredentialID, v.CredentialID).Scan(&rotates); err != nil {
				return err
			}
			if rotates {
				return database.InUse("a rotation of it is not finished")
			}
		}
		return addSecret(ctx, tx, v, s.Stamp())
	})
}

// Secrets returns all sealed values of a credential, the newest first.
func (s *Custody) Secrets(ctx context.Context, id records.CredentialID) ([]records.Secret, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Secret, err error) {
		var created, ended string
		err = rows.Scan(&v.ID, &v.CredentialID, &v.Kind, &v.AccountID, &v.RotationID, &v.State, &v.Sealed, &v.Fingerprint, &v.Public, &created, &ended, &v.SystemID)
		v.Created, v.Ended = database.TimeOf(created), database.TimeOf(ended)
		return v, err
	}, `SELECT x.id, x.credential_id, c.kind, COALESCE(c.account_id, 0), COALESCE(x.rotation_id, 0), x.state, x.sealed, x.fingerprint, x.public, x.created, x.ended, COALESCE(a.system_id, 0)
		FROM secrets x JOIN credentials c ON c.id = x.credential_id LEFT JOIN accounts a ON a.id = c.account_id WHERE x.credential_id = ? ORDER BY x.id DESC`, id)
}

// OpenCandidates returns prepared values of accounts that no rotation made: of
// resets whose end is not known.
func (s *Custody) OpenCandidates(ctx context.Context) ([]records.Secret, error) {
	ids, err := database.Collect(ctx, s.Read, database.Single[records.CredentialID], "SELECT DISTINCT x.credential_id FROM secrets x JOIN credentials c ON c.id = x.credential_id WHERE x.state = 'candidate' AND x.rotation_id IS NULL AND c.kind = 'password' ORDER BY 1")
	var out []records.Secret
	for _, id := range ids {
		all, err := s.Secrets(ctx, id)
		if err != nil {
			return nil, err
		}
		for _, v := range all {
			if v.State == records.SecretCandidate && v.RotationID == 0 {
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
func (s *Custody) Fingerprints(ctx context.Context) ([]string, error) {
	return database.Collect(ctx, s.Read, database.Single[string], "SELECT fingerprint FROM secrets WHERE state <> 'retired' OR ended > ? UNION SELECT fingerprint FROM given_values", database.StampOf(s.Now().Add(-lookedFor)))
}

func (s *Custody) settle(ctx context.Context, tx *sql.Tx, id records.CredentialID, v records.Settlement) error {
	if v.Winner != 0 {
		if err := s.settleValues(ctx, tx, id, v); err != nil {
			return err
		}
	}
	if v.Tandem != nil {
		return s.tandemIs(ctx, tx, *v.Tandem)
	}
	return nil
}

func (s *Custody) settleValues(ctx context.Context, tx *sql.Tx, id records.CredentialID, v records.Settlement) error {
	state := records.SecretPrevious
	if v.LoserRefused {
		state = records.SecretRetired
	}
	now := s.Stamp()
	// What was undone was not rotated: its turn is still due.
	var undone bool
	if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM secrets WHERE credential_id = ? AND id = ? AND state = 'current')", id, v.Winner).Scan(&undone); err != nil {
		return err
	}
	for _, act := range []struct {
		state string
		id    records.SecretID
	}{{state, v.Loser}, {records.SecretCurrent, v.Winner}} {
		if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = ?, ended = ? WHERE credential_id = ? AND id = ?", act.state, now, id, act.id); err != nil {
			return err
		}
	}
	if v.Public != nil {
		if err := becomes(ctx, tx, id, *v.Public); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE credentials SET rotated = CASE WHEN ? THEN rotated ELSE ? END, verified = ?, verdict = 'accepted', words = 'proven by the rotation' WHERE id = ? AND state = 'custody'", undone, now, now, id)
	return err
}

// DropCandidate retires a prepared value that the authority refused.
func (s *Custody) DropCandidate(ctx context.Context, id records.CredentialID, fingerprint string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE secrets SET state = 'retired', ended = ? WHERE credential_id = ? AND fingerprint = ? AND state = 'candidate'", s.Stamp(), id, fingerprint)
		return err
	})
}

// keptDays is for how many days former values of a credential are kept, as the policy says
// that decides for it.
const keptDays = "COALESCE((SELECT NULLIF(json_extract(p.settings, '$.undo_days'), 0) FROM turns t JOIN policies p ON p.id = t.policy_id WHERE t.credential_id = x.credential_id), ?)"

// undoable is what must not be erased: a rotation of it is not finished, or a rehearsal was
// made lately that may be about undoing one.
const undoable = "EXISTS (SELECT 1 FROM rotations r WHERE r.credential_id = x.credential_id AND r.mode <> 'finished') OR EXISTS (SELECT 1 FROM rotations r WHERE r.next_credential_id = x.credential_id AND r.mode <> 'finished') OR EXISTS (SELECT 1 FROM rehearsals h WHERE h.credential_id = x.credential_id AND h.created > ?)"

// UndoDays is for how many days former values of a credential are kept.
func (s *Custody) UndoDays(ctx context.Context, id records.CredentialID) (days int, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT "+keptDays+" FROM (SELECT ? AS credential_id) x", records.UndoDays, id).Scan(&days)
	return days, err
}

// FormerValues returns those that are proven to be refused, whose value is still sealed and
// whose rotation nobody is about to undo.
func (s *Custody) FormerValues(ctx context.Context, rehearsed time.Time) ([]records.FormerValue, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.FormerValue, err error) {
		var ended string
		err = rows.Scan(&v.ID, &v.CredentialID, &v.Credential, &v.System, &ended, &v.Days)
		v.Ended = database.TimeOf(ended)
		return v, err
	}, `SELECT x.id, x.credential_id, c.name, COALESCE(y.name, ''), x.ended, `+keptDays+` FROM secrets x JOIN credentials c ON c.id = x.credential_id LEFT JOIN accounts a ON a.id = c.account_id LEFT JOIN systems y ON y.id = a.system_id
		WHERE x.state = 'retired' AND length(x.sealed) > 0 AND NOT (`+undoable+`) ORDER BY x.credential_id, x.id`, records.UndoDays, database.StampOf(rehearsed))
}

// EraseFormer takes away the values themselves, unless one may be needed again meanwhile.
func (s *Custody) EraseFormer(ctx context.Context, ids []records.SecretID, rehearsed time.Time, entries ...ledger.Entry) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE secrets AS x SET sealed = x'' WHERE x.id IN (SELECT value FROM json_each(?)) AND x.state = 'retired' AND NOT ("+undoable+")", database.AsJSON(ids), database.StampOf(rehearsed))
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return n, err
}
