// Package batches keeps rotations that were asked for together.
package batches

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Batches are the tables of them.
type Batches struct{ *database.DB }

const batchColumns = "b.id, b.requested_by, b.reason, b.chosen, b.wish, b.at_once, b.state, b.despite, b.created, b.ended, b.consent, (SELECT COUNT(*) FROM given_values g WHERE g.batch_id = b.id), (SELECT COUNT(*) FROM batch_items i WHERE i.batch_id = b.id AND json_array_length(i.second) > 0), (SELECT json_group_object(i.state, i.n) FROM (SELECT state, COUNT(*) AS n FROM batch_items WHERE batch_id = b.id GROUP BY state) i)"

func scanBatch(row interface{ Scan(...any) error }, more ...any) (v records.Batch, err error) {
	var created, ended, counts, wish string
	err = row.Scan(append([]any{&v.ID, &v.RequestedBy, &v.Reason, &v.Chosen, &wish, &v.AtOnce, &v.State, &v.Despite, &created, &ended, &v.Consent, &v.Given, &v.Second, &counts}, more...)...)
	v.Created, v.Ended, v.Wish = database.TimeOf(created), database.TimeOf(ended), []byte(wish)
	n := database.FromJSON[map[string]int](counts)
	v.Waiting, v.Ready, v.Blocked, v.Rotating, v.Done, v.Failed = n[records.ItemWaiting], n[records.ItemReady], n[records.ItemBlocked], n[records.ItemRotating], n[records.ItemDone], n[records.ItemFailed]
	v.Total = v.Waiting + v.Ready + v.Blocked + v.Rotating + v.Done + v.Failed
	return v, database.OrNotFound(err)
}

// AllBatches lists them, the latest first.
func (s *Batches) AllBatches(ctx context.Context, q records.Query) (records.Page[records.Batch], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Batch]{
		From: "batches b", ID: "b.id", Sort: "-id", Scan: batchColumns,
		Columns: []database.Column{
			{Name: "id", Sql: "b.id", Number: true},
			{Name: "state", Sql: "b.state", Values: []string{records.BatchRehearsing, records.BatchRehearsed, records.BatchRunning, records.BatchStopped, records.BatchDone}},
			{Name: "requested_by", Sql: "b.requested_by"},
			{Name: "reason", Sql: "b.reason"},
			{Name: "chosen", Sql: "b.chosen"},
			{Name: "created", Sql: "b.created", Hidden: true},
			{Name: "ended", Sql: "b.ended", Hidden: true},
		},
		ScanRow: func(rows *sql.Rows) (records.Batch, error) { return scanBatch(rows, new(any), new(any)) },
	}, q)
}

// Batch returns one by number.
func (s *Batches) Batch(ctx context.Context, id records.BatchID) (records.Batch, error) {
	v, err := scanBatch(s.Read.QueryRowContext(ctx, "SELECT "+batchColumns+" FROM batches b WHERE b.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("batch %d: %w", id, err)
	}
	return v, nil
}

// OpenBatches are those that something is to be done about.
func (s *Batches) OpenBatches(ctx context.Context) ([]records.Batch, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Batch, error) { return scanBatch(rows) },
		"SELECT "+batchColumns+" FROM batches b WHERE b.state IN ('rehearsing', 'running') ORDER BY b.id")
}

