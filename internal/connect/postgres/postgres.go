// Package postgres is the connector for PostgreSQL, over its own protocol.
//
// It needs a log-in role with CREATEROLE and the membership pg_read_all_stats,
// and never a superuser. Passwords are set as SCRAM-SHA-256 verifiers (RFC 5803)
// that are computed here: the clear value is not in the statement, and so not
// in the server's log either.
package postgres

import (
	"context"
	"errors"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for PostgreSQL.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindPostgreSQL, Class: estate.ClassDataStore, Title: "PostgreSQL server", Port: 5432,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
	Options: []connect.Option{
		{Name: "tls", Type: connect.OptionChoice, Choices: []string{"on", "off"}, Default: "on", Help: "off: without TLS; the password does not travel in clear, the rest does"},
		{Name: OptionVerifier, Type: connect.OptionChoice, Choices: []string{"scram", "keep"}, Default: "scram", Help: "keep: a role whose verifier is md5 keeps one, for clients that know no SCRAM"},
		{Name: "database", Type: connect.OptionText, Default: "postgres", Help: "database to connect to", Reading: true},
		connect.RightsOption,
	},
	Scopes: []string{connect.ScopeAccounts, connect.ScopeSessions},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActTurns, connect.ActRehearse, connect.ActRights, connect.ActEnd, connect.ActAmend, connect.ActTry},
	Verbs:  strings.Split("select,insert,update,delete,truncate,references,trigger,maintain,usage,create,connect,temporary,execute,set,alter system,own,manage roles,create databases,replicate,pass row security,everything", ","),
	Ends:   possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// OptionVerifier says what the server is to keep of a new password.
const OptionVerifier = "verifier"

// OptionDatabase is the database to sign in to; postgres when it is not given.
const OptionDatabase = "database"

const callTime = 20 * time.Second

// open signs in as a role. Each stage is told to watch.
func open(ctx context.Context, target connect.Target, role string, password secret.Value, watch *connect.Stopwatch) (*pgx.Conn, *connect.Failure) {
	return openBy(ctx, target, role, password, "scram-sha-256,md5", watch) // never the clear value
}

// openBy signs in by some of the ways in which a server may ask for a password.
func openBy(ctx context.Context, target connect.Target, role string, password secret.Value, ways string, watch *connect.Stopwatch) (*pgx.Conn, *connect.Failure) {
	config, err := pgx.ParseConfig("host=localhost sslmode=disable")
	if err != nil {
		return nil, target.Fail(connect.StageConnect, connect.CodeFailed, err.Error(), "", err)
	}
	if target.Options[connect.OptionTLS] != "off" {
		tls, failure := connect.TLS(target)
		if failure != nil {
			watch.Fail(failure)
			return nil, failure
		}
		config.TLSConfig = tls
	}
	config.Fallbacks = nil
	config.Host, config.Port = target.Address, uint16(max(target.Port, 0))
	config.User, config.Password = role, password.RevealString()
	config.Database = target.Options[OptionDatabase]
	if config.Database == "" {
		config.Database = "postgres"
	}
	config.RuntimeParams = map[string]string{"application_name": "moss"}
	config.RequireAuth = ways
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	config.Tracer = tracing{connect.TraceOf(ctx)}
	config.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil } // Dial resolves
	var dialed *connect.Failure
	config.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) {
		conn, failure := connect.Dial(ctx, target, description.Port, watch)
		if failure != nil {
			dialed = failure
			return nil, failure
		}
		return conn, nil
	}
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	conn, err := pgx.ConnectConfig(limited, config)
	if err == nil {
		if config.TLSConfig != nil {
			watch.OK(connect.StageSecure, "TLS with a verified certificate")
		}
		watch.OK(connect.StageSignIn, role)
		return conn, nil
	}
	if dialed != nil {
		return nil, dialed
	}
	f := signInFailure(target, role, secret.Scrub(err.Error(), password), err)
	watch.Fail(f)
	return nil, f
}

func signInFailure(target connect.Target, role, words string, err error) *connect.Failure {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		words = refused.Message
		switch refused.Code {
		case "28P01":
			return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, words, "wrong password, expired password and missing role look the same from here: check the steward "+role, err)
		case "28000":
			return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, words, "let pg_hba.conf accept "+role+" from this machine with scram-sha-256, and the role log in", err)
		case "3D000":
			return target.Fail(connect.StageSignIn, connect.CodeFailed, words, "name a database with --option database=NAME", err)
		case "57P01", "57P02", "57P03", "53300": // stopping, starting, no connection free
			return target.Fail(connect.StageSignIn, connect.CodeUnreachable, words, "the server does not take connections now", err)
		}
		return target.Fail(connect.StageSignIn, connect.CodeFailed, words, "", err)
	}
	if connect.IsTimeout(err) {
		return target.Fail(connect.StageSignIn, connect.CodeTimeout, words, "the server does not answer", err)
	}
	return target.Fail(connect.StageSecure, connect.CodeUntrusted, words, "does this port speak PostgreSQL, with TLS and a certificate that is trusted? Without TLS: --option tls=off", err).Reclassify()
}

