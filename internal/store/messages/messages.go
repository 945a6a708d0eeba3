package messages

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// toldKey is where it stands up to which entry the ledger was read.
const toldKey = "messages-told"

// Told is the number of the first entry that was not read yet. Nothing was read with a
// database of before: the end of the ledger then, which is kept.
func (s *Messages) Told(ctx context.Context) (int64, error) {
	raw, err := s.Meta(ctx, toldKey)
	if errors.Is(err, records.ErrNotFound) {
		var end int64
		if err := s.Read.QueryRowContext(ctx, "SELECT COALESCE(MAX(idx) + 1, 0) FROM ledger").Scan(&end); err != nil {
			return 0, err
		}
		return end, s.SetMeta(ctx, toldKey, []byte(strconv.FormatInt(end, 10)))
	}
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(string(raw), 10, 64)
}

// EntriesFrom returns entries of the ledger in their order, from a number on. One that
// cannot be read has its number only.
func (s *Messages) EntriesFrom(ctx context.Context, from int64, most int) ([]ledger.Entry, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (e ledger.Entry, err error) {
		var index int64
		var leaf []byte
		if err := rows.Scan(&index, &leaf); err != nil {
			return e, err
		}
		if json.Unmarshal(leaf, &e) != nil {
			e = ledger.Entry{}
		}
		e.Index = index
		return e, nil
	}, "SELECT idx, leaf FROM ledger WHERE idx >= ? ORDER BY idx LIMIT ?", from, most)
}

// UntoldFindings returns findings that were raised or cleared since they were told.
func (s *Messages) UntoldFindings(ctx context.Context, most int) ([]records.UntoldFinding, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.UntoldFinding, err error) {
		var raised, cleared string
		err = rows.Scan(&v.ID, &v.Key, &v.Kind, &v.Severity, &v.Subject, &v.System, &v.AccountID, &v.What, &v.Next, &raised, &cleared)
		v.Raised, v.Cleared, v.Over = database.TimeOf(raised), database.TimeOf(cleared), cleared != ""
		return v, err
	}, `SELECT id, key, kind, severity, subject, system, COALESCE(account_id, 0), what, next, raised, cleared FROM (
			SELECT * FROM findings WHERE cleared = '' AND told <> raised UNION ALL SELECT * FROM findings WHERE cleared <> '' AND told = raised AND told_cleared <> cleared
		) ORDER BY id LIMIT ?`, most)
}

// LabelsOfAccounts are all labels of some accounts.
func (s *Messages) LabelsOfAccounts(ctx context.Context, accounts []records.AccountID) ([]string, error) {
	return database.Collect(ctx, s.Read, database.Single[string], "SELECT DISTINCT label FROM account_labels WHERE account_id IN (SELECT value FROM json_each(?)) ORDER BY label", database.AsJSON(accounts))
}

// AccountsNamed are those of a name on a system.
func (s *Messages) AccountsNamed(ctx context.Context, system, name string) ([]records.AccountID, error) {
	return database.Collect(ctx, s.Read, database.Single[records.AccountID], "SELECT a.id FROM accounts a JOIN systems s ON s.id = a.system_id WHERE a.name = ? AND s.name = ? AND a.gone = ''", name, system)
}

// AccountOfRotation is the account whose credential a rotation is about; 0 for none.
func (s *Messages) AccountOfRotation(ctx context.Context, id records.RotationID) (account records.AccountID, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT COALESCE((SELECT c.account_id FROM rotations r JOIN credentials c ON c.id = r.credential_id WHERE r.id = ?), 0)", id).Scan(&account)
	return account, err
}

// Queue keeps messages, up to where the ledger was read, and which findings are told with
// them, at once. A message whose recipient has one that waits and was never tried goes into
// that, when it says so (gather) and there is room.
func (s *Messages) Queue(ctx context.Context, told int64, findings []records.UntoldFinding, list []records.Message, gather map[records.RecipientID]bool, room int) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, m := range list {
			if err := s.queue(ctx, tx, m, gather[m.RecipientID], room); err != nil {
				return err
			}
		}
		for _, f := range findings {
			// What became of it since is told the next time.
			if _, err := tx.ExecContext(ctx, "UPDATE findings SET told = ?, told_cleared = ? WHERE id = ?", database.StampOf(f.Raised), database.StampOf(f.Cleared), f.ID); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", toldKey, []byte(strconv.FormatInt(told, 10)))
		return err
	})
}

func (s *Messages) queue(ctx context.Context, tx *sql.Tx, m records.Message, gather bool, room int) error {
	if gather {
		var id records.MessageID
		var raw string
		there, err := database.Found(tx.QueryRowContext(ctx, "SELECT id, events FROM messages WHERE recipient_id = ? AND state = 'waiting' AND attempts = 0 AND due > ? AND number + ? <= ? ORDER BY id DESC LIMIT 1", m.RecipientID, s.Stamp(), len(m.Events), room).Scan(&id, &raw))
		if err != nil {
			return err
		}
		if there {
			events := append(database.FromJSON[[]notice.Event](raw), m.Events...)
			severity, subject := notice.Subject(events)
			_, err := tx.ExecContext(ctx, "UPDATE messages SET events = ?, number = ?, severity = ?, subject = ? WHERE id = ?", database.AsJSON(events), len(events), severity.Number(), subject, id)
			return err
		}
	}
	severity, subject := notice.Subject(m.Events)
	_, err := tx.ExecContext(ctx, "INSERT INTO messages (recipient_id, mark, state, events, number, severity, subject, made, due) SELECT id, ?, 'waiting', ?, ?, ?, ?, ?, ? FROM recipients WHERE id = ?",
		m.Mark, database.AsJSON(m.Events), len(m.Events), severity.Number(), subject, database.StampOf(m.Made), database.StampOf(m.Due), m.RecipientID)
	return err
}

