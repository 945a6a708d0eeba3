// Package redis is the connector for Redis and its access lists, over RESP.
//
// Passwords travel as SHA-256 digests in ACL SETUSER, as the server keeps them:
// the clear value is not in the command. Its steward needs the commands acl,
// client|list, config|rewrite and ping, and no access to any key.
package redis

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/redis/go-redis/v9"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for Redis.
type Connector struct{ connect.Cannot }

func init() {
	connect.Register(Connector{})
	redis.SetLogger(silent{})
}

// silent: errors are returned, and told once.
type silent struct{}

func (silent) Printf(context.Context, string, ...any) {}

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindRedis, Class: estate.ClassDataStore, Title: "Redis server", Port: 6379,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
	Options: []connect.Option{
		{Name: "tls", Type: connect.OptionChoice, Choices: []string{"on", "off"}, Default: "on", Help: "off: without TLS; passwords travel in clear then"},
		connect.RightsOption,
	},
	Scopes: []string{connect.ScopeAccounts, connect.ScopeSessions},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActOverlap, connect.ActRehearse, connect.ActRights, connect.ActEnd, connect.ActAmend, connect.ActTry},
	Verbs:  []string{privilege.VerbRun, "read and write", "read", "write", "use channels"},
	Ends:   possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

const callTime = 20 * time.Second

