package postgres

import (
	"context"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"golang.org/x/text/secure/precis"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

const rolesQuery = `SELECT r.oid::bigint, r.rolname, r.rolsuper, r.rolcreaterole, r.rolreplication, r.rolvaliduntil, COALESCE(shobj_description(r.oid, 'pg_authid'), ''),
	ARRAY(WITH RECURSIVE up(oid) AS (SELECT roleid FROM pg_auth_members WHERE member = r.oid UNION SELECT m.roleid FROM pg_auth_members m JOIN up ON m.member = up.oid)
		SELECT g.rolname::text FROM up JOIN pg_roles g ON g.oid = up.oid ORDER BY 1),
	(SELECT COUNT(*) FROM pg_shdepend s WHERE s.refclassid = 'pg_authid'::regclass AND s.refobjid = r.oid AND s.deptype IN ('o', 'a')),
	r.rolcanlogin
	FROM pg_roles r WHERE r.rolcanlogin OR r.oid = ANY($1::bigint[]::oid[]) ORDER BY r.rolname`

const sessionsQuery = `SELECT COALESCE(usesysid::bigint, 0), usename::text, COALESCE(host(client_addr), ''), COALESCE(client_port, 0), COALESCE(application_name, ''), COALESCE(datname::text, ''), backend_start
	FROM pg_stat_activity WHERE usename IS NOT NULL AND backend_type = 'client backend' AND pid <> pg_backend_pid()`

// Visit implements connect.Visitor: log-in roles, and who is signed in now.
func (Connector) Visit(ctx context.Context, target connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	fail := func(f *connect.Failure) (connect.Coverage, error) {
		return coverage.Fail(watch, f, connect.ScopeAccounts, connect.ScopeSessions)
	}
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return fail(failed)
	}
	defer closing(conn)
	if coverage.Facts, failed = facts(ctx, target, conn); failed != nil {
		return fail(failed)
	}
	batch := connect.Batch{Sessions: []estate.Session{}}
	rows, err := conn.Query(ctx, rolesQuery, numbers(request.Resting))
	if err == nil {
		own := map[string]int64{}
		batch.Accounts, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (estate.Account, error) { return account(row, own) })
		pairs(batch.Accounts, own)
	}
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	mine, failed := readRights(ctx, target, conn)
	if failed != nil {
		return fail(failed)
	}
	rows, err = conn.Query(ctx, sessionsQuery)
	if err == nil {
		batch.Sessions, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (s estate.Session, err error) {
			var oid int64
			err = row.Scan(&oid, &s.Account, &s.Client, &s.Port, &s.Application, &s.Database, &s.Since)
			s.StableID = stableID(oid)
			return s, err
		})
	}
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	if err := emit(batch); err != nil {
		return fail(target.Fail(connect.StageRead, connect.CodeFailed, "what was read could not be taken in: "+err.Error(), "", err))
	}
	coverage.Counts[connect.ScopeAccounts], coverage.Counts[connect.ScopeSessions] = len(batch.Accounts), len(batch.Sessions)
	coverage.Complete[connect.ScopeAccounts] = true
	if coverage.Complete[connect.ScopeSessions] = mine.stats || mine.super; !coverage.Complete[connect.ScopeSessions] {
		coverage.Why[connect.ScopeSessions] = "the sessions of others show no address: GRANT pg_read_all_stats TO " + target.Steward.Account
	}
	watch.OK(connect.StageRead, fmt.Sprintf("%d roles, %d sessions", len(batch.Accounts), len(batch.Sessions)))
	coverage.Stages = watch.Stages()
	return coverage, nil
}

// numbers are the oids of stable ids.
func numbers(ids []string) []int64 {
	out := []int64{}
	for _, id := range ids {
		if oid, err := strconv.ParseInt(strings.TrimPrefix(id, "oid:"), 10, 64); err == nil {
			out = append(out, oid)
		}
	}
	return out
}

func stableID(oid int64) string { return "oid:" + strconv.FormatInt(oid, 10) }

// account reads a role, and into own how much it owns or was granted itself.
func account(row pgx.CollectableRow, own map[string]int64) (estate.Account, error) {
	var a estate.Account
	var oid, objects int64
	var super, createRole, replication, logsIn bool
	var until pgtype.Timestamptz
	err := row.Scan(&oid, &a.Name, &super, &createRole, &replication, &until, &a.Description, &a.Groups, &objects, &logsIn)
	own[a.Name] = objects
	a.StableID, a.Type, a.Enabled, a.Locked = stableID(oid), "role", estate.Known(logsIn), estate.No
	if until.Valid && until.InfinityModifier == pgtype.Finite {
		a.PasswordExpires = until.Time.UTC()
	} else {
		a.NeverExpire = true
	}
	for _, attribute := range []struct {
		has  bool
		name string
	}{{super, "SUPERUSER"}, {createRole, "CREATEROLE"}, {replication, "REPLICATION"}} {
		if attribute.has {
			a.Groups = append(a.Groups, attribute.name)
		}
	}
	return a, err
}

