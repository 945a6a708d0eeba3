package people

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// sessionID names a session without saying anything that opens it: a part of the keyed
// hash of its cookie.
const sessionID = "substr(CAST(hash AS TEXT), 1, 16)"

// AddSession stores a session by the hash of its cookie.
func (s *People) AddSession(ctx context.Context, bearer, user, address string, expires time.Time) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE expires < ?", s.Stamp()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO sessions (hash, user, created, expires, address, mark) VALUES (?,?,?,?,?,?)", s.hashOf(bearer), user, s.Stamp(), database.StampOf(expires), address, s.bearerMark(bearer, user, database.StampOf(expires), ""))
		return err
	})
}

// SessionUser returns the user of a live session.
func (s *People) SessionUser(ctx context.Context, bearer string) (records.User, error) {
	return s.bearerUser(ctx, bearer, "sessions", "", "")
}

// EndSession ends a session, or a token.
func (s *People) EndSession(ctx context.Context, bearer string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked = ? WHERE hash = ? AND revoked = ''", s.Stamp(), s.hashOf(bearer)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", s.hashOf(bearer))
		return err
	})
}

// Sessions lists those of a user that have not ended, or all with an empty name. current
// is the bearer of who asks.
func (s *People) Sessions(ctx context.Context, user, current string, q records.Query) (records.Page[records.Session], error) {
	l := database.Listing[records.Session]{
		From: "sessions", ID: "sessions.rowid", Sort: "-created", Where: "expires > '" + s.Stamp() + "'",
		Scan:    sessionID + ", user, created, expires, address, hash",
		Columns: []database.Column{{Name: "user", Sql: "user"}, {Name: "address", Sql: "address"}, {Name: "created", Sql: "created", Hidden: true}, {Name: "expires", Sql: "expires", Hidden: true}},
	}
	own := s.hashOf(current)
	l.ScanRow = func(rows *sql.Rows) (v records.Session, err error) {
		var created, expires string
		var hash []byte
		err = rows.Scan(database.Padded(&v.ID, &v.User, &created, &expires, &v.Address, &hash)...)
		v.Created, v.Expires, v.Current = database.TimeOf(created), database.TimeOf(expires), string(hash) == string(own)
		return v, err
	}
	if user != "" {
		q.Filters = append(q.Filters, "user="+user)
	}
	return database.PageOf(ctx, s.Read, l, q)
}

// SessionOwner returns whose a session is.
func (s *People) SessionOwner(ctx context.Context, id string) (user string, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT user FROM sessions WHERE "+sessionID+" = ? AND expires > ?", id, s.Stamp()).Scan(&user)
	if err != nil {
		return "", fmt.Errorf("session %q: %w", id, database.OrNotFound(err))
	}
	return user, nil
}

// EndSessionOf ends a session by its name.
func (s *People) EndSessionOf(ctx context.Context, id string, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE "+sessionID+" = ?", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("session %q: %w", id, records.ErrNotFound)
		}
		return s.Enter(ctx, tx, entries...)
	})
}