// dial makes the connection, with TLS unless that is off.
func dial(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (net.Conn, *connect.Failure) {
	raw, failure := connect.Dial(ctx, target, description.Port, watch)
	if failure != nil {
		return nil, failure
	}
	if target.Options[connect.OptionTLS] == "off" {
		return raw, nil
	}
	config, failure := connect.TLS(target)
	if failure == nil {
		conn, err := connect.Handshake(ctx, raw, config)
		if err == nil {
			watch.OK(connect.StageSecure, "TLS with a verified certificate")
			return conn, nil
		}
		failure = target.Fail(connect.StageSecure, connect.CodeUntrusted, err.Error(), "does this port speak TLS, with a certificate that is trusted? Without TLS: --option tls=off", err).Reclassify()
	}
	_ = raw.Close()
	watch.Fail(failure)
	return nil, failure
}

var errOneConnection = errors.New("the connection ended")

func open(ctx context.Context, target connect.Target, user string, password secret.Value, watch *connect.Stopwatch) (*redis.Conn, func(), *connect.Failure) {
	// The client dials in the background, and again after it was given up: it
	// gets this one connection, and no other.
	made, failure := dial(ctx, target, watch)
	if failure != nil {
		return nil, nil, failure
	}
	var taken atomic.Bool
	options := &redis.Options{
		Protocol: 2, MaxRetries: -1, DisableIdentity: true, DialTimeout: callTime, ReadTimeout: callTime, WriteTimeout: callTime, PoolSize: 1, ContextTimeoutEnabled: true,
		Dialer: func(context.Context, string, string) (net.Conn, error) {
			if taken.Swap(true) {
				return nil, errOneConnection
			}
			return made, nil
		},
	}
	client := redis.NewClient(options)
	client.AddHook(tracing{connect.TraceOf(ctx)})
	conn := client.Conn()
	done := func() { _ = conn.Close(); _ = client.Close(); _ = made.Close() }
	// Signed in by hand, so that a refusal is told from everything else.
	err := conn.AuthACL(ctx, user, password.RevealString()).Err()
	if err == nil {
		watch.OK(connect.StageSignIn, user)
		return conn, done, nil
	}
	done()
	f := target.Fail(connect.StageSignIn, connect.CodeStewardRefused, secret.Scrub(err.Error(), password), "check the steward "+user, err)
	if !refused(err) {
		f.Code, f.Next = connect.CodeProtocol, "does this port speak Redis's protocol?"
		f.Reclassify()
	} else if strings.HasPrefix(err.Error(), "LOADING") || strings.HasPrefix(err.Error(), "MASTERDOWN") || strings.HasPrefix(err.Error(), "ERR max number of clients") {
		f.Code, f.Next = connect.CodeUnreachable, "the server does not take connections now"
	}
	watch.Fail(f)
	return nil, nil, f
}

// refused reports whether the server itself answered with an error.
func refused(err error) bool {
	var said redis.Error
	return errors.As(err, &said) && !errors.Is(err, redis.Nil)
}

// digests are SHA-256 of passwords, as access lists have them: enough to guess by.
var digests = regexp.MustCompile(`#[0-9a-fA-F]{64}`)

func failure(target connect.Target, stage connect.Stage, err error, sent bool) *connect.Failure {
	if refused(err) {
		f := target.Fail(stage, connect.CodeFailed, digests.ReplaceAllString(err.Error(), "#..."), "", nil)
		if strings.HasPrefix(err.Error(), "NOPERM") {
			f.Code, f.Next = connect.CodeNotPermitted, "ACL SETUSER "+target.Steward.Account+" +acl|list +client|list +ping" // to read
			if stage != connect.StageRead && stage != connect.StagePermitted {
				f.Next = "ACL SETUSER " + target.Steward.Account + " +acl +client|list +config|rewrite +ping"
			}
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
	if err := conn.Do(ctx, "ACL", "LIST").Err(); err != nil {
		watch.Fail(failure(target, connect.StagePermitted, err, false))
		return connect.CheckReport{Stages: watch.Stages()}
	}
	watch.OK(connect.StagePermitted, "may read and change access lists")
	facts := facts(ctx, conn)
	watch.OK(connect.StageRead, facts.Version)
	return connect.CheckReport{Stages: watch.Stages(), Facts: facts}
}

func facts(ctx context.Context, conn *redis.Conn) connect.Facts {
	facts := connect.Facts{Flavor: "Redis", Version: "version not shown: INFO is not permitted"}
	if info, err := conn.Info(ctx, "server").Result(); err == nil {
		for line := range strings.Lines(info) {
			if version, found := strings.CutPrefix(strings.TrimSpace(line), "redis_version:"); found {
				facts.Version = "Redis " + version
			}
		}
	}
	return facts
}

func stableID(user string) string { return "user:" + user }

// Visit implements connect.Visitor: the users of the access lists, and who is
// signed in now.
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
	coverage.Facts = facts(ctx, conn)
	list, err := conn.Do(ctx, "ACL", "LIST").StringSlice()
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	batch := connect.Batch{Sessions: []estate.Session{}}
	for _, line := range list {
		if a, ok := account(line); ok {
			batch.Accounts = append(batch.Accounts, a)
		}
	}
	clients, err := conn.Do(ctx, "CLIENT", "LIST").Text()
	if err != nil {
		return fail(failure(target, connect.StageRead, err, false))
	}
	own, _ := conn.ClientID(ctx).Result()
	for line := range strings.Lines(clients) {
		if s, id := session(line); s.Account != "" && (id != own || own == 0) {
			batch.Sessions = append(batch.Sessions, s)
		}
	}
	if err := emit(batch); err != nil {
		return fail(target.Fail(connect.StageRead, connect.CodeFailed, "what was read could not be taken in: "+err.Error(), "", err))
	}
	coverage.Counts[connect.ScopeAccounts], coverage.Counts[connect.ScopeSessions] = len(batch.Accounts), len(batch.Sessions)
	coverage.Complete[connect.ScopeAccounts], coverage.Complete[connect.ScopeSessions] = true, true
	watch.OK(connect.StageRead, fmt.Sprintf("%d users, %d sessions", len(batch.Accounts), len(batch.Sessions)))
	coverage.Stages = watch.Stages()
	return coverage, nil
}

// account reads a line of ACL LIST: user NAME on #digest ~keys +commands.
func account(line string) (estate.Account, bool) {
	words := strings.Fields(line)
	if len(words) < 2 || words[0] != "user" {
		return estate.Account{}, false
	}
	a := estate.Account{StableID: stableID(words[1]), Name: words[1], Type: "database user", Enabled: estate.No, Locked: estate.No, NeverExpire: true}
	digests, open := 0, false
	for _, word := range words[2:] {
		switch {
		case word == "on":
			a.Enabled = estate.Yes
		case word == "nopass":
			open = true
		case strings.HasPrefix(word, "#"):
			digests++
		case word[0] == '+' || word[0] == '~' || word[0] == '&':
			a.Groups = append(a.Groups, word)
		}
	}
	switch {
	case open:
		a.Description = "signs in without a password"
	case digests > 1:
		a.Description = fmt.Sprintf("%d passwords are valid at once", digests)
	}
	return a, true
}

// session reads a line of CLIENT LIST.
func session(line string) (estate.Session, int64) {
	var s estate.Session
	var id int64
	for field := range strings.FieldsSeq(line) {
		key, value, _ := strings.Cut(field, "=")
		switch key {
		case "id":
			id, _ = strconv.ParseInt(value, 10, 64)
		case "addr":
			if host, port, err := net.SplitHostPort(value); err == nil {
				s.Client = host
				s.Port, _ = strconv.Atoi(port)
			}
		case "name":
			s.Application = value
		case "user":
			s.Account, s.StableID = value, stableID(value)
		case "db":
			s.Database = value
		case "age":
			if seconds, err := strconv.Atoi(value); err == nil {
				s.Since = time.Now().Add(-time.Duration(seconds) * time.Second).UTC().Truncate(time.Second)
			}
		}
	}
	return s, id
}

func digest(value secret.Value) string {
	sum := sha256.Sum256(value.Reveal())
	return "#" + hex.EncodeToString(sum[:])
}

// set makes the authority accept these values and no other, and has it kept
// through a restart of the server.
func set(ctx context.Context, target connect.Target, ref connect.AccountRef, values ...secret.Value) error {
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false
		return failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	if failed := present(limited, target, conn, ref); failed != nil {
		return failed
	}
	rule := []any{"ACL", "SETUSER", ref.Name, "resetpass"}
	before := append([]any(nil), rule...)
	for _, v := range values {
		if v.Empty() {
			return target.Fail(connect.StageChange, connect.CodePolicy, "an empty password is never set", "", nil)
		}
		rule = append(rule, digest(v))
	}
	now, err := passwords(limited, conn, ref.Name)
	if err != nil {
		return failure(target, connect.StageChange, err, false)
	}
	// What it could not keep it is not asked for.
	if err := save(limited, conn); err != nil {
		return notKept(target, err, false)
	}
	if err := conn.Do(limited, rule...).Err(); err != nil {
		return failure(target, connect.StageChange, err, true)
	}
	if err := save(limited, conn); err != nil {
		if refused(err) && conn.Do(limited, append(before, now...)...).Err() == nil {
			return notKept(target, err, false)
		}
		return notKept(target, err, true)
	}
	return nil
}

// present makes sure that the user is there: SETUSER would make a new one.
func present(ctx context.Context, target connect.Target, conn *redis.Conn, ref connect.AccountRef) *connect.Failure {
	err := conn.Do(ctx, "ACL", "GETUSER", ref.Name).Err()
	switch {
	case errors.Is(err, redis.Nil) || err == nil && stableID(ref.Name) != ref.StableID:
		return target.Fail(connect.StageChange, connect.CodeGone, "no user is called "+strings.TrimPrefix(ref.StableID, "user:"), "survey this system", nil)
	case err != nil:
		return failure(target, connect.StageChange, err, false)
	}
	return nil
}

// Accept implements connect.Accepter.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	if want == connect.AcceptBoth {
		return set(ctx, target, point.Account, values.Old, values.New)
	}
	return connect.ReplacePassword(target, values, want, func(value secret.Value) error { return set(ctx, target, point.Account, value) })
}

