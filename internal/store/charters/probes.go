package charters

import (
	"context"
	"database/sql"
	"errors"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const (
	probeFrom    = "probes p LEFT JOIN systems s ON s.id = p.system_id"
	probeColumns = "p.id, p.at, p.asked_by, COALESCE(s.name, ''), COALESCE(p.system_id, 0), p.target, p.outcome, p.was, p.words, p.detail"
)

var probeList = database.Listing[records.Probe]{
	From: probeFrom, ID: "p.id", Sort: "-id", Scan: probeColumns,
	Columns: []database.Column{
		{Name: "at", Sql: "p.at", Hidden: true},
		{Name: "target", Sql: "p.target"},
		{Name: "from", Sql: "COALESCE(s.name, '')"},
		{Name: "outcome", Sql: "p.outcome", Values: reach.Outcomes()},
		{Name: "was", Sql: "p.was"},
		{Name: "words", Sql: "p.words"},
		{Name: "asked_by", Sql: "p.asked_by"},
		{Name: "id", Sql: "p.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.Probe, err error) {
		var at, detail string
		err = rows.Scan(&v.ID, &at, &v.AskedBy, &v.From, &v.SystemID, &v.Target, &v.Outcome, &v.Was, &v.Words, &detail, new(any), new(any))
		v.At, v.ProbeDetail = database.TimeOf(at), database.FromJSON[records.ProbeDetail](detail)
		if v.Steps == nil {
			v.Steps = []reach.ProbeStep{}
		}
		return v, err
	},
}

// Probes lists what ports answered, the latest first.
func (s *Book) Probes(ctx context.Context, q records.Query) (records.Page[records.Probe], error) {
	return database.PageOf(ctx, s.Read, probeList, q)
}

// mostProbes is how many are kept; the oldest go.
const mostProbes = 100_000

// AddProbes keeps what ports answered, with what each was the time before.
func (s *Book) AddProbes(ctx context.Context, list []records.Probe, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		now := s.Stamp()
		for i := range list {
			v := &list[i]
			var before string
			err := tx.QueryRowContext(ctx, "SELECT outcome FROM probes WHERE target = ? AND system_id IS NULLIF(?, 0) ORDER BY id DESC LIMIT 1", v.Target, v.SystemID).Scan(&before)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if before != string(v.Outcome) {
				v.Was = reach.Outcome(before)
			}
			res, err := tx.ExecContext(ctx, "INSERT INTO probes (at, asked_by, system_id, target, outcome, was, words, detail) VALUES (?,?,NULLIF(?, 0),?,?,?,?,?)", now, v.AskedBy, v.SystemID, v.Target, v.Outcome, v.Was, v.Words, database.AsJSON(v.ProbeDetail))
			if err != nil {
				return err
			}
			if v.ID, err = database.Made[records.ProbeID](res); err != nil {
				return err
			}
			v.At = database.TimeOf(now)
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM probes WHERE id <= (SELECT MAX(id) FROM probes) - ?", mostProbes); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// LatestProbes are what targets answered last, asked from a system (0: from the service).
func (s *Book) LatestProbes(ctx context.Context, system records.SystemID, targets []string) ([]records.Probe, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Probe, err error) {
		var at, detail string
		err = rows.Scan(&v.ID, &at, &v.AskedBy, &v.From, &v.SystemID, &v.Target, &v.Outcome, &v.Was, &v.Words, &detail)
		v.At, v.ProbeDetail = database.TimeOf(at), database.FromJSON[records.ProbeDetail](detail)
		return v, err
	}, "SELECT "+probeColumns+" FROM "+probeFrom+" WHERE p.id IN (SELECT MAX(id) FROM probes WHERE system_id IS NULLIF(?, 0) AND target IN (SELECT value FROM json_each(?)) GROUP BY target)", system, database.AsJSON(targets))
}
