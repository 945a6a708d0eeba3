package custody

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// SaveRehearsal stores one.
func (s *Custody) SaveRehearsal(ctx context.Context, v *records.Rehearsal) error {
	v.Created = s.Now().UTC()
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO rehearsals (credential_id, created, created_by, plan, checks, verdict) VALUES (?, ?, ?, ?, ?, ?)", v.CredentialID, database.StampOf(v.Created), v.CreatedBy, database.AsJSON(v.Plan), database.AsJSON(v.Checks), v.Verdict)
		if err != nil {
			return err
		}
		v.ID, err = database.Made[records.RehearsalID](res)
		return err
	})
}

// LatestRehearsal returns the newest of a credential.
func (s *Custody) LatestRehearsal(ctx context.Context, id records.CredentialID) (records.Rehearsal, error) {
	var v records.Rehearsal
	var created, plan, checks string
	err := s.Read.QueryRowContext(ctx, "SELECT id, credential_id, created, created_by, plan, checks, verdict FROM rehearsals WHERE credential_id = ? ORDER BY id DESC LIMIT 1", id).Scan(&v.ID, &v.CredentialID, &created, &v.CreatedBy, &plan, &checks, &v.Verdict)
	v.Created, v.Plan, v.Checks = database.TimeOf(created), database.FromJSON[rotation.Plan](plan), database.FromJSON[[]connect.Checked](checks)
	return v, database.OrNotFound(err)
}

const rotationFrom = "rotations r JOIN credentials c ON c.id = r.credential_id"

const rotationColumns = "r.id, r.credential_id, c.kind, r.name, COALESCE(c.account_id, 0), r.authority, r.plan, r.policy, r.mode, r.result, r.requested_by, r.reason, r.override, r.consent, COALESCE(r.rehearsal_id, 0), COALESCE(r.old_secret, 0), r.started, r.ended"

func scanRotation(row interface{ Scan(...any) error }, more ...any) (records.Rotation, error) {
	var v records.Rotation
	var plan, started, ended string
	err := row.Scan(append([]any{&v.ID, &v.CredentialID, &v.CredentialKind, &v.Credential, &v.AccountID, &v.Authority, &plan, &v.OnFailure, &v.Mode, &v.Result, &v.RequestedBy, &v.Reason, &v.Override, &v.Consent, &v.RehearsalID, &v.OldSecret, &started, &ended}, more...)...)
	v.Plan, v.Started, v.Ended = database.FromJSON[rotation.Plan](plan), database.TimeOf(started), database.TimeOf(ended)
	if v.Kind = string(v.Plan.Kind); v.Kind == "" {
		v.Kind = string(rotation.KindRotate)
	}
	return v, database.OrNotFound(err)
}

// Rotations lists rotations.
func (s *Custody) Rotations(ctx context.Context, q records.Query) (records.Page[records.Rotation], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Rotation]{
		From: rotationFrom, ID: "r.id", Sort: "-id", Scan: rotationColumns,
		Columns: []database.Column{{Name: "id", Sql: "r.id", Number: true}, {Name: "credential", Sql: "r.name"}, {Name: "credential_id", Sql: "r.credential_id", Number: true}, {Name: "credential_kind", Sql: "c.kind", Values: credential.Names()}, {Name: "account_id", Sql: "COALESCE(c.account_id, 0)", Number: true}, {Name: "next_credential_id", Sql: "COALESCE(r.next_credential_id, 0)", Number: true}, {Name: "authority", Sql: "r.authority"}, {Name: "kind", Sql: "COALESCE(json_extract(r.plan, '$.kind'), 'rotate')", Values: []string{"rotate", "assign"}}, {Name: "on_failure", Sql: "r.policy"}, {Name: "mode", Sql: "r.mode"}, {Name: "result", Sql: "r.result", Values: []string{"done", "done-with-failures", "undone", "undo-incomplete", ""}}, {Name: "requested_by", Sql: "r.requested_by"}, {Name: "reason", Sql: "r.reason"}, {Name: "started", Sql: "r.started", Hidden: true}, {Name: "ended", Sql: "r.ended", Hidden: true}},
		ScanRow: func(rows *sql.Rows) (records.Rotation, error) { return scanRotation(rows, new(any), new(any)) },
	}, q)
}

