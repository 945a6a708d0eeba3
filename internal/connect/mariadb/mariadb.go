// Package mariadb is the connector for MariaDB (and servers that speak its
// protocol and keep mysql.global_priv), over its own protocol.
//
// The narrow way to change passwords is a procedure with the rights of its
// definer, because CREATE USER could change anybody, root included. It is named
// by the option procedure and takes the account's user and host, the hash of the
// new password, and the hash of a second one or an empty text. Passwords travel
// as hashes: the clear value is not in the statement.
package mariadb

import (
	"context"
	"crypto/sha1" //nolint:gosec // mysql_native_password is made of it
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for MariaDB.
type Connector struct{ connect.Cannot }

func init() {
	connect.Register(Connector{})
	_ = mysql.SetLogger(silent{})
}

// silent: errors are returned, and told once.
type silent struct{}

func (silent) Print(...any) {}

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindMariaDB, Class: estate.ClassDataStore, Title: "MariaDB server", Port: 3306,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
	Options: []connect.Option{
		{Name: "tls", Type: connect.OptionChoice, Choices: []string{"on", "off"}, Default: "on", Help: "off: without TLS; the password does not travel in clear, the rest does"},
		{Name: "procedure", Type: connect.OptionText, Help: "stored procedure that sets passwords, for a steward that may do nothing else"},
		connect.RightsOption,
	},
	Scopes: []string{connect.ScopeAccounts, connect.ScopeSessions},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActOverlap, connect.ActRules, connect.ActRehearse, connect.ActRights, connect.ActEnd, connect.ActAmend, connect.ActTry},
	Verbs:  append(verbsOf(globalBits), privilege.VerbEverything),
	Ends:   possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// OptionProcedure names the procedure that changes passwords, such as
// ops.rotate.
const OptionProcedure = "procedure"

const callTime = 20 * time.Second

func open(ctx context.Context, target connect.Target, user string, password secret.Value, watch *connect.Stopwatch) (*sql.Conn, func(), *connect.Failure) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr = user, password.RevealString(), "tcp", "server"
	config.ParseTime, config.Loc = true, time.UTC
	config.AllowFallbackToPlaintext = false
	config.InterpolateParams = true // one round trip, and no prepared statement is left behind
	if target.Options[connect.OptionTLS] != "off" {
		tls, failure := connect.TLS(target)
		if failure != nil {
			watch.Fail(failure)
			return nil, nil, failure
		}
		config.TLS = tls
	}
	var dialed *connect.Failure
	config.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) {
		conn, failure := connect.Dial(ctx, target, description.Port, watch)
		if failure != nil {
			dialed = failure
			return nil, failure
		}
		return conn, nil
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		f := target.Fail(connect.StageConnect, connect.CodeFailed, secret.Scrub(err.Error(), password), "", nil)
		watch.Fail(f)
		return nil, nil, f
	}
	db := sql.OpenDB(traced{connector, connect.TraceOf(ctx)})
	db.SetMaxOpenConns(1)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	conn, err := db.Conn(limited)
	if err == nil {
		watch.OK(connect.StageSignIn, user)
		return conn, func() { _ = conn.Close(); _ = db.Close() }, nil
	}
	_ = db.Close()
	if dialed != nil {
		return nil, nil, dialed
	}
	f := signInFailure(target, user, secret.Scrub(err.Error(), password), err)
	watch.Fail(f)
	return nil, nil, f
}

func signInFailure(target connect.Target, user, words string, err error) *connect.Failure {
	var refused *mysql.MySQLError
	switch {
	case errors.As(err, &refused) && (refused.Number == 1040 || refused.Number == 1053 || refused.Number == 1203): // no connection free, stopping
		return target.Fail(connect.StageSignIn, connect.CodeUnreachable, refused.Message, "the server does not take connections now", err)
	case errors.As(err, &refused):
		return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, refused.Message, "check the steward "+user, err)
	case connect.IsTimeout(err):
		return target.Fail(connect.StageSignIn, connect.CodeTimeout, words, "the server does not answer", err)
	}
	return target.Fail(connect.StageSecure, connect.CodeUntrusted, words, "does this port speak MariaDB's protocol, with TLS and a certificate that is trusted? Without TLS: --option tls=off", err).Reclassify()
}

// readNext is what reading takes.
const readNext = "GRANT SELECT ON mysql.global_priv TO this account, and PROCESS on *.* to see sessions"

func failure(target connect.Target, stage connect.Stage, err error, sent bool) *connect.Failure {
	var refused *mysql.MySQLError
	if errors.As(err, &refused) {
		f := target.Fail(stage, connect.CodeFailed, refused.Message, "", err)
		switch refused.Number {
		case 1044, 1045, 1142, 1227, 1370:
			f.Code, f.Next = connect.CodeNotPermitted, readNext
			if stage == connect.StageRead || stage == connect.StagePermitted {
				break // nothing that changes anything is needed to read
			}
			f.Next = "give " + target.Steward.Account + " EXECUTE on a procedure that changes passwords and name it with --option procedure=SCHEMA.NAME"
		case 1644: // a procedure's own refusal
			f.Code, f.Next = connect.CodeNotPermitted, "the procedure does not manage this account"
		case 1819:
			f.Code = connect.CodePolicy
		}
		return f
	}
	return target.Lost(stage, err, sent)
}

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, watch)
	if failed != nil {
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer done()
	facts, failed := facts(ctx, target, conn)
	if failed == nil {
		var n int
		if err := conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM mysql.global_priv").Scan(&n); err != nil {
			failed = failure(target, connect.StagePermitted, err, false)
		}
	}
	if failed != nil {
		watch.Fail(failed)
		return connect.CheckReport{Stages: watch.Stages(), Facts: facts}
	}
	watch.OK(connect.StagePermitted, "may read the accounts")
	watch.OK(connect.StageRead, facts.Version)
	return connect.CheckReport{Stages: watch.Stages(), Facts: facts}
}