type role struct {
	super   bool
	expires time.Time
}

// find makes sure that a role is still the one that is meant.
func find(ctx context.Context, target connect.Target, conn *pgx.Conn, ref connect.AccountRef) (role, *connect.Failure) {
	var r role
	var oid int64
	var until pgtype.Timestamptz
	err := conn.QueryRow(ctx, "SELECT oid::bigint, rolsuper, rolvaliduntil FROM pg_roles WHERE rolname = $1", ref.Name).Scan(&oid, &r.super, &until)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return r, target.Fail(connect.StageChange, connect.CodeGone, "no role is called "+ref.Name, "survey this system", nil)
	case err != nil:
		return r, failure(target, connect.StageChange, err, false)
	case stableID(oid) != ref.StableID:
		return r, target.Fail(connect.StageChange, connect.CodeGone, ref.Name+" is another role now", "survey this system", nil)
	}
	if until.Valid && until.InfinityModifier == pgtype.Finite {
		r.expires = until.Time
	}
	return r, nil
}

// Verify implements connect.Verifier. A wrong password, one that has ended and
// a missing role look the same to a client.
func (Connector) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "an empty password is never sent"}, nil
	}
	conn, failed := open(ctx, target, account.Name, value, connect.NewStopwatch())
	if failed == nil {
		closing(conn)
		return connect.Verdict{Accepted: true, Words: "signed in as " + account.Name}, nil
	}
	var refused *pgconn.PgError
	if !errors.As(failed, &refused) {
		return connect.Verdict{}, failed
	}
	switch refused.Code {
	case "28P01":
		return connect.Verdict{Code: connect.VerdictWrong, Words: refused.Message}, nil
	case "28000":
		if strings.Contains(refused.Message, "not permitted to log in") {
			return connect.Verdict{Code: connect.VerdictDisabled, Words: refused.Message}, nil
		}
		return connect.Verdict{}, failed
	case "3D000", "42501":
		// The password is checked before the database and its rights. That no
		// connection is free (53300) may be said before the password was looked at.
		return connect.Verdict{Accepted: true, Words: "the password is accepted; then: " + refused.Message}, nil
	}
	return connect.Verdict{}, failed
}

// Accept implements connect.Accepter: a role has one password.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	if point.Turns() {
		return acceptTurn(ctx, target, point, values, want)
	}
	return connect.ReplacePassword(target, values, want, func(value secret.Value) error {
		former := values.Old
		if want == connect.AcceptOld {
			former = values.New
		}
		return setPassword(ctx, target, point.Account, value, former)
	})
}

// Probe implements connect.Accepter.
func (c Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	return connect.ProbePassword(ctx, c, target, point, values)
}

// setPassword gives a role a password, which is sent as its verifier: SCRAM, or where the
// system is set to keep it and the role has one, md5.
func setPassword(ctx context.Context, target connect.Target, account connect.AccountRef, value, former secret.Value) error {
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false // nothing was begun
		return failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	if _, failed := find(limited, target, conn, account); failed != nil {
		return failed
	}
	verifier, err := verifier(value, rand.Read)
	if err != nil {
		return target.Fail(connect.StageChange, connect.CodePolicy, err.Error(), "", nil)
	}
	if target.Options[OptionVerifier] == "keep" {
		switch old, known := hasMD5(limited, target, conn, account, former); {
		case !known:
			return target.Fail(connect.StageChange, connect.CodeFailed, "whether the role has an md5 verifier, which shall be kept, could not be found out: nothing was changed", "set the option verifier=scram, or let pg_hba.conf accept the role from this machine with md5", nil)
		case old:
			verifier = md5Verifier(account.Name, value)
		}
	}
	if _, err := conn.Exec(limited, "ALTER ROLE "+pgx.Identifier{account.Name}.Sanitize()+" PASSWORD '"+verifier+"'"); err != nil {
		return failure(target, connect.StageChange, err, true)
	}
	return nil
}

const iterations = 4096

// verifier computes what the server keeps of a password: RFC 5803, in the form
// of PostgreSQL's catalogue, section "pg_authid".
func verifier(value secret.Value, random func([]byte) (int, error)) (string, error) {
	text := value.RevealString()
	if prepared, err := precis.OpaqueString.String(text); err == nil {
		text = prepared // as clients do; what cannot be prepared is taken as it is
	}
	if text == "" || strings.Contains(text, "\x00") {
		return "", errors.New("an empty password, or one with NUL, cannot be used")
	}
	salt := make([]byte, 16)
	if _, err := random(salt); err != nil {
		return "", fmt.Errorf("no randomness for a salt: %w", err)
	}
	salted, err := pbkdf2.Key(sha256.New, text, salt, iterations, sha256.Size)
	if err != nil {
		return "", err
	}
	sign := func(text string) []byte {
		mac := hmac.New(sha256.New, salted)
		mac.Write([]byte(text))
		return mac.Sum(nil)
	}
	stored := sha256.Sum256(sign("Client Key"))
	encode := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", iterations, encode(salt), encode(stored[:]), encode(sign("Server Key"))), nil
}