// AddBatch adds one with its items, and with the values that a person gave for them.
func (s *Batches) AddBatch(ctx context.Context, v records.Batch, items []records.CredentialID, given []records.Secret, entries ...ledger.Entry) (id records.BatchID, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO batches (requested_by, reason, chosen, wish, at_once, state, created) VALUES (?,?,?,?,?,?,?)", v.RequestedBy, v.Reason, v.Chosen, string(v.Wish), v.AtOnce, v.State, s.Stamp())
		if err != nil {
			return err
		}
		if id, err = database.Made[records.BatchID](res); err != nil {
			return err
		}
		for i, c := range items {
			if _, err := tx.ExecContext(ctx, "INSERT INTO batch_items (batch_id, position, credential_id, state) VALUES (?,?,?,?)", id, i+1, c, records.ItemWaiting); err != nil {
				return err
			}
		}
		for _, g := range given {
			if _, err := tx.ExecContext(ctx, "INSERT INTO given_values (batch_id, credential_id, fingerprint, sealed, created) VALUES (?,?,?,?,?)", id, g.CredentialID, g.Fingerprint, g.Sealed, s.Stamp()); err != nil {
				return err
			}
		}
		for i := range entries {
			entries[i].Ref = fmt.Sprintf("batch/%d", id)
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// SetBatch changes where one stands.
func (s *Batches) SetBatch(ctx context.Context, v records.Batch, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE batches SET state = ?, despite = ?, consent = ?, ended = ? WHERE id = ?", v.State, v.Despite, v.Consent, database.StampOf(v.Ended), v.ID); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

const itemFrom = "batch_items i JOIN credentials c ON c.id = i.credential_id LEFT JOIN accounts a ON a.id = c.account_id LEFT JOIN systems s ON s.id = a.system_id"

const itemColumns = "i.batch_id, i.position, i.credential_id, c.name, COALESCE(c.account_id, 0), COALESCE(s.name, ''), i.state, i.words, i.restarts, i.behind, COALESCE(i.rotation_id, 0), i.second, i.digest, COALESCE((SELECT g.fingerprint FROM given_values g WHERE g.batch_id = i.batch_id AND g.credential_id = i.credential_id), '')"

func scanItem(row interface{ Scan(...any) error }, more ...any) (v records.BatchItem, err error) {
	var behind, second string
	err = row.Scan(append([]any{&v.BatchID, &v.Position, &v.CredentialID, &v.Credential, &v.AccountID, &v.System, &v.State, &v.Words, &v.Restarts, &behind, &v.RotationID, &second, &v.Digest, &v.Given}, more...)...)
	if v.Behind = database.FromJSON[[]string](behind); v.Behind == nil {
		v.Behind = []string{}
	}
	if v.Second = database.FromJSON[[]string](second); v.Second == nil {
		v.Second = []string{}
	}
	return v, database.OrNotFound(err)
}

// BatchItems lists the items of a batch.
func (s *Batches) BatchItems(ctx context.Context, id records.BatchID, q records.Query) (records.Page[records.BatchItem], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.BatchItem]{
		From: itemFrom, ID: "i.position", Where: fmt.Sprintf("i.batch_id = %d", id), Sort: "position", Scan: itemColumns,
		Columns: []database.Column{
			{Name: "position", Sql: "i.position", Number: true},
			{Name: "credential", Sql: "c.name"},
			{Name: "system", Sql: "COALESCE(s.name, '')"},
			{Name: "state", Sql: "i.state", Values: []string{records.ItemWaiting, records.ItemReady, records.ItemBlocked, records.ItemRotating, records.ItemDone, records.ItemFailed}},
			{Name: "words", Sql: "i.words"},
			{Name: "restarts", Sql: "i.restarts", Number: true},
		},
		ScanRow: func(rows *sql.Rows) (records.BatchItem, error) { return scanItem(rows, new(any), new(any)) },
	}, q)
}

// ItemsOf returns all items of a batch, in their order.
func (s *Batches) ItemsOf(ctx context.Context, id records.BatchID) ([]records.BatchItem, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.BatchItem, error) { return scanItem(rows) }, "SELECT "+itemColumns+" FROM "+itemFrom+" WHERE i.batch_id = ? ORDER BY i.position", id)
}

// SetItem changes where an item stands.
func (s *Batches) SetItem(ctx context.Context, v records.BatchItem) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE batch_items SET state = ?, words = ?, restarts = ?, behind = ?, rotation_id = NULLIF(?, 0), second = ?, digest = ? WHERE batch_id = ? AND position = ?", v.State, v.Words, v.Restarts, database.AsJSON(v.Behind), v.RotationID, database.AsJSON(v.Second), v.Digest, v.BatchID, v.Position)
		return err
	})
}

// RetryItems puts those back that did not end well, and reports how many.
func (s *Batches) RetryItems(ctx context.Context, id records.BatchID) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE batch_items SET state = ?, words = '' WHERE batch_id = ? AND state IN ('blocked', 'failed')", records.ItemWaiting, id)
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}

// GivenValue returns a value that a person gave for a credential, sealed.
func (s *Batches) GivenValue(ctx context.Context, id records.CredentialID, fingerprint string) (v records.Secret, err error) {
	err = s.Read.QueryRowContext(ctx, `SELECT g.credential_id, c.kind, COALESCE(c.account_id, 0), COALESCE(a.system_id, 0), g.fingerprint, g.sealed
		FROM given_values g JOIN credentials c ON c.id = g.credential_id LEFT JOIN accounts a ON a.id = c.account_id WHERE g.credential_id = ? AND g.fingerprint = ? ORDER BY g.batch_id DESC LIMIT 1`, id, fingerprint).
		Scan(&v.CredentialID, &v.Kind, &v.AccountID, &v.SystemID, &v.Fingerprint, &v.Sealed)
	return v, database.OrNotFound(err)
}

// ForgetGiven removes given values that came before a time, and those of batches that are
// done and whose rotations took them. It reports how many.
func (s *Batches) ForgetGiven(ctx context.Context, before time.Time) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, `DELETE FROM given_values WHERE created < ? OR EXISTS (SELECT 1 FROM batch_items i WHERE i.batch_id = given_values.batch_id AND i.credential_id = given_values.credential_id AND i.state = 'done')`, database.StampOf(before))
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}