func facts(ctx context.Context, target connect.Target, conn *sql.Conn) (connect.Facts, *connect.Failure) {
	facts := connect.Facts{Flavor: "MariaDB"}
	if err := conn.QueryRowContext(ctx, "SELECT version()").Scan(&facts.Version); err != nil {
		return facts, failure(target, connect.StageRead, err, false)
	}
	return facts, nil
}

// native is the hash that the plugin mysql_native_password keeps.
func native(value secret.Value) string {
	first := sha1.Sum(value.Reveal()) //nolint:gosec // the protocol's
	second := sha1.Sum(first[:])      //nolint:gosec // the protocol's
	return "*" + strings.ToUpper(hex.EncodeToString(second[:]))
}

var procedureName = regexp.MustCompile(`^[A-Za-z_][\w$]*(\.[A-Za-z_][\w$]*)?$`)

func quote(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(text) + "'"
}

// set makes the authority accept one or two values.
func set(ctx context.Context, target connect.Target, ref connect.AccountRef, first secret.Value, second *secret.Value) error {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	a, failed := find(limited, target, conn, ref)
	if failed != nil {
		return failed
	}
	if a.plugin != nativePlugin {
		return target.Fail(connect.StageChange, connect.CodeFailed, fmt.Sprintf("%s signs in by %s", ref.Name, a.plugin), "only passwords of the plugin "+nativePlugin+" are changed from here", nil)
	}
	if first.Empty() {
		return target.Fail(connect.StageChange, connect.CodePolicy, "an empty password is never set", "", nil)
	}
	hashes := []string{native(first), ""}
	if second != nil {
		hashes[1] = native(*second)
	}
	statement := "ALTER USER " + quote(a.user) + "@" + quote(a.host) + " IDENTIFIED VIA " + nativePlugin + " USING " + quote(hashes[0]) //nolint:gosec // the server takes no bound values here: each is quoted
	if second != nil {
		statement += " OR " + nativePlugin + " USING " + quote(hashes[1])
	}
	if name := target.Options[OptionProcedure]; name != "" {
		if !procedureName.MatchString(name) {
			return target.Fail(connect.StageChange, connect.CodeFailed, fmt.Sprintf("%q is no name of a procedure", name), "write it as SCHEMA.NAME", nil)
		}
		statement = "CALL " + name + "(" + quote(a.user) + "," + quote(a.host) + "," + quote(hashes[0]) + "," + quote(hashes[1]) + ")"
	}
	if _, err := conn.ExecContext(limited, statement); err != nil {
		return failure(target, connect.StageChange, err, true)
	}
	return nil
}

// Accept implements connect.Accepter.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	if want == connect.AcceptBoth {
		return set(ctx, target, point.Account, values.Old, &values.New)
	}
	return connect.ReplacePassword(target, values, want, func(value secret.Value) error { return set(ctx, target, point.Account, value, nil) })
}

// Probe implements connect.Accepter.
func (c Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	return connect.ProbePassword(ctx, c, target, point, values)
}

// Overlaps implements connect.Accepter: from version 10.4 an account may have
// several ways to sign in.
func (Connector) Overlaps(ctx context.Context, target connect.Target, point connect.Point) (bool, string, error) {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return false, "", failed
	}
	defer done()
	a, failed := find(ctx, target, conn, point.Account)
	if failed != nil {
		return false, "", failed
	}
	if a.plugin != nativePlugin {
		return false, "it signs in by " + a.plugin, nil
	}
	return true, "the server accepts two passwords at once", nil
}

// Verify implements connect.Verifier.
func (Connector) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "an empty password is never sent"}, nil
	}
	conn, done, failed := open(ctx, target, account.Name, value, connect.NewStopwatch())
	var refused *mysql.MySQLError
	if failed == nil {
		defer done()
		limited, cancel := context.WithTimeout(ctx, callTime)
		defer cancel()
		// A server lets in whose password has expired and refuses all that is asked for then,
		// where nobody said that it be cut off (disconnect_on_expired_password).
		if _, err := conn.ExecContext(limited, "DO 0"); errors.As(err, &refused) && refused.Number == 1820 {
			return connect.Verdict{Code: connect.VerdictExpired, Words: refused.Message}, nil
		}
		return connect.Verdict{Accepted: true, Words: "signed in as " + account.Name}, nil
	}
	if !errors.As(failed, &refused) {
		return connect.Verdict{}, failed
	}
	switch refused.Number {
	case 1045, 1698:
		return connect.Verdict{Code: connect.VerdictWrong, Words: refused.Message}, nil
	case 4151:
		return connect.Verdict{Code: connect.VerdictLocked, Words: refused.Message}, nil
	case 1820, 1862:
		return connect.Verdict{Code: connect.VerdictExpired, Words: refused.Message}, nil
	case 1044, 1049, 1226: // not 1040: that no connection is free is said before the password is looked at
		return connect.Verdict{Accepted: true, Words: "the password is accepted; then: " + refused.Message}, nil
	}
	return connect.Verdict{}, failed
}
