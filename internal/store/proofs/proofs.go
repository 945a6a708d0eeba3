// Package proofs keeps experiments about which rights a job needs.
package proofs

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/proving"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Shelf is the table of that.
type Shelf struct{ *database.DB }

const columns = "p.id, p.charter, p.version, p.account_id, p.account, p.system, p.system_id, p.job, p.rights, p.beside, p.reason, p.amendment_id, p.state, p.words, p.report, p.created, p.created_by, p.ended"

func scan(row interface{ Scan(...any) error }, more ...any) (v records.CharterProof, err error) {
	var job, rights, beside, report, created, ended string
	err = row.Scan(append([]any{&v.ID, &v.Charter, &v.Version, &v.AccountID, &v.Account, &v.System, &v.SystemID, &job, &rights, &beside, &v.Reason, &v.AmendmentID, &v.State, &v.Words, &report, &created, &v.CreatedBy, &ended}, more...)...)
	v.Job, v.Rights, v.Beside = database.FromJSON[[]string](job), database.FromJSON[[]string](rights), database.FromJSON[[]string](beside)
	v.Created, v.Ended = database.TimeOf(created), database.TimeOf(ended)
	if report != "" {
		v.Report = database.FromJSON[proving.Report](report)
	}
	if v.Report.Items == nil {
		v.Report = proving.Report{With: append([]proving.Tried{}, v.Report.With...), Items: []proving.Item{}, Again: []proving.Tried{}}
	}
	v.Judge()
	return v, database.OrNotFound(err)
}

var listing = database.Listing[records.CharterProof]{
	From: "proofs p", ID: "p.id", Sort: "-id", Scan: columns,
	Columns: []database.Column{
		{Name: "id", Sql: "p.id", Number: true},
		{Name: "charter", Sql: "p.charter"},
		{Name: "account", Sql: "p.account"},
		{Name: "system", Sql: "p.system"},
		{Name: "state", Sql: "p.state", Values: []string{records.ProofWaits, records.ProofRunning, records.ProofFinished, records.ProofStopped}},
		{Name: "words", Sql: "p.words"},
		{Name: "reason", Sql: "p.reason"},
		{Name: "created", Sql: "p.created", Hidden: true},
		{Name: "created_by", Sql: "p.created_by"},
		{Name: "ended", Sql: "p.ended", Hidden: true},
	},
	ScanRow: func(rows *sql.Rows) (records.CharterProof, error) { return scan(rows, new(any), new(any)) },
}

// Proofs lists them, the latest first.
func (s *Shelf) Proofs(ctx context.Context, q records.Query) (records.Page[records.CharterProof], error) {
	return database.PageOf(ctx, s.Read, listing, q)
}

// Proof returns one.
func (s *Shelf) Proof(ctx context.Context, id records.ProofID) (records.CharterProof, error) {
	v, err := scan(s.Read.QueryRowContext(ctx, "SELECT "+columns+" FROM proofs p WHERE p.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("proof %d: %w", id, err)
	}
	return v, nil
}

// OpenProofs are those that wait or run.
func (s *Shelf) OpenProofs(ctx context.Context) ([]records.CharterProof, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.CharterProof, error) { return scan(rows) }, "SELECT "+columns+" FROM proofs p WHERE p.state IN ('waits', 'running') ORDER BY p.id")
}

// ProofOfAmendment returns the one that an amendment was made for.
func (s *Shelf) ProofOfAmendment(ctx context.Context, id records.AmendmentID) (records.CharterProof, error) {
	return scan(s.Read.QueryRowContext(ctx, "SELECT "+columns+" FROM proofs p WHERE p.amendment_id = ?", id))
}

// AddProof keeps one that begins, or waits.
func (s *Shelf) AddProof(ctx context.Context, v records.CharterProof, entries ...ledger.Entry) (id records.ProofID, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO proofs (charter, version, account_id, account, system, system_id, job, rights, beside, reason, amendment_id, state, created, created_by) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
			v.Charter, v.Version, v.AccountID, v.Account, v.System, v.SystemID, database.AsJSON(v.Job), database.AsJSON(v.Rights), database.AsJSON(v.Beside), v.Reason, v.AmendmentID, v.State, s.Stamp(), v.CreatedBy)
		if err != nil {
			return err
		}
		if id, err = database.Made[records.ProofID](res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// ProofIs keeps where one stands, and what was found out.
func (s *Shelf) ProofIs(ctx context.Context, v records.CharterProof, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		ended := ""
		if v.State == records.ProofFinished || v.State == records.ProofStopped {
			ended = s.Stamp()
		}
		if _, err := tx.ExecContext(ctx, "UPDATE proofs SET state = ?, words = ?, report = ?, ended = ? WHERE id = ?", v.State, v.Words, database.AsJSON(v.Report), ended, v.ID); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}