// failure is for what a server says after sign-in.
func failure(target connect.Target, stage connect.Stage, err error, sent bool) *connect.Failure {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		f := target.Fail(stage, connect.CodeFailed, refused.Message, "", err)
		if refused.Code == "42501" {
			f.Code, f.Next = connect.CodeNotPermitted, "give "+target.Steward.Account+" CREATEROLE (and on version 16 or later the ADMIN option on the role); superusers can only be changed by superusers"
		}
		if refused.Code == "22023" || refused.Code == "28P01" {
			f.Code = connect.CodePolicy
		}
		return f
	}
	return target.Lost(stage, err, sent)
}

func closing(conn *pgx.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = conn.Close(ctx)
}

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	conn, failure := open(ctx, target, target.Steward.Account, target.Steward.Password, watch)
	if failure != nil {
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer closing(conn)
	facts, failure := facts(ctx, target, conn)
	permitted := "may change roles and see sessions"
	if failure == nil {
		var rights rights
		rights, failure = readRights(ctx, target, conn)
		if !rights.createRole && !rights.super { // no fault while it is only read
			permitted = "may read roles; to change passwords it needs: ALTER ROLE " + target.Steward.Account + " CREATEROLE"
		}
		if failure == nil && !rights.stats {
			failure = target.Fail(connect.StagePermitted, connect.CodeNotPermitted, "the sessions of others show no address", "GRANT pg_read_all_stats TO "+target.Steward.Account, nil)
		}
	}
	if failure != nil {
		watch.Fail(failure)
		return connect.CheckReport{Stages: watch.Stages(), Facts: facts}
	}
	watch.OK(connect.StagePermitted, permitted)
	watch.OK(connect.StageRead, facts.Version)
	return connect.CheckReport{Stages: watch.Stages(), Facts: facts}
}

func facts(ctx context.Context, target connect.Target, conn *pgx.Conn) (connect.Facts, *connect.Failure) {
	var facts connect.Facts
	err := conn.QueryRow(ctx, "SELECT current_setting('server_version'), pg_postmaster_start_time()").Scan(&facts.Version, &facts.Booted)
	if err != nil {
		return facts, failure(target, connect.StageRead, err, false)
	}
	facts.Version = "PostgreSQL " + facts.Version
	facts.Flavor = "PostgreSQL"
	return facts, nil
}

type rights struct{ super, createRole, stats bool }

func readRights(ctx context.Context, target connect.Target, conn *pgx.Conn) (rights, *connect.Failure) {
	var r rights
	err := conn.QueryRow(ctx, "SELECT rolsuper, rolcreaterole, pg_has_role(oid, 'pg_read_all_stats', 'USAGE') FROM pg_roles WHERE rolname = current_user").Scan(&r.super, &r.createRole, &r.stats)
	if err != nil {
		return r, failure(target, connect.StagePermitted, err, false)
	}
	return r, nil
}

// Rehearse implements connect.Rehearser.
func (Connector) Rehearse(ctx context.Context, target connect.Target, intentions []connect.Intention) []connect.Checked {
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return []connect.Checked{{System: target.Name, What: "reach the data store", Result: connect.CheckFailed, Words: failed.Words, Next: failed.Next}}
	}
	defer closing(conn)
	out := []connect.Checked{{System: target.Name, What: "reach the data store and sign in", Result: connect.CheckOK}}
	mine, failed := readRights(ctx, target, conn)
	for _, in := range intentions {
		if in.Change == nil {
			continue
		}
		line := connect.Checked{System: target.Name, What: "right to set the password of " + in.Change.Name, Result: connect.CheckOK}
		role, roleFailed := find(ctx, target, conn, *in.Change)
		if failed == nil {
			failed = roleFailed
		}
		switch {
		case failed != nil:
			line.Result, line.Words, line.Next = connect.CheckFailed, failed.Words, failed.Next
		case role.super && !mine.super, !mine.super && !mine.createRole:
			line.Result, line.Words, line.Next = connect.CheckFailed, target.Steward.Account+" may not change it", "give it CREATEROLE; superusers can only be changed by superusers"
		case !role.expires.IsZero() && role.expires.Before(time.Now()):
			line.Result, line.Words, line.Next = connect.CheckWarning, "its password ended on "+role.expires.UTC().Format(time.DateOnly)+", and a new one does not change that", "ALTER ROLE "+in.Change.Name+" VALID UNTIL 'infinity'"
		}
		out = append(out, line)
		if failed == nil && in.Turn != nil {
			out = append(out, rehearseTurn(ctx, target, conn, connect.Point{Account: *in.Turn, Next: *in.Change})...)
			continue
		}
		if failed == nil {
			out = append(out, rehearseVerifier(ctx, target, conn, *in.Change, in.Current)...)
		}
	}
	return out
}
