// Package people keeps persons, their sessions and tokens, approvals and duties.
package people

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// People are the tables of persons, their sessions and tokens, of what waits for a
// second person, and of duties.
type People struct{ *database.DB }

// mark binds who a person is and what they may do: a row that was written
// around the service has none.
func (s *People) mark(v records.User) string {
	return s.Mark("user", database.AsJSON([]any{v.Name, v.Password, strings.Join(v.Roles, " "), v.Disabled}))
}

const userColumns = "u.name, u.password, u.roles, u.created, u.disabled, u.mark"

func (s *People) scanUser(row interface{ Scan(...any) error }, more ...any) (records.User, error) {
	var v records.User
	var roles, created, mark string
	if err := row.Scan(append([]any{&v.Name, &v.Password, &roles, &created, &v.Disabled, &mark}, more...)...); err != nil {
		return v, database.OrNotFound(err)
	}
	v.Roles, v.Created = strings.Fields(roles), database.TimeOf(created)
	if mark != s.mark(v) {
		return records.User{}, fmt.Errorf("person %q: %w", v.Name, records.ErrForged)
	}
	return v, nil
}

// MarkUsers marks all, once, for a database from before there were marks.
func (s *People) MarkUsers(ctx context.Context, entries ...ledger.Entry) error {
	users, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.User, err error) {
		var roles string
		err = rows.Scan(&v.Name, &v.Password, &roles, &v.Disabled)
		v.Roles = strings.Fields(roles)
		return v, err
	}, "SELECT name, password, roles, disabled FROM users")
	if err != nil {
		return err
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, v := range users {
			if _, err := tx.ExecContext(ctx, "UPDATE users SET mark = ? WHERE name = ?", s.mark(v), v.Name); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// PersonsWithRole returns who has a role and can sign in, but for one.
func (s *People) PersonsWithRole(ctx context.Context, role, except string) ([]string, error) {
	users, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.User, error) {
		v, err := s.scanUser(rows)
		if errors.Is(err, records.ErrForged) {
			err = nil // counts for nothing
		}
		return v, err
	}, "SELECT "+userColumns+" FROM users u WHERE NOT disabled ORDER BY name")
	var out []string
	for _, v := range users {
		if v.Name != "" && !strings.EqualFold(v.Name, except) && slices.Contains(v.Roles, role) {
			out = append(out, v.Name)
		}
	}
	return out, err
}

// Users lists users.
func (s *People) Users(ctx context.Context, q records.Query) (records.Page[records.User], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.User]{
		From: "users u", ID: "u.rowid", Sort: "name", Scan: userColumns,
		Columns: []database.Column{{Name: "name", Sql: "u.name"}, {Name: "roles", Sql: "u.roles"}, {Name: "created", Sql: "u.created", Hidden: true}, {Name: "disabled", Sql: "u.disabled", Number: true}},
		ScanRow: func(rows *sql.Rows) (records.User, error) { return s.scanUser(rows, new(any), new(any)) },
	}, q)
}

// User returns one by name.
func (s *People) User(ctx context.Context, name string) (records.User, error) {
	v, err := s.scanUser(s.Read.QueryRowContext(ctx, "SELECT "+userColumns+" FROM users u WHERE name = ?", name))
	if err != nil {
		return v, fmt.Errorf("user %q: %w", name, err)
	}
	return v, nil
}

// UserNames returns the names of all users.
func (s *People) UserNames(ctx context.Context) ([]string, error) {
	return database.Collect(ctx, s.Read, database.Single[string], "SELECT name FROM users ORDER BY name")
}

// CountUsers tells whether the service has been set up.
func (s *People) CountUsers(ctx context.Context) (n int, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM users").Scan(&n)
	return n, err
}

