package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

const nativePlugin = "mysql_native_password"

// row of mysql.global_priv.
type row struct {
	user, host, plugin string
	locked             bool
	changed            time.Time
	lifetime           int
	expired, role      bool
}

// id is the account's own: the server keeps none but user and host.
func (r row) id() string { return "account:" + r.user + "@" + r.host }

func read(ctx context.Context, conn *sql.Conn, where string, args ...any) ([]row, error) {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Priv FROM mysql.global_priv "+where+" ORDER BY User, Host", args...) //nolint:gosec // where is one of our own constants; values are bound
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []row
	for rows.Next() {
		var r row
		var raw string
		if err := rows.Scan(&r.user, &r.host, &raw); err != nil {
			return nil, err
		}
		var priv struct {
			Plugin   string           `json:"plugin"`
			AuthOr   []map[string]any `json:"auth_or"`
			Locked   bool             `json:"account_locked"`
			Changed  int64            `json:"password_last_changed"`
			Lifetime *int             `json:"password_lifetime"`
			IsRole   bool             `json:"is_role"`
		}
		if err := json.Unmarshal([]byte(raw), &priv); err != nil {
			return nil, fmt.Errorf("account %s@%s: %w", r.user, r.host, err)
		}
		r.plugin, r.locked, r.role = priv.Plugin, priv.Locked, priv.IsRole
		for _, way := range priv.AuthOr { // an empty entry stands for the plugin itself
			if name, _ := way["plugin"].(string); name != "" {
				r.plugin = name
			}
		}
		if r.plugin == "" && !r.role {
			r.plugin = nativePlugin
		}
		if priv.Changed > 0 {
			r.changed = time.Unix(priv.Changed, 0).UTC()
		}
		r.expired = priv.Changed == 0 && strings.Contains(raw, `"password_last_changed":0`)
		if priv.Lifetime != nil {
			r.lifetime = *priv.Lifetime
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

func (r row) account() estate.Account {
	a := estate.Account{
		StableID: r.id(), Name: r.user, DN: r.user + "@" + r.host, Type: "database user", Enabled: estate.Yes, Locked: estate.Known(r.locked),
		PasswordChanged: r.changed, MustChange: r.expired, Description: "from " + r.host + ", by " + r.plugin,
	}
	if r.lifetime > 0 && !r.changed.IsZero() {
		a.PasswordExpires = r.changed.AddDate(0, 0, r.lifetime)
	} else {
		a.NeverExpire = true
	}
	return a
}

func find(ctx context.Context, target connect.Target, conn *sql.Conn, ref connect.AccountRef) (row, *connect.Failure) {
	user, host, _ := strings.Cut(strings.TrimPrefix(ref.StableID, "account:"), "@")
	found, err := read(ctx, conn, "WHERE User = ? AND Host = ?", user, host)
	switch {
	case err != nil:
		return row{}, failure(target, connect.StageChange, err, false)
	case len(found) != 1 || user != ref.Name:
		return row{}, target.Fail(connect.StageChange, connect.CodeGone, "no account is called "+ref.Name+"@"+host, "survey this system", nil)
	}
	return found[0], nil
}

// Visit implements connect.Visitor: accounts, and who is signed in now.
func (Connector) Visit(ctx context.Context, target connect.Target, _ connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	fail := func(f *connect.Failure) (connect.Coverage, error) {
		return coverage.Fail(watch, f, connect.ScopeAccounts, connect.ScopeSessions)
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return fail(failed)
	}
	defer done()
	if coverage.Facts, failed = facts(ctx, target, conn); failed != nil {
		return fail(failed)
	}
	rows, err := read(ctx, conn, "")
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	batch := connect.Batch{Sessions: []estate.Session{}}
	for _, r := range rows {
		if !r.role && r.user != "" && r.user != "mariadb.sys" {
			batch.Accounts = append(batch.Accounts, r.account())
		}
	}
	complete, err := sessions(ctx, conn, rows, &batch)
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	if err := emit(batch); err != nil {
		return fail(target.Fail(connect.StageRead, connect.CodeFailed, "what was read could not be taken in: "+err.Error(), "", err))
	}
	coverage.Counts[connect.ScopeAccounts], coverage.Counts[connect.ScopeSessions] = len(batch.Accounts), len(batch.Sessions)
	coverage.Complete[connect.ScopeAccounts], coverage.Complete[connect.ScopeSessions] = true, complete
	if !complete {
		coverage.Why[connect.ScopeSessions] = "only its own sessions are shown: GRANT PROCESS ON *.* TO " + target.Steward.Account
	}
	watch.OK(connect.StageRead, fmt.Sprintf("%d accounts, %d sessions", len(batch.Accounts), len(batch.Sessions)))
	coverage.Stages = watch.Stages()
	return coverage, nil
}

// clientOf takes a client apart as the process list shows it: "host:port", with
// an IPv6 address not in brackets, and no port for a local socket.
func clientOf(from string) (host string, port int) {
	i := strings.LastIndexByte(from, ':')
	if i < 0 {
		return "", 0
	}
	port, err := strconv.Atoi(from[i+1:])
	if err != nil {
		return "", 0
	}
	host = strings.Trim(from[:i], "[]")
	if address, err := netip.ParseAddr(host); err == nil {
		host = address.Unmap().String() // as sockets of hosts show it
	}
	return host, port
}

// sessions reads who is signed in; it reports whether all are shown.
func sessions(ctx context.Context, conn *sql.Conn, accounts []row, batch *connect.Batch) (bool, error) {
	var grants int
	if err := conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.user_privileges WHERE privilege_type = 'PROCESS' AND grantee = CONCAT('''', REPLACE(current_user(), '@', '''@'''), '''')").Scan(&grants); err != nil {
		return false, err
	}
	rows, err := conn.QueryContext(ctx, "SELECT user, host, COALESCE(db, ''), time FROM information_schema.processlist WHERE id <> connection_id() AND user NOT IN ('system user', 'event_scheduler')")
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for rows.Next() {
		var s estate.Session
		var from string
		var seconds float64
		if err := rows.Scan(&s.Account, &from, &s.Database, &seconds); err != nil {
			return false, err
		}
		s.Client, s.Port = clientOf(from)
		// Which of several accounts of a name it is follows from the client.
		var candidates []row
		for _, a := range accounts {
			if a.user == s.Account && (a.host == "%" || a.host == s.Client || strings.HasSuffix(a.host, "%") && strings.HasPrefix(s.Client, strings.TrimSuffix(a.host, "%")) || s.Client == "" && a.host == "localhost") {
				candidates = append(candidates, a)
			}
		}
		if len(candidates) == 1 {
			s.StableID = candidates[0].id()
		}
		batch.Sessions = append(batch.Sessions, s)
	}
	return grants > 0, rows.Err()
}

// Rehearse implements connect.Rehearser.
func (Connector) Rehearse(ctx context.Context, target connect.Target, intentions []connect.Intention) []connect.Checked {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return []connect.Checked{{System: target.Name, What: "reach the data store", Result: connect.CheckFailed, Words: failed.Words, Next: failed.Next}}
	}
	defer done()
	out := []connect.Checked{{System: target.Name, What: "reach the data store and sign in", Result: connect.CheckOK}}
	for _, in := range intentions {
		if in.Change == nil {
			continue
		}
		line := connect.Checked{System: target.Name, What: "right to set the password of " + in.Change.Name, Result: connect.CheckOK}
		a, failed := find(ctx, target, conn, *in.Change)
		name := target.Options[OptionProcedure]
		var n int
		var err error
		if name != "" {
			schema, procedure, _ := strings.Cut(name, ".")
			err = conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.routines WHERE routine_schema = ? AND routine_name = ?", schema, procedure).Scan(&n)
		} else {
			err = conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.user_privileges WHERE privilege_type = 'CREATE USER' AND grantee = CONCAT('''', REPLACE(current_user(), '@', '''@'''), '''')").Scan(&n)
		}
		switch {
		case failed != nil:
			line.Result, line.Words, line.Next = connect.CheckFailed, failed.Words, failed.Next
		case err != nil:
			line.Result, line.Words = connect.CheckFailed, err.Error()
		case a.plugin != nativePlugin:
			line.Result, line.Words, line.Next = connect.CheckFailed, "it signs in by "+a.plugin, "only passwords of the plugin "+nativePlugin+" are changed from here"
		case n == 0 && name != "":
			line.Result, line.Words, line.Next = connect.CheckFailed, "the procedure "+name+" is not there, or may not be executed", "create it and GRANT EXECUTE ON PROCEDURE "+name+" TO this account"
		case n == 0:
			line.Result, line.Words, line.Next = connect.CheckFailed, target.Steward.Account+" may not change accounts", "create a procedure that may, and name it with --option procedure=SCHEMA.NAME"
		}
		out = append(out, line)
	}
	return out
}
