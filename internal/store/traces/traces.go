// Package traces keeps what is sent to systems, while somebody wants to see it.
package traces

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Recorded are the tables of that.
type Recorded struct{ *database.DB }

const (
	from    = "traces t JOIN systems s ON s.id = t.system_id"
	columns = "t.id, s.name, t.system_id, t.account, t.reason, t.started, t.started_by, t.ends, t.ended, t.ended_by, t.operations, t.refused, t.failed, t.lost"
)

func scan(row interface{ Scan(...any) error }, more ...any) (v records.Trace, err error) {
	var started, ends, ended string
	err = row.Scan(append([]any{&v.ID, &v.System, &v.SystemID, &v.Account, &v.Reason, &started, &v.StartedBy, &ends, &ended, &v.EndedBy, &v.Operations, &v.Refused, &v.Failed, &v.Lost}, more...)...)
	v.Started, v.Ends, v.Ended = database.TimeOf(started), database.TimeOf(ends), database.TimeOf(ended)
	return v, database.OrNotFound(err)
}

var listing = database.Listing[records.Trace]{
	From: from, ID: "t.id", Sort: "-id", Scan: columns,
	Columns: []database.Column{
		{Name: "system", Sql: "s.name"},
		{Name: "account", Sql: "t.account"},
		{Name: "reason", Sql: "t.reason"},
		{Name: "started", Sql: "t.started", Hidden: true},
		{Name: "started_by", Sql: "t.started_by"},
		{Name: "ends", Sql: "t.ends", Hidden: true},
		{Name: "ended", Sql: "t.ended", Hidden: true},
		{Name: "operations", Sql: "t.operations", Number: true},
		{Name: "refused", Sql: "t.refused", Number: true},
		{Name: "failed", Sql: "t.failed", Number: true},
		{Name: "id", Sql: "t.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Trace, error) { return scan(rows, new(any), new(any)) },
}

// Traces lists them, the latest first.
func (s *Recorded) Traces(ctx context.Context, q records.Query) (records.Page[records.Trace], error) {
	return database.PageOf(ctx, s.Read, listing, q)
}

// Trace returns one.
func (s *Recorded) Trace(ctx context.Context, id records.TraceID) (records.Trace, error) {
	v, err := scan(s.Read.QueryRowContext(ctx, "SELECT "+columns+" FROM "+from+" WHERE t.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("trace %d: %w", id, err)
	}
	return v, nil
}

// OpenTraces are those that have not ended.
func (s *Recorded) OpenTraces(ctx context.Context) ([]records.Trace, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Trace, error) { return scan(rows) }, "SELECT "+columns+" FROM "+from+" WHERE t.ended = '' ORDER BY t.id")
}

// AddTrace begins one.
func (s *Recorded) AddTrace(ctx context.Context, v records.Trace, entries ...ledger.Entry) (id records.TraceID, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO traces (system_id, account, reason, started, started_by, ends) VALUES (?,?,?,?,?,?)", v.SystemID, v.Account, v.Reason, database.StampOf(v.Started), v.StartedBy, database.StampOf(v.Ends))
		if err != nil {
			return err
		}
		if id, err = database.Made[records.TraceID](res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// EndTrace ends one that is open; false where it had ended.
func (s *Recorded) EndTrace(ctx context.Context, id records.TraceID, by string, entries ...ledger.Entry) (ended bool, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE traces SET ended = ?, ended_by = ? WHERE id = ? AND ended = ''", s.Stamp(), by, id)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		if err != nil || n == 0 {
			return err
		}
		ended = true
		return s.Enter(ctx, tx, entries...)
	})
	return ended, err
}

// PutOperations keeps what was sent, and how much was lost.
func (s *Recorded) PutOperations(ctx context.Context, id records.TraceID, list []records.TracedOperation, lost int) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		refused, failed := 0, 0
		for _, o := range list {
			switch o.Outcome {
			case "refused":
				refused++
			case "failed":
				failed++
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO operations (trace_id, at, protocol, text, took, outcome, exit, words) VALUES (?,?,?,?,?,?,?,?)", id, database.StampOf(o.At), o.Protocol, o.Text, o.Micro, o.Outcome, o.Exit, o.Words); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "UPDATE traces SET operations = operations + ?, refused = refused + ?, failed = failed + ?, lost = lost + ? WHERE id = ?", len(list), refused, failed, lost, id)
		return err
	})
}

var operations = database.Listing[records.TracedOperation]{
	From: "operations o", ID: "o.id", Sort: "rank", Scan: "o.id, o.at, o.protocol, o.text, o.took, o.outcome, o.exit, o.words",
	Columns: []database.Column{
		{Name: "at", Sql: "o.at", Hidden: true},
		{Name: "protocol", Sql: "o.protocol"},
		{Name: "text", Sql: "o.text"},
		{Name: "outcome", Sql: "o.outcome", Values: []string{"done", "refused", "failed"}},
		{Name: "words", Sql: "o.words"},
		{Name: "exit", Sql: "o.exit", Number: true},
		{Name: "microseconds", Sql: "o.took", Number: true},
		{Name: "rank", Sql: "CASE o.outcome WHEN 'refused' THEN 0 WHEN 'failed' THEN 1 ELSE 2 END", Number: true},
		{Name: "id", Sql: "o.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.TracedOperation, err error) {
		var at string
		err = rows.Scan(&v.ID, &at, &v.Protocol, &v.Text, &v.Micro, &v.Outcome, &v.Exit, &v.Words, new(any), new(any))
		v.At = database.TimeOf(at)
		return v, err
	},
}

// Operations lists what a trace has, what was refused first.
func (s *Recorded) Operations(ctx context.Context, id records.TraceID, q records.Query) (records.Page[records.TracedOperation], error) {
	l := operations
	l.Where = fmt.Sprintf("o.trace_id = %d", id)
	return database.PageOf(ctx, s.Read, l, q)
}

// ForgetTraces removes those that ended before a moment.
func (s *Recorded) ForgetTraces(ctx context.Context, before time.Time) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM traces WHERE ended <> '' AND ended < ?", database.StampOf(before))
		return err
	})
}
