package people

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// approvalDetail is what stands in the detail column.
type approvalDetail struct {
	Changes []ledger.Change `json:"changes"`
	Detail  json.RawMessage `json:"detail"`
	Expires time.Time       `json:"expires,omitzero"`
}

// markOf binds all that is approved and who asked for it.
func (s *People) markOf(v records.Approval, detail, asked string) string {
	return s.Mark("approval", database.AsJSON([]string{v.Kind, v.Subject, v.What, detail, v.Reason, v.AskedBy, asked}))
}

// AskApproval stores a request. Earlier ones for the same systems, kind and
// subject that are still open are superseded.
func (s *People) AskApproval(ctx context.Context, v records.Approval, entries ...ledger.Entry) (records.ApprovalID, error) {
	var id records.ApprovalID
	if v.SystemIDs == nil {
		v.SystemIDs = []records.SystemID{}
	}
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		detail, asked := database.AsJSON(approvalDetail{v.Changes, v.Detail, v.Expires}), s.Stamp()
		if err := supersede(ctx, tx, v.Kind, v.Subject, v.SystemIDs, asked); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO approvals (kind, subject, what, detail, mark, reason, asked_by, asked, state) VALUES (?,?,?,?,?,?,?,?,'asked')", v.Kind, v.Subject, v.What, detail, s.markOf(v, detail, asked), v.Reason, v.AskedBy, asked)
		if err != nil {
			return err
		}
		if id, err = database.Made[records.ApprovalID](res); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO approval_systems (approval_id, system_id) SELECT ?, value FROM json_each(?)", id, database.AsJSON(v.SystemIDs)); err != nil {
			return err
		}
		for i := range entries {
			entries[i].Ref = fmt.Sprintf("approval/%d", id)
		}
		if err := s.Begun(ctx, tx, -int64(id)); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// SupersedeApprovals ends open requests about a subject.
func (s *People) SupersedeApprovals(ctx context.Context, kind, subject string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		return supersede(ctx, tx, kind, subject, []records.SystemID{}, s.Stamp())
	})
}

func supersede(ctx context.Context, tx *sql.Tx, kind, subject string, systems []records.SystemID, now string) error {
	_, err := tx.ExecContext(ctx, `UPDATE approvals SET state = 'superseded', decided = ? WHERE state = 'asked' AND kind = ?
		AND (subject = ? OR id IN (SELECT approval_id FROM approval_systems WHERE system_id IN (SELECT value FROM json_each(?))))`, now, kind, subject, database.AsJSON(systems))
	return err
}

const approvalColumns = "a.id, a.kind, a.subject, a.what, a.detail, a.mark, a.reason, a.asked_by, a.asked, a.state, a.decided_by, a.decided, a.words, (SELECT json_group_array(json_array(s.id, s.name)) FROM approval_systems x JOIN systems s ON s.id = x.system_id WHERE x.approval_id = a.id)"

func (s *People) scanApproval(row interface{ Scan(...any) error }, more ...any) (v records.Approval, err error) {
	var detail, mark, asked, decided, systems string
	if err := row.Scan(append([]any{&v.ID, &v.Kind, &v.Subject, &v.What, &detail, &mark, &v.Reason, &v.AskedBy, &asked, &v.State, &v.DecidedBy, &decided, &v.Words, &systems}, more...)...); err != nil {
		return v, database.OrNotFound(err)
	}
	v.Asked, v.Decided = database.TimeOf(asked), database.TimeOf(decided)
	parts := database.FromJSON[approvalDetail](detail)
	v.Changes, v.Detail, v.Digest = parts.Changes, parts.Detail, mark
	v.Expires = parts.Expires
	if mark != s.markOf(v, detail, asked) {
		return v, fmt.Errorf("approval %d: %w", v.ID, records.ErrForged)
	}
	v.Systems = []string{}
	for _, pair := range database.FromJSON[[][2]any](systems) {
		id, _ := pair[0].(float64)
		name, _ := pair[1].(string)
		v.SystemIDs, v.Systems = append(v.SystemIDs, records.SystemID(id)), append(v.Systems, name)
	}
	if v.Changes == nil {
		v.Changes = []ledger.Change{}
	}
	return v, nil
}

// Approvals lists them.
func (s *People) Approvals(ctx context.Context, q records.Query) (records.Page[records.Approval], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Approval]{
		From: "approvals a", ID: "a.id", Sort: "-id", Scan: approvalColumns,
		Columns: []database.Column{
			{Name: "id", Sql: "a.id", Number: true},
			{Name: "kind", Sql: "a.kind", Values: []string{"endpoint", "rotation", "person", "requirement", "batch", "configuration"}},
			{Name: "subject", Sql: "a.subject"},
			{Name: "what", Sql: "a.what"},
			{Name: "reason", Sql: "a.reason"},
			{Name: "asked_by", Sql: "a.asked_by"},
			{Name: "asked", Sql: "a.asked", Hidden: true},
			{Name: "state", Sql: "a.state", Values: []string{records.ApprovalAsked, records.ApprovalApproved, records.ApprovalRefused, records.ApprovalWithdrawn, records.ApprovalSuperseded, records.ApprovalExpired}},
			{Name: "decided_by", Sql: "a.decided_by"},
			{Name: "decided", Sql: "a.decided", Hidden: true},
		},
		ScanRow: func(rows *sql.Rows) (records.Approval, error) {
			v, err := s.scanApproval(rows, new(any), new(any))
			if errors.Is(err, records.ErrForged) {
				v.Words, err = "changed outside of the service: it cannot be approved", nil
				v.Systems, v.Changes = []string{}, []ledger.Change{}
			}
			return v, err
		},
	}, q)
}