const messageColumns = "m.id, m.recipient_id, r.name, m.mark, m.state, m.severity, m.subject, m.number, m.events, m.attempts, m.made, m.due, m.tried, m.words"

func scanMessage(row interface{ Scan(...any) error }, more ...any) (v records.Message, err error) {
	var events, made, due, tried string
	var severity int
	err = row.Scan(append([]any{&v.ID, &v.RecipientID, &v.Recipient, &v.Mark, &v.State, &severity, &v.Subject, &v.Number, &events, &v.Attempts, &made, &due, &tried, &v.Words}, more...)...)
	if v.Events = database.FromJSON[[]notice.Event](events); v.Events == nil {
		v.Events = []notice.Event{}
	}
	v.Severity = notice.Numbered(severity)
	v.Made, v.Due, v.Tried = database.TimeOf(made), database.TimeOf(due), database.TimeOf(tried)
	return v, database.OrNotFound(err)
}

const messageFrom = "messages m JOIN recipients r ON r.id = m.recipient_id"

// AllMessages lists them, the latest first.
func (s *Messages) AllMessages(ctx context.Context, q records.Query) (records.Page[records.Message], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Message]{
		From: messageFrom, ID: "m.id", Sort: "-id", Scan: messageColumns,
		Columns: []database.Column{
			{Name: "id", Sql: "m.id", Number: true},
			{Name: "recipient", Sql: "r.name"},
			{Name: "state", Sql: "m.state", Values: []string{records.MessageWaiting, records.MessageSent, records.MessageGivenUp}},
			{Name: "severity", Sql: "m.severity", Number: true},
			{Name: "subject", Sql: "m.subject"},
			{Name: "number", Sql: "m.number", Number: true},
			{Name: "attempts", Sql: "m.attempts", Number: true},
			{Name: "made", Sql: "m.made", Hidden: true},
			{Name: "tried", Sql: "m.tried", Hidden: true},
			{Name: "words", Sql: "m.words"},
		},
		ScanRow: func(rows *sql.Rows) (records.Message, error) { return scanMessage(rows, new(any), new(any)) },
	}, q)
}

// Waiting returns the messages of a recipient that wait, the first one first.
func (s *Messages) Waiting(ctx context.Context, id records.RecipientID, most int) ([]records.Message, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Message, error) { return scanMessage(rows) },
		"SELECT "+messageColumns+" FROM "+messageFrom+" WHERE m.recipient_id = ? AND m.state = 'waiting' ORDER BY m.id LIMIT ?", id, most)
}

// Message returns one by its number.
func (s *Messages) Message(ctx context.Context, id records.MessageID) (records.Message, error) {
	v, err := scanMessage(s.Read.QueryRowContext(ctx, "SELECT "+messageColumns+" FROM "+messageFrom+" WHERE m.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("message %d: %w", id, err)
	}
	return v, nil
}

// SetMessage writes what became of one that waited.
func (s *Messages) SetMessage(ctx context.Context, v records.Message) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE messages SET state = ?, attempts = ?, due = ?, tried = ?, words = ? WHERE id = ?", v.State, v.Attempts, database.StampOf(v.Due), database.StampOf(v.Tried), v.Words, v.ID)
		return err
	})
}

// GiveUpOldest gives up what is more than so many that wait for a recipient, and reports
// how many were.
func (s *Messages) GiveUpOldest(ctx context.Context, id records.RecipientID, most int, words string) (n int64, err error) {
	waits, err := database.Collect(ctx, s.Read, database.Single[int], "SELECT COUNT(*) FROM messages WHERE recipient_id = ? AND state = 'waiting'", id)
	if err != nil || len(waits) == 0 || waits[0] <= most {
		return 0, err
	}
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE messages SET state = 'given-up', words = ? WHERE id IN (SELECT id FROM messages WHERE recipient_id = ? AND state = 'waiting' ORDER BY id LIMIT ?)", words, id, waits[0]-most)
		if err != nil {
			return err
		}
		n, err = res.RowsAffected()
		return err
	})
	return n, err
}

// RetryMessages has those wait again that were given up for a recipient, and reports how
// many.
func (s *Messages) RetryMessages(ctx context.Context, id records.RecipientID, entries ...ledger.Entry) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE messages SET state = 'waiting', attempts = 0, made = ?, due = ? WHERE recipient_id = ? AND state = 'given-up'", s.Stamp(), s.Stamp(), id)
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

// ForgetMessages removes what was sent before some time, and what was given up before another.
func (s *Messages) ForgetMessages(ctx context.Context, sent, givenUp time.Time) error {
	old, err := database.Collect(ctx, s.Read, database.Single[int64], "SELECT id FROM messages WHERE state = 'sent' AND made < ? OR state = 'given-up' AND made < ? LIMIT 10000", database.StampOf(sent), database.StampOf(givenUp))
	if err != nil || len(old) == 0 {
		return err
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM messages WHERE id IN (SELECT value FROM json_each(?))", database.AsJSON(old))
		return err
	})
}