// AddUser adds one. With first, only while there is none.
func (s *People) AddUser(ctx context.Context, v records.User, first bool, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM users WHERE ? OR name = ?", first, v.Name).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return fmt.Errorf("user %q: %w", v.Name, records.ErrConflict)
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO users (name, password, roles, created, mark) VALUES (?,?,?,?,?)", v.Name, v.Password, strings.Join(v.Roles, " "), s.Stamp(), s.mark(v)); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// ChangeUser replaces roles, password and state; sessions and tokens of a
// disabled user, or of one with a new password, end.
func (s *People) ChangeUser(ctx context.Context, v records.User, endSessions bool, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE users SET password=?, roles=?, disabled=?, mark=? WHERE name=?", v.Password, strings.Join(v.Roles, " "), v.Disabled, s.mark(v), v.Name); err != nil {
			return err
		}
		if endSessions || v.Disabled {
			if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE user = ?", v.Name); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked = ? WHERE user = ? AND revoked = ''", s.Stamp(), v.Name); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// hashOf is how a bearer is stored. It is keyed: whoever can write the database
// can still not make one.
func (s *People) hashOf(bearer string) []byte { return []byte(s.Mark("bearer", bearer)) }

// bearerMark binds a bearer to its owner and end, and to what alone it is for.
func (s *People) bearerMark(bearer, user, expires, only string) string {
	bound := []string{bearer, strings.ToLower(user), expires}
	if only != "" {
		bound = append(bound, only)
	}
	return s.Mark("bearer-owner", database.AsJSON(bound))
}

// bearerUser reads the owner of a live session or token.
func (s *People) bearerUser(ctx context.Context, bearer, from, live, only string) (records.User, error) {
	var owner, expires, mark string
	v, err := s.scanUser(s.Read.QueryRowContext(ctx, "SELECT "+userColumns+", b.user, b.expires, b.mark FROM "+from+" b JOIN users u ON u.name = b.user WHERE b.hash = ? AND b.expires > ? AND NOT u.disabled"+live, s.hashOf(bearer), s.Stamp()), &owner, &expires, &mark)
	if err == nil && mark != s.bearerMark(bearer, owner, expires, only) {
		return records.User{}, fmt.Errorf("session: %w", records.ErrForged)
	}
	return v, err
}

// AddToken stores one.
func (s *People) AddToken(ctx context.Context, bearer string, v records.Token, entries ...ledger.Entry) (records.TokenID, error) {
	var id records.TokenID
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO tokens (hash, user, label, created, expires, mark, only) VALUES (?,?,?,?,?,?,?)", s.hashOf(bearer), v.User, v.Label, s.Stamp(), database.StampOf(v.Expires), s.bearerMark(bearer, v.User, database.StampOf(v.Expires), v.Only), v.Only)
		if err != nil {
			return err
		}
		if id, err = database.Made[records.TokenID](res); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// TokenUser returns the user of a live token that is for everything.
func (s *People) TokenUser(ctx context.Context, bearer string) (records.User, error) {
	return s.bearerUser(ctx, bearer, "tokens", " AND b.revoked = '' AND b.only = ''", "")
}

// CalendarUser returns the user of a live token that is for reading the calendar alone.
func (s *People) CalendarUser(ctx context.Context, bearer string) (records.User, error) {
	return s.bearerUser(ctx, bearer, "tokens", " AND b.revoked = '' AND b.only = '"+records.OnlyCalendar+"'", records.OnlyCalendar)
}

// TokenExpires returns when a live token ends; ErrNotFound for what is no token.
func (s *People) TokenExpires(ctx context.Context, bearer string) (time.Time, error) {
	var expires string
	err := s.Read.QueryRowContext(ctx, "SELECT expires FROM tokens WHERE hash = ? AND revoked = ''", s.hashOf(bearer)).Scan(&expires)
	return database.TimeOf(expires), database.OrNotFound(err)
}

// Tokens lists tokens of a user, or all with an empty name.
func (s *People) Tokens(ctx context.Context, user string, q records.Query) (records.Page[records.Token], error) {
	if user != "" {
		q.Filters = append(q.Filters, "user="+user)
	}
	return database.PageOf(ctx, s.Read, database.Listing[records.Token]{
		From: "tokens t", ID: "t.id", Sort: "-id", Scan: "t.id, t.user, t.label, t.created, t.expires, t.used, t.revoked, t.only",
		Columns: []database.Column{{Name: "id", Sql: "t.id", Number: true}, {Name: "user", Sql: "t.user"}, {Name: "label", Sql: "t.label"}, {Name: "created", Sql: "t.created", Hidden: true}, {Name: "expires", Sql: "t.expires", Hidden: true}, {Name: "revoked", Sql: "t.revoked", Hidden: true}, {Name: "only", Sql: "t.only", Values: []string{"", records.OnlyCalendar}}},
		ScanRow: func(rows *sql.Rows) (v records.Token, err error) {
			var created, expires, used, revoked string
			err = rows.Scan(database.Padded(&v.ID, &v.User, &v.Label, &created, &expires, &used, &revoked, &v.Only)...)
			v.Created, v.Expires, v.Used, v.Revoked = database.TimeOf(created), database.TimeOf(expires), database.TimeOf(used), database.TimeOf(revoked)
			return v, err
		},
	}, q)
}

// Token returns one by number, without what it is.
func (s *People) Token(ctx context.Context, id records.TokenID) (v records.Token, err error) {
	var created, expires, used, revoked string
	err = s.Read.QueryRowContext(ctx, "SELECT id, user, label, created, expires, used, revoked FROM tokens WHERE id = ?", id).Scan(&v.ID, &v.User, &v.Label, &created, &expires, &used, &revoked)
	if err != nil {
		return v, fmt.Errorf("token %d: %w", id, database.OrNotFound(err))
	}
	v.Created, v.Expires, v.Used, v.Revoked = database.TimeOf(created), database.TimeOf(expires), database.TimeOf(used), database.TimeOf(revoked)
	return v, nil
}

// RevokeToken ends one.
func (s *People) RevokeToken(ctx context.Context, id records.TokenID, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "UPDATE tokens SET revoked = ? WHERE id = ? AND revoked = ''", s.Stamp(), id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("token %d: %w", id, records.ErrNotFound)
		}
		return s.Enter(ctx, tx, entries...)
	})
}