// Probe implements connect.Accepter. What is in force may have been set by an act that
// was cut off before it was kept: it is kept now, which changes nothing of what is
// accepted, or nothing is found out.
func (c Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	is, err := connect.ProbePassword(ctx, c, target, point, values)
	if err != nil || is.New != connect.AnswerYes {
		return is, err
	}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return connect.Probed{}, failed
	}
	defer done()
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	if err := save(limited, conn); err != nil {
		return connect.Probed{}, notKept(target, err, true)
	}
	return is, nil
}

// Overlaps implements connect.Accepter: every user may have several.
func (Connector) Overlaps(context.Context, connect.Target, connect.Point) (bool, string, error) {
	return true, "the server accepts several passwords at once", nil
}

// Verify implements connect.Verifier.
func (Connector) Verify(ctx context.Context, target connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "an empty password is never sent"}, nil
	}
	_, done, failed := open(ctx, target, account.Name, value, connect.NewStopwatch())
	if failed == nil {
		done()
		return connect.Verdict{Accepted: true, Words: "signed in as " + account.Name}, nil
	}
	if failed.Code == connect.CodeStewardRefused && strings.HasPrefix(failed.Words, "WRONGPASS") {
		return connect.Verdict{Code: connect.VerdictWrong, Words: failed.Words}, nil
	}
	return connect.Verdict{}, failed
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
		line := may(ctx, conn, target, "right to set the password of "+in.Change.Name, "ACL", "SETUSER", in.Change.Name)
		if failed := present(ctx, target, conn, *in.Change); failed != nil {
			line.Result, line.Words, line.Next = connect.CheckFailed, failed.Words, failed.Next
		}
		out = append(out, line, keeps(ctx, conn, target), alone(ctx, conn, target), unwatched(ctx, conn, target, in.Change.Name))
	}
	return out
}
