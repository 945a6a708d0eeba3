// Package messages keeps who is told what, and what waits to be told: written in the same
// transaction as up to where the ledger was read for it, so that nothing is told twice or
// left out over a crash.
package messages

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Messages are the tables of all that.
type Messages struct{ *database.DB }

const recipientColumns = `r.id, r.name, r.kind, r.address, r.settings, r.sealed, r.paused, r.since, r.description, r.revision, r.changed, r.changed_by, ` + waitingCount + `, ` + givenUpCount + `,
	COALESCE((SELECT m.tried FROM messages m WHERE m.recipient_id = r.id AND m.state = 'sent' ORDER BY m.id DESC LIMIT 1), ''),
	COALESCE((SELECT m.words FROM messages m WHERE m.recipient_id = r.id AND m.state = 'waiting' ORDER BY m.id LIMIT 1), '')`

const (
	waitingCount = "(SELECT COUNT(*) FROM messages m WHERE m.recipient_id = r.id AND m.state = 'waiting')"
	givenUpCount = "(SELECT COUNT(*) FROM messages m WHERE m.recipient_id = r.id AND m.state = 'given-up')"
)

var recipientList = database.Listing[records.Recipient]{
	From: "recipients r", ID: "r.id", Sort: "name", Scan: recipientColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "r.name"},
		{Name: "kind", Sql: "r.kind", Values: []string{"mail", "syslog", "webhook"}},
		{Name: "address", Sql: "r.address"},
		{Name: "least", Sql: "COALESCE(json_extract(r.settings, '$.least'), '')"},
		{Name: "paused", Sql: "r.paused", Number: true},
		{Name: "waiting", Sql: waitingCount, Number: true},
		{Name: "given_up", Sql: givenUpCount, Number: true},
		{Name: "description", Sql: "r.description"},
		{Name: "changed", Sql: "r.changed", Hidden: true},
		{Name: "changed_by", Sql: "r.changed_by"},
		{Name: "id", Sql: "r.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Recipient, error) { return scanRecipient(rows, new(any), new(any)) },
}

func scanRecipient(row interface{ Scan(...any) error }, more ...any) (v records.Recipient, err error) {
	var settings, since, changed, sent string
	err = row.Scan(append([]any{&v.ID, &v.Name, &v.Kind, &v.Address, &settings, &v.Sealed, &v.Paused, &since, &v.Description, &v.Revision, &changed, &v.ChangedBy, &v.Waiting, &v.GivenUp, &sent, &v.Trouble}, more...)...)
	v.RecipientSettings = database.FromJSON[records.RecipientSettings](settings)
	v.Since, v.Changed, v.Sent, v.Secret = database.TimeOf(since), database.TimeOf(changed), database.TimeOf(sent), len(v.Sealed) > 0
	return v, database.OrNotFound(err)
}

// Recipients lists them.
func (s *Messages) Recipients(ctx context.Context, q records.Query) (records.Page[records.Recipient], error) {
	return database.PageOf(ctx, s.Read, recipientList, q)
}

// AllRecipients returns all of them, by name.
func (s *Messages) AllRecipients(ctx context.Context) ([]records.Recipient, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Recipient, error) { return scanRecipient(rows) }, "SELECT "+recipientColumns+" FROM recipients r ORDER BY r.name")
}

// Recipient returns one by its name.
func (s *Messages) Recipient(ctx context.Context, name string) (records.Recipient, error) {
	v, err := scanRecipient(s.Read.QueryRowContext(ctx, "SELECT "+recipientColumns+" FROM recipients r WHERE r.name = ?", name))
	if err != nil {
		return v, fmt.Errorf("recipient %q: %w", name, err)
	}
	return v, nil
}

func namedRecipient(v records.Recipient) database.Named {
	return database.Named{Table: "recipients", What: "recipient", Name: v.Name, ID: int64(v.ID), Revision: v.Revision, Description: v.Description, By: v.ChangedBy}
}

// SaveRecipient adds one, or replaces the one that was seen. ErrConflict when another one has
// its name.
func (s *Messages) SaveRecipient(ctx context.Context, v records.Recipient, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		row := namedRecipient(v)
		row.Columns = []string{"kind", "address", "settings", "sealed", "paused", "since"}
		row.Values = []any{v.Kind, v.Address, database.AsJSON(v.RecipientSettings), v.Sealed, v.Paused, database.StampOf(v.Since)}
		if _, err := database.SaveNamed(ctx, s.DB, tx, row); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveRecipient removes one with what waits for it.
func (s *Messages) RemoveRecipient(ctx context.Context, v records.Recipient, entries ...ledger.Entry) error {
	return database.RemoveNamed(ctx, s.DB, namedRecipient(v), entries)
}