// Rotation returns one by id.
func (s *Custody) Rotation(ctx context.Context, id records.RotationID) (records.Rotation, error) {
	v, err := scanRotation(s.Read.QueryRowContext(ctx, "SELECT "+rotationColumns+" FROM "+rotationFrom+" WHERE r.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("rotation %d: %w", id, err)
	}
	return v, nil
}

// Unfinished returns rotations that a stopped service must take up again.
func (s *Custody) Unfinished(ctx context.Context) ([]records.Rotation, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Rotation, error) { return scanRotation(rows) },
		"SELECT "+rotationColumns+" FROM "+rotationFrom+" WHERE r.mode IN ('running', 'undoing') ORDER BY r.id")
}

// BeginRotation creates one. ErrConflict while another of the same credential
// is not finished.
func (s *Custody) BeginRotation(ctx context.Context, v records.Rotation, entries ...ledger.Entry) (records.RotationID, error) {
	var id records.RotationID
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		var open bool
		if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM secrets WHERE credential_id = ? AND state = 'candidate' AND rotation_id IS NULL)", v.CredentialID).Scan(&open); err != nil {
			return err
		}
		if open {
			return database.InUse("a reset of " + v.Credential + " is not over: which value is in force is not known yet")
		}
		next := v.Next()
		if err := mayTurn(ctx, tx, v.CredentialID, next, v.Credential); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO rotations (credential_id, name, authority, plan, policy, mode, requested_by, reason, override, consent, rehearsal_id, started, old_secret, next_credential_id) VALUES (?,?,?,?,?,'running',?,?,?,?,NULLIF(?, 0),?, (SELECT id FROM secrets WHERE credential_id = ? AND state = 'current'), NULLIF(?, 0))",
			v.CredentialID, v.Credential, v.Authority, database.AsJSON(v.Plan), v.OnFailure, v.RequestedBy, v.Reason, v.Override, v.Consent, v.RehearsalID, s.Stamp(), v.CredentialID, next)
		if err != nil {
			if strings.Contains(err.Error(), "UNIQUE") {
				return database.InUse("another rotation of " + v.Credential + " is not finished")
			}
			return err
		}
		if id, err = database.Made[records.RotationID](res); err != nil {
			return err
		}
		for i := range entries {
			entries[i].Ref = fmt.Sprintf("rotation/%d", id)
		}
		if err := s.Begun(ctx, tx, int64(id)); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// Journal returns the records of a rotation after a sequence number.
func (s *Custody) Journal(ctx context.Context, id records.RotationID, after int64) ([]rotation.Record, error) {
	out, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (r rotation.Record, err error) {
		var when string
		err = rows.Scan(&r.Seq, &when, &r.Event, &r.Step, &r.Undo, &r.Result, &r.Memo, &r.Words, &r.Actor, &r.Reason)
		r.Time = database.TimeOf(when)
		return r, err
	}, "SELECT seq, time, event, step, undo, result, memo, words, actor, reason FROM journal WHERE rotation_id = ? AND seq > ? ORDER BY seq", id, after)
	if out == nil {
		out = []rotation.Record{}
	}
	return out, err
}

// noteOwn keeps what a rotation did to a dependent beside what surveys see: the row is
// as it is set from now on, so that the next look finds no change.
func (s *Custody) noteOwn(ctx context.Context, tx *sql.Tx, id records.RotationID, system records.SystemID, place estate.Place, field ownField) error {
	//nolint:gosec // names of columns are our own
	_, err := tx.ExecContext(ctx, `INSERT INTO changes (at, subject, what, name, kind, system, made_by, rotation_id, system_id, dependent_id, fields)
		SELECT ?, 'dependent', 'changed', d.place, d.kind, systems.name, ?, ?, d.system_id, d.id, json_array(json_object('name', ?, 'from', `+field.from+`, 'to', ?))
		FROM dependents d JOIN systems ON systems.id = d.system_id WHERE d.system_id = ? AND d.kind = ? AND d.place = ? AND `+field.column+` <> ?`,
		s.Stamp(), records.ByMossLedger, id, field.name, field.to, system, place.Kind, place.Place, field.value)
	if err != nil {
		return fmt.Errorf("change of %s: %w", place.Place, err)
	}
	return nil
}

// ownField is a column that a rotation sets, and how that is told.
type ownField struct {
	name, column string
	from         string // expression
	to, value    string
}