// Approval returns one.
func (s *People) Approval(ctx context.Context, id records.ApprovalID) (records.Approval, error) {
	v, err := s.scanApproval(s.Read.QueryRowContext(ctx, "SELECT "+approvalColumns+" FROM approvals a WHERE a.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("approval %d: %w", id, err)
	}
	return v, nil
}

// WaitsFor returns the open request that a system waits for, or ErrNotFound.
func (s *People) WaitsFor(ctx context.Context, system records.SystemID) (records.Approval, error) {
	return s.scanApproval(s.Read.QueryRowContext(ctx, "SELECT "+approvalColumns+" FROM approvals a JOIN approval_systems w ON w.approval_id = a.id WHERE w.system_id = ? AND a.state = 'asked' AND a.kind = 'endpoint' ORDER BY a.id DESC LIMIT 1", system))
}

// DecideApproval ends an open request. ErrConflict when it was not open any more.
func (s *People) DecideApproval(ctx context.Context, id records.ApprovalID, state, by, words string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE approvals SET state = ?, decided_by = ?, decided = ?, words = ? WHERE id = ? AND state = 'asked'", state, by, s.Stamp(), words, id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return database.InUse(fmt.Sprintf("approval %d is no longer open", id))
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// ExpireApprovals ends open requests that nobody approved in time, and reports how many.
func (s *People) ExpireApprovals(ctx context.Context) (n int, err error) {
	list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Approval, err error) {
		return v, rows.Scan(&v.ID, &v.Subject, &v.AskedBy)
	}, "SELECT id, subject, asked_by FROM approvals WHERE state = 'asked' AND COALESCE(json_extract(detail, '$.expires'), '') <> '' AND julianday(json_extract(detail, '$.expires')) < julianday(?)", s.Stamp())
	for _, v := range list {
		entry := ledger.Entry{Actor: "service", Act: "approval.expire", Phase: ledger.Outcome, Subject: v.Subject, Ref: fmt.Sprintf("approval/%d", v.ID), Result: "done", Detail: "asked by " + v.AskedBy}
		if err := s.DecideApproval(ctx, v.ID, records.ApprovalExpired, "service", "nobody approved it in time", entry); err != nil {
			return n, err
		}
		n++
	}
	return n, err
}

// ApprovalWords notes what came of an approved request.
func (s *People) ApprovalWords(ctx context.Context, id records.ApprovalID, words string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE approvals SET words = ? WHERE id = ?", words, id)
		return err
	})
}

// TrustEndpoints stores the sealed endpoint of systems, each with words about
// who asked and who approved.
func (s *People) TrustEndpoints(ctx context.Context, sealed map[records.SystemID][]byte, words string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for id, endpoint := range sealed {
			if _, err := tx.ExecContext(ctx, "UPDATE systems SET endpoint = ?, trusted_words = ? WHERE id = ?", endpoint, words, id); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// Endpoint returns the sealed endpoint of a system; nil when there is none.
func (s *People) Endpoint(ctx context.Context, system records.SystemID) (sealed []byte, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT endpoint FROM systems WHERE id = ?", system).Scan(&sealed)
	return sealed, database.OrNotFound(err)
}

// HoldsSecretsOf tells whether accounts of a system are in custody.
func (s *People) HoldsSecretsOf(ctx context.Context, system records.SystemID) (bool, error) {
	var n int
	err := s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM secrets WHERE credential_id IN (SELECT id FROM credentials WHERE account_id IN (SELECT id FROM accounts WHERE system_id = ?))", system).Scan(&n)
	return n > 0, err
}

// Reseal replaces a sealed value by the same one, bound anew.
func (s *People) Reseal(ctx context.Context, sealed map[records.SecretID][]byte, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for id, value := range sealed {
			if _, err := tx.ExecContext(ctx, "UPDATE secrets SET sealed = ? WHERE id = ?", value, id); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// HasAct tells whether the ledger has an entry of an act.
func (s *People) HasAct(ctx context.Context, act string) (bool, error) {
	var n int
	err := s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM (SELECT 1 FROM ledger WHERE json_valid(leaf) AND json_extract(leaf, '$.act') = ? LIMIT 1)", act).Scan(&n)
	return n > 0, err
}
