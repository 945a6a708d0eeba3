// Package amendments keeps changes of rights, and the journals of those that are carried out.
package amendments

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Kept are the tables of that.
type Kept struct{ *database.DB }

const columns = "a.id, a.charter, a.subject, a.plan, a.checks, a.verdict, a.left_out, a.rehearsed, a.rehearsed_by, a.mode, a.result, a.requested_by, a.reason, a.consent, a.approval_id, a.started, a.ended"

func scan(row interface{ Scan(...any) error }, more ...any) (v records.Amendment, err error) {
	var plan, checks, left, rehearsed, started, ended string
	err = row.Scan(append([]any{&v.ID, &v.Charter, &v.Subject, &plan, &checks, &v.Verdict, &left, &rehearsed, &v.RehearsedBy, &v.Mode, &v.Result, &v.RequestedBy, &v.Reason, &v.Consent, &v.ApprovalID, &started, &ended}, more...)...)
	v.Plan, v.Checks, v.LeftOut = database.FromJSON[rotation.Plan](plan), database.FromJSON[[]connect.Checked](checks), database.FromJSON[[]string](left)
	v.Rehearsed, v.Started, v.Ended = database.TimeOf(rehearsed), database.TimeOf(started), database.TimeOf(ended)
	for _, s := range v.Plan.Steps {
		if s.Kind == rotation.StepGive || s.Kind == rotation.StepTake || s.Kind == rotation.StepEnd || s.Kind == rotation.StepManage {
			v.Changes++
		}
	}
	return v, database.OrNotFound(err)
}

var listing = database.Listing[records.Amendment]{
	From: "amendments a", ID: "a.id", Sort: "-id", Scan: columns,
	Columns: []database.Column{
		{Name: "id", Sql: "a.id", Number: true},
		{Name: "charter", Sql: "a.charter"},
		{Name: "subject", Sql: "a.subject"},
		{Name: "verdict", Sql: "a.verdict", Values: []string{"passed", "failed"}},
		{Name: "mode", Sql: "a.mode", Values: []string{records.ModeRehearsed, "running", "undoing", "stopped", "finished"}},
		{Name: "result", Sql: "a.result", Values: []string{"done", "done-with-failures", "undone", "undo-incomplete", ""}},
		{Name: "requested_by", Sql: "a.requested_by"},
		{Name: "reason", Sql: "a.reason"},
		{Name: "rehearsed", Sql: "a.rehearsed", Hidden: true},
		{Name: "started", Sql: "a.started", Hidden: true},
		{Name: "ended", Sql: "a.ended", Hidden: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Amendment, error) { return scan(rows, new(any), new(any)) },
}

// Amendments lists them, the latest first.
func (s *Kept) Amendments(ctx context.Context, q records.Query) (records.Page[records.Amendment], error) {
	return database.PageOf(ctx, s.Read, listing, q)
}

// Amendment returns one.
func (s *Kept) Amendment(ctx context.Context, id records.AmendmentID) (records.Amendment, error) {
	v, err := scan(s.Read.QueryRowContext(ctx, "SELECT "+columns+" FROM amendments a WHERE a.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("amendment %d: %w", id, err)
	}
	return v, nil
}

// OpenAmendments are those that were started and are not finished.
func (s *Kept) OpenAmendments(ctx context.Context) ([]records.Amendment, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Amendment, error) { return scan(rows) }, "SELECT "+columns+" FROM amendments a WHERE a.mode IN ('running', 'undoing', 'stopped') ORDER BY a.id")
}

// AddAmendment keeps one that was rehearsed.
func (s *Kept) AddAmendment(ctx context.Context, v *records.Amendment) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO amendments (charter, subject, plan, checks, verdict, left_out, rehearsed, rehearsed_by, mode) VALUES (?,?,?,?,?,?,?,?,?)",
			v.Charter, v.Subject, database.AsJSON(v.Plan), database.AsJSON(v.Checks), v.Verdict, database.AsJSON(v.LeftOut), database.StampOf(v.Rehearsed), v.RehearsedBy, records.ModeRehearsed)
		if err != nil {
			return err
		}
		v.ID, err = database.Made[records.AmendmentID](res)
		return err
	})
}

// AmendmentWaits keeps the approval that one waits for.
func (s *Kept) AmendmentWaits(ctx context.Context, id records.AmendmentID, approval records.ApprovalID) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE amendments SET approval_id = ? WHERE id = ?", approval, id)
		return err
	})
}

// BeginAmendment marks one as begun, if it was not.
func (s *Kept) BeginAmendment(ctx context.Context, v records.Amendment, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE amendments SET mode = 'running', requested_by = ?, reason = ?, consent = ?, approval_id = ?, started = ? WHERE id = ? AND mode = ?", v.RequestedBy, v.Reason, v.Consent, v.ApprovalID, s.Stamp(), v.ID, records.ModeRehearsed)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n != 1 {
			return errors.Join(err, database.InUse(fmt.Sprintf("amendment %d was started already", v.ID)))
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// AppendAmendment writes a record, its entry in the ledger and where the amendment stands in
// one synced transaction (laws 3 and 8).
func (s *Kept) AppendAmendment(ctx context.Context, id records.AmendmentID, r rotation.Record, mode, result string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO amendment_journal (amendment_id, seq, time, event, step, undo, result, memo, words, actor, reason) VALUES (?,?,?,?,?,?,?,?,?,?,?)",
			id, r.Seq, database.StampOf(r.Time), r.Event, r.Step, r.Undo, r.Result, r.Memo, r.Words, r.Actor, r.Reason); err != nil {
			return fmt.Errorf("journal of amendment %d: %w", id, err)
		}
		ended := ""
		if mode == string(rotation.ModeFinished) {
			ended = s.Stamp()
		}
		if _, err := tx.ExecContext(ctx, "UPDATE amendments SET mode = ?, result = ?, ended = ? WHERE id = ?", mode, result, ended, id); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// AmendmentJournal returns what was done.
func (s *Kept) AmendmentJournal(ctx context.Context, id records.AmendmentID) ([]rotation.Record, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (r rotation.Record, err error) {
		var when string
		err = rows.Scan(&r.Seq, &when, &r.Event, &r.Step, &r.Undo, &r.Result, &r.Memo, &r.Words, &r.Actor, &r.Reason)
		r.Time = database.TimeOf(when)
		return r, err
	}, "SELECT seq, time, event, step, undo, result, memo, words, actor, reason FROM amendment_journal WHERE amendment_id = ? ORDER BY seq", id)
}