func (s *Custody) logOnIs(ctx context.Context, tx *sql.Tx, id records.RotationID, l records.LogOnIs) error {
	if err := s.noteOwn(ctx, tx, id, l.SystemID, l.Place, ownField{name: change.FieldRunsAs, column: "d.runs_as", from: "d.runs_as", to: l.Account, value: l.Account}); err != nil {
		return err
	}
	now := s.Stamp()
	_, err := tx.ExecContext(ctx, "UPDATE dependents SET runs_as = ?, identity = ?, given = ?, given_at = ?, given_account = ?, digest = x'00', seen = ? WHERE system_id = ? AND kind = ? AND place = ?",
		l.Account, naming.IdentityOf(l.Account), l.Fingerprint, now, l.AccountID, now, l.SystemID, l.Place.Kind, l.Place.Place)
	if err != nil || l.AccountID == 0 {
		return err
	}
	// What it runs as and what it is tied to never disagree, until the next survey ties it
	// anew. Only a tie that was there moves: what is not tied yet is the survey's to judge.
	for _, statement := range []string{
		"INSERT OR IGNORE INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen) SELECT ?1, t.dependent_id, t.evidence, t.strength, 'runs as ' || ?2, ?3, ?3 FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE d.system_id = ?4 AND d.kind = ?5 AND d.place = ?6 AND t.evidence = 'configured' LIMIT 1",
		"DELETE FROM ties WHERE account_id <> ?1 AND evidence = 'configured' AND dependent_id IN (SELECT id FROM dependents WHERE system_id = ?4 AND kind = ?5 AND place = ?6)",
	} {
		if _, err := tx.ExecContext(ctx, statement, l.AccountID, l.Account, now, l.SystemID, l.Place.Kind, l.Place.Place); err != nil {
			return fmt.Errorf("tie of %s: %w", l.Place.Place, err)
		}
	}
	return nil
}

func (s *Custody) copyIs(ctx context.Context, tx *sql.Tx, id records.RotationID, c records.CopyIs) error {
	place := estate.Place{Kind: estate.DependentFile, Place: c.Place}
	if err := s.noteOwn(ctx, tx, id, c.SystemID, place, ownField{name: change.FieldValue, column: "d.fingerprint", from: "'" + change.ValueBefore + "'", to: change.ValueAfter, value: c.Fingerprint}); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE dependents SET fingerprint = ?, copy = json_set(copy, '$.fingerprint', ?), digest = x'00', seen = ? WHERE system_id = ? AND kind = 'file' AND place = ?",
		c.Fingerprint, c.Fingerprint, s.Stamp(), c.SystemID, c.Place)
	return err
}

// AppendJournal writes a record, the ledger entry that goes with it and the
// rotation's mode in one synced transaction (laws 1, 3 and 8); with the end of
// the rotation also the places of its sealed values (law 2).
func (s *Custody) AppendJournal(ctx context.Context, v records.Rotation, r rotation.Record, mode, result string, effects records.Effects, entries ...ledger.Entry) error {
	if len(effects.LogOns)+len(effects.Copies) > 0 {
		defer s.PictureAltered()
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO journal (rotation_id, seq, time, event, step, undo, result, memo, words, actor, reason) VALUES (?,?,?,?,?,?,?,?,?,?,?)",
			v.ID, r.Seq, database.StampOf(r.Time), r.Event, r.Step, r.Undo, r.Result, r.Memo, r.Words, r.Actor, r.Reason)
		if err != nil {
			return fmt.Errorf("journal of rotation %d: %w", v.ID, err)
		}
		ended := ""
		if mode == string(rotation.ModeFinished) {
			ended = s.Stamp()
		}
		if effects.Settlement != nil {
			if err := s.settle(ctx, tx, cmp.Or(effects.Settlement.CredentialID, v.CredentialID), *effects.Settlement); err != nil {
				return err
			}
		}
		for _, l := range effects.LogOns {
			if err := s.logOnIs(ctx, tx, v.ID, l); err != nil {
				return err
			}
		}
		for _, k := range effects.Keys {
			if err := s.keyIs(ctx, tx, k); err != nil {
				return err
			}
		}
		for _, c := range effects.Copies {
			if err := s.copyIs(ctx, tx, v.ID, c); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "UPDATE rotations SET mode=?, result=?, ended=? WHERE id=?", mode, result, ended, v.ID); err != nil {
			return err
		}
		if err := s.lookLater(ctx, tx, v.ID, mode, result); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// UnfinishedOf returns the rotation of a credential that is not finished.
func (s *Custody) UnfinishedOf(ctx context.Context, id records.CredentialID) (records.Rotation, error) {
	return scanRotation(s.Read.QueryRowContext(ctx, "SELECT "+rotationColumns+" FROM "+rotationFrom+" WHERE (r.credential_id = ? OR r.next_credential_id = ?) AND r.mode <> 'finished' ORDER BY r.id DESC LIMIT 1", id, id))
}
