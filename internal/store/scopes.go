package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// When many vanish at once, it is a question: more than a quarter of at least
// five, or more than fifty.
const (
	massLeast = 5
	massMost  = 50
)

// Vanished returns the rows of a scope that its reading did not see, and how
// many were there before.
func (s *Store) Vanished(ctx context.Context, system records.SystemID, e ScopeEnd) (gone []int64, present int, err error) {
	ids, err := presentIDs(ctx, s.Read, system, e.Table, e.Condition)
	for _, id := range ids {
		if !e.Seen.has(id) {
			gone = append(gone, id)
		}
	}
	return gone, len(ids), err
}

// EndScopes marks rows that a complete reading did not see as gone, and notes
// which scopes were read completely, and why the others were not. Law 4. The
// writer is held for some hundred rows at a time.
func (s *Store) EndScopes(ctx context.Context, system records.SystemID, ends []ScopeEnd, tally *records.Tally) ([]records.Held, error) {
	defer s.PictureAltered()
	var held []records.Held
	for _, e := range ends {
		h, err := s.endScope(ctx, system, e, tally)
		if err != nil {
			return held, fmt.Errorf("end of %s: %w", e.Scope, err)
		}
		if h != nil {
			held = append(held, *h)
		}
	}
	return held, nil
}

func (s *Store) endScope(ctx context.Context, system records.SystemID, e ScopeEnd, tally *records.Tally) (*records.Held, error) {
	if !e.Complete {
		return nil, s.leaveScope(ctx, system, e, nil)
	}
	gone, present, err := s.Vanished(ctx, system, e)
	if err != nil {
		return nil, err
	}
	var sight string
	var confirmed bool
	if err := s.Read.QueryRowContext(ctx, "SELECT sight, confirmed FROM scopes WHERE system_id = ? AND scope = ?", system, e.Scope).Scan(&sight, &confirmed); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	counted := len(gone)
	if e.Scope == "files" { // what only mentions an account comes and goes with the names that are looked for
		if counted, err = s.copiesAmong(ctx, gone); err != nil {
			return nil, err
		}
	}
	h := &records.Held{Scope: e.Scope, Count: len(gone)}
	switch {
	case confirmed || e.Fleeting || counted == 0:
		h = nil
	case sight != "" && e.Sight != "" && sight != e.Sight:
		h.Why = fmt.Sprintf("%d that were there before are not seen with the log-on, base or options of now: whether they are gone, or only out of sight, is for a person to say", len(gone))
	case counted > massMost || counted >= massLeast && counted*4 > present:
		h.Why = fmt.Sprintf("%d of %d vanished at once: whether they are gone, or the steward sees less than before, is for a person to say", len(gone), present)
	default:
		h = nil
	}
	if h != nil {
		e.Why = h.Why
		return h, s.leaveScope(ctx, system, e, h)
	}
	marked := gone[:0:0]
	for _, id := range gone {
		if !e.Stays[id] {
			marked = append(marked, id)
		}
	}
	now := s.Stamp()
	if err := s.inSlices(ctx, marked, func(tx *sql.Tx, ids string) error {
		_, err := tx.ExecContext(ctx, "UPDATE "+e.Table+" SET gone = ? WHERE id IN (SELECT value FROM json_each(?))", now, ids) //nolint:gosec // names of tables are our own
		if err != nil {
			return err
		}
		if e.Fleeting {
			return nil
		}
		return s.NoteGone(ctx, tx, system, e.Scope, e.Table, &e.Seen.Look, ids)
	}); err != nil {
		return nil, err
	}
	tally.Vanished += len(marked)
	tally.AccountsTouched = tally.AccountsTouched || e.Table == "accounts" && len(marked) > 0
	return nil, s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO scopes (system_id, scope, completed, why, sight, begun) VALUES (?,?,?,'',?,?)
			ON CONFLICT (system_id, scope) DO UPDATE SET completed = excluded.completed, why = '', sight = excluded.sight, begun = excluded.begun, held = 0, confirmed = 0`, system, e.Scope, now, e.Sight, database.StampOf(e.Begun))
		return err
	})
}

// leaveScope notes that a scope was not read to its end, or is held.
func (s *Store) leaveScope(ctx context.Context, system records.SystemID, e ScopeEnd, held *records.Held) error {
	count := 0
	if held != nil {
		count = held.Count
	}
	if err := s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO scopes (system_id, scope, why, held) VALUES (?,?,?,?) ON CONFLICT (system_id, scope) DO UPDATE SET why = excluded.why, held = excluded.held", system, e.Scope, e.Why, count)
		return err
	}); err != nil {
		return err
	}
	return s.touch(ctx, system, e.Table, e.Condition, e.Seen)
}

// copiesAmong counts the rows that are more than mentions.
func (s *Store) copiesAmong(ctx context.Context, ids []int64) (n int, err error) {
	if ids == nil {
		ids = []int64{}
	}
	err = s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM dependents WHERE id IN (SELECT value FROM json_each(?)) AND COALESCE(json_extract(copy, '$.format'), '') <> 'mention'", database.AsJSON(ids)).Scan(&n)
	return n, err
}

// sliceRows is how many rows one transaction changes.
const sliceRows = 500

// inSlices runs f for some ids at a time, each in a transaction of its own.
func (s *Store) inSlices(ctx context.Context, ids []int64, f func(tx *sql.Tx, ids string) error) error {
	for len(ids) > 0 {
		n := min(sliceRows, len(ids))
		some := database.AsJSON(ids[:n])
		ids = ids[n:]
		if err := s.InTx(ctx, func(tx *sql.Tx) error { return f(tx, some) }); err != nil {
			return err
		}
	}
	return nil
}

// ConfirmAbsence lets the next complete reading of a system's held scopes mark
// as gone what it does not see. It returns how many scopes were held.
func (s *Store) ConfirmAbsence(ctx context.Context, system records.SystemID, entries ...ledger.Entry) (n int64, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE scopes SET confirmed = 1 WHERE system_id = ? AND held > 0", system)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil || n == 0 {
			return database.InUse("nothing of it waits to be confirmed")
		}
		return s.Enter(ctx, tx, entries...)
	})
	return n, err
}

// HeldScopes returns all of them.
func (s *Store) HeldScopes(ctx context.Context) ([]records.HeldScope, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (h records.HeldScope, err error) {
		return h, rows.Scan(&h.SystemID, &h.System, &h.Scope, &h.Why, &h.Count)
	}, "SELECT scopes.system_id, systems.name, scopes.scope, scopes.why, scopes.held FROM scopes JOIN systems ON systems.id = scopes.system_id WHERE scopes.held > 0 AND scopes.confirmed = 0 ORDER BY systems.name, scopes.scope")
}

// touch notes rows that an incomplete reading did see.
func (s *Store) touch(ctx context.Context, system records.SystemID, table, condition string, seen *Seen) error {
	if len(seen.bits) == 0 {
		return nil
	}
	ids, err := presentIDs(ctx, s.Read, system, table, condition)
	if err != nil {
		return err
	}
	var touched []int64
	for _, id := range ids {
		if seen.has(id) {
			touched = append(touched, id)
		}
	}
	now := s.Stamp()
	return s.inSlices(ctx, touched, func(tx *sql.Tx, some string) error {
		_, err := tx.ExecContext(ctx, "UPDATE "+table+" SET seen = ? WHERE id IN (SELECT value FROM json_each(?))", now, some) //nolint:gosec // names of tables are our own
		return err
	})
}

func presentIDs(ctx context.Context, db database.Queryer, system records.SystemID, table, condition string) ([]int64, error) {
	return database.Collect(ctx, db, database.Single[int64], "SELECT id FROM "+table+" WHERE system_id = ? AND gone = '' AND "+condition, system)
}
