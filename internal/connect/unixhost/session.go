// Package unixhost is the connector for unix hosts with systemd, over SSH
// (RFC 4251 to 4254).
//
// Everything it does on a host is a plain command with its arguments, one at a
// time, without a shell script: that makes the rights it needs expressible as
// exact sudoers lines, and what it did readable in the host's own log. Secrets
// travel on standard input only. Nothing is left on the host.
package unixhost

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"al.essio.dev/pkg/shellescape"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for unix hosts.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindUnixHost, Class: estate.ClassHost, Title: "unix host", Port: 22,
	Proof: connect.ProofHostKey, SignIn: []string{connect.SignInPassword, connect.SignInPrivateKey},
	Options: []connect.Option{
		{Name: OptionPaths, Type: connect.OptionPaths, Help: "further files to read, separated by ;", Reading: true, Shared: OptionMaybe},
		{Name: OptionSetPW, Type: connect.OptionText, Default: "chpasswd", Help: "command that reads user:password lines and sets local passwords"},
		{Name: OptionSearch, Type: connect.OptionPaths, Choices: []string{"off"}, Default: "the usual folders of programs and their settings", Help: "folders to search for copies, separated by ;, or off", Reading: true, Adds: true},
		{Name: OptionExclude, Type: connect.OptionPaths, Help: "folders that are not searched, separated by ;", Reading: true, Adds: true},
	},
	Scopes: []string{connect.ScopeAccounts, connect.ScopeUnits, connect.ScopeCron, connect.ScopeFiles, connect.ScopeSockets, connect.ScopeProcesses},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActEntries, connect.ActHold, connect.ActRestart, connect.ActCommand, connect.ActRehearse, connect.ActDiagnose, connect.ActSessions},
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// Options of a unix host.
const (
	OptionPaths = "paths" // further files to read, separated by ;
	OptionMaybe = "maybe" // the same, which need not be there
	OptionSetPW = "setpw" // command that reads user:password lines; default chpasswd
)

// Limits.
const (
	handshakeTime = 10 * time.Second
	signInTime    = 30 * time.Second
	commandTime   = 60 * time.Second
	maxOutput     = 16 << 20 // bytes of one command's output
	maxSessions   = 6        // at the same time on one connection; sshd's default limit is 10
)

type session struct {
	client *ssh.Client
	target connect.Target
	facts  connect.Facts
	slots  chan struct{}
	root   bool
	stop   func() bool
	dead   chan struct{} // closed when the connection ends
	broken atomic.Bool   // a command did not end
	leave  func()        // what the call that has it does at its end
}

func (s *session) close() { s.leave() }

// Resume implements connect.Session.
func (s *session) Resume(ctx context.Context) bool {
	select {
	case <-s.dead:
		return false
	default:
	}
	s.stop = context.AfterFunc(ctx, func() { _ = s.client.Close() })
	return true
}

// Rest implements connect.Session.
func (s *session) Rest() bool { return s.stop() && !s.broken.Load() }

// End implements connect.Session.
func (s *session) End() {
	s.stop()
	_ = s.client.Close()
}

func (s *session) usedBy(ctx context.Context) *session {
	s.leave = func() { connect.LeaveSession(ctx, s.target, s) }
	return s
}

// handshake connects, checks the host key and signs in with the given methods.
func handshake(ctx context.Context, target connect.Target, user string, methods []ssh.AuthMethod, watch *connect.Stopwatch) (*ssh.Client, func() bool, connect.Facts, *connect.Failure) {
	raw, failure := connect.Dial(ctx, target, description.Port, watch)
	if failure != nil {
		return nil, nil, connect.Facts{}, failure
	}
	return handshakeOn(ctx, raw, target, user, methods, watch)
}

// handshakeOn does the same on a connection that is there, and owns it.
func handshakeOn(ctx context.Context, raw net.Conn, target connect.Target, user string, methods []ssh.AuthMethod, watch *connect.Stopwatch) (*ssh.Client, func() bool, connect.Facts, *connect.Failure) {
	var facts connect.Facts
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	_ = raw.SetDeadline(time.Now().Add(handshakeTime))
	var keyFailure *connect.Failure
	config := &ssh.ClientConfig{
		User: user, Auth: methods, ClientVersion: "SSH-2.0-moss",
		HostKeyAlgorithms: []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			facts.Fingerprint, facts.KeyType = ssh.FingerprintSHA256(key), key.Type()
			keyFailure = trust(target, facts)
			if keyFailure != nil {
				return keyFailure
			}
			watch.OK(connect.StageSecure, facts.KeyType+" "+facts.Fingerprint)
			// Servers wait seconds before they refuse a password, busy ones longer.
			_ = raw.SetDeadline(time.Now().Add(signInTime))
			return nil
		},
	}
	conn, channels, requests, err := ssh.NewClientConn(raw, raw.RemoteAddr().String(), config)
	if err != nil {
		stop()
		_ = raw.Close()
		f := keyFailure
		if f == nil {
			f = handshakeFailure(target, user, err, facts.Fingerprint != "")
		}
		watch.Fail(f)
		return nil, nil, facts, f
	}
	_ = raw.SetDeadline(time.Time{})
	return ssh.NewClient(conn, channels, requests), stop, facts, nil
}

// trust compares the offered host key with the approved ones.
func trust(target connect.Target, facts connect.Facts) *connect.Failure {
	for _, approved := range target.HostKeys {
		if approved == facts.Fingerprint {
			return nil
		}
	}
	if len(target.HostKeys) == 0 {
		return target.Fail(connect.StageSecure, connect.CodeNewHostKey,
			fmt.Sprintf("first sight of this host's key: %s %s", facts.KeyType, facts.Fingerprint),
			"compare it with 'ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub' on the host, then run 'moss system check "+target.Name+" --approve "+facts.Fingerprint+"'", nil)
	}
	return target.Fail(connect.StageSecure, connect.CodeUntrusted,
		fmt.Sprintf("the host key changed: it offers %s %s, approved is %s", facts.KeyType, facts.Fingerprint, strings.Join(target.HostKeys, ", ")),
		"find out why before going on; if the host was rebuilt, approve the new key with 'moss system check "+target.Name+" --approve "+facts.Fingerprint+"'", nil)
}

func handshakeFailure(target connect.Target, user string, err error, secured bool) *connect.Failure {
	words := strings.TrimPrefix(err.Error(), "ssh: handshake failed: ")
	waited := handshakeTime
	if secured {
		waited = signInTime
	}
	switch {
	case connect.IsTimeout(err):
		return target.Fail(stageOf(secured), connect.CodeTimeout, fmt.Sprintf("connected, but no answer within %s", waited), "the host hangs, or something else listens on this port", err)
	case secured && strings.Contains(words, "unable to authenticate"):
		return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, words, "check the steward "+user, err)
	case secured:
		return target.Fail(connect.StageSignIn, connect.CodeProtocol, words, "the connection was cut during sign-in", err).Reclassify()
	default:
		return target.Fail(connect.StageSecure, connect.CodeProtocol, words, "does this port speak SSH?", err).Reclassify()
	}
}

func stageOf(secured bool) connect.Stage {
	if secured {
		return connect.StageSignIn
	}
	return connect.StageSecure
}

// open takes the session that an earlier call left, or signs in.
func open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	if s, kept := connect.TakeSession[*session](ctx, target); kept {
		return s.usedBy(ctx), nil
	}
	return signIn(ctx, target, watch)
}

// signIn signs in with the target's steward and finds out what it may do.
func signIn(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	var methods []ssh.AuthMethod
	if !target.Steward.PrivateKey.Empty() {
		signer, err := ssh.ParsePrivateKey(target.Steward.PrivateKey.Reveal())
		if err != nil {
			f := target.Fail(connect.StageSignIn, connect.CodeStewardRefused, "the private key of the steward cannot be read: "+err.Error(), "give an unencrypted key in OpenSSH or PEM form", err)
			watch.Fail(f)
			return nil, f
		}
		methods = append(methods, ssh.PublicKeys(signer))
	}
	if !target.Steward.Password.Empty() {
		methods = append(methods, ssh.Password(target.Steward.Password.RevealString()))
	}
	client, stop, facts, failure := handshake(ctx, target, target.Steward.Account, methods, watch)
	if failure != nil {
		return nil, failure
	}
	watch.OK(connect.StageSignIn, target.Steward.Account)
	s := &session{client: client, target: target, facts: facts, slots: make(chan struct{}, maxSessions), stop: stop, dead: make(chan struct{})}
	go func() { // ends with the connection
		_ = client.Wait()
		close(s.dead)
	}()
	id, failure := s.output(ctx, connect.StagePermitted, "/usr/bin/id", "-u")
	if failure != nil {
		s.End()
		watch.Fail(failure)
		return nil, failure
	}
	s.root = strings.TrimSpace(string(id)) == "0"
	detail := "as root"
	if !s.root {
		detail = "sudo for single commands"
		if reply := s.run(ctx, nil, "/usr/bin/sudo", "-n", "-l"); reply.err != nil || reply.exit != 0 {
			detail = "without sudo: only what everybody may read"
		}
	}
	watch.OK(connect.StagePermitted, detail)
	return s.usedBy(ctx), nil
}

// reply of a command.
type reply struct {
	out  []byte
	errs string
	exit int
	err  error // the command could not be run, or its end is unknown
	sent bool  // it may have begun
}

var errTooMuch = errors.New("more output than is read")

type limited struct {
	lock  sync.Mutex
	buf   bytes.Buffer
	limit int
	over  func()
}

func (l *limited) Write(p []byte) (int, error) {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.buf.Len()+len(p) > l.limit {
		l.over()
		return 0, errTooMuch
	}
	return l.buf.Write(p)
}

// run runs one command. Arguments are quoted for the login shell.
func (s *session) run(ctx context.Context, stdin []byte, argv ...string) reply {
	return s.runLimited(ctx, maxOutput, stdin, argv...)
}

// runLimited runs one command that may say limit bytes.
func (s *session) runLimited(ctx context.Context, limit int, stdin []byte, argv ...string) reply {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	select {
	case s.slots <- struct{}{}:
		defer func() { <-s.slots }()
	case <-ctx.Done():
		return reply{err: ctx.Err()}
	}
	channel, err := s.newChannel(ctx)
	if err != nil {
		s.broken.Store(true)
		return reply{err: err}
	}
	defer channel.Close()
	// Run blocks for ever on a cut link: the deadline closes the connection.
	stop := context.AfterFunc(ctx, func() { _ = s.client.Close() })
	defer stop()
	over := false
	tooMuch := func() { over = true; _ = channel.Close() }
	out := &limited{limit: limit, over: tooMuch}
	errs := &limited{limit: 64 << 10, over: tooMuch}
	channel.Stdout, channel.Stderr = out, errs
	if stdin != nil {
		channel.Stdin = bytes.NewReader(stdin)
	}
	err = channel.Run(shellescape.QuoteCommand(argv))
	r := reply{out: out.buf.Bytes(), errs: strings.TrimSpace(errs.buf.String()), sent: true}
	var exit *ssh.ExitError
	switch {
	case over:
		s.broken.Store(true) // what it still says is on its way
		r.err = fmt.Errorf("%s: %w (%d bytes)", argv[0], errTooMuch, limit)
	case ctx.Err() != nil:
		s.broken.Store(true)
		r.err = fmt.Errorf("no end of %s: %w", argv[0], ctx.Err())
	case errors.As(err, &exit):
		r.exit = exit.ExitStatus()
	case err != nil:
		// Also io.EOF: a connection that was cut is no command that succeeded
		// and said nothing.
		s.broken.Store(true)
		r.err = fmt.Errorf("the connection was cut during %s: %w", argv[0], err)
	}
	return r
}

// newChannel opens a channel for one command. One that is opened at the very
// moment in which the connection ends would wait for its answer for ever: the
// end of the connection, and that of the time, are waited for too.
func (s *session) newChannel(ctx context.Context) (*ssh.Session, error) {
	type opened struct {
		channel *ssh.Session
		err     error
	}
	answer := make(chan opened, 1)
	go func() {
		channel, err := s.client.NewSession()
		answer <- opened{channel, err}
	}()
	select {
	case o := <-answer:
		return o.channel, o.err
	case <-s.dead:
		return nil, errors.New("the connection was cut before the command began")
	case <-ctx.Done():
		_ = s.client.Close()
		return nil, ctx.Err()
	}
}

// sudo runs a command with rights, directly when signed in as root.
func (s *session) sudo(ctx context.Context, stdin []byte, argv ...string) reply {
	if s.root {
		return s.run(ctx, stdin, argv...)
	}
	return s.run(ctx, stdin, append([]string{"/usr/bin/sudo", "-n", "--"}, argv...)...)
}

// failure turns a reply into a Failure, or nil when the command succeeded.
func (s *session) failure(stage connect.Stage, r reply, argv0 string, hide ...secret.Value) *connect.Failure {
	if r.err == nil && r.exit == 0 {
		return nil
	}
	if r.err != nil {
		f := s.target.Fail(stage, connect.CodeUnreachable, secret.Scrub(r.err.Error(), hide...), "the connection was lost or the command did not end", r.err)
		f.Unclear = r.sent
		if errors.Is(r.err, context.DeadlineExceeded) {
			f.Code = connect.CodeTimeout
		}
		if errors.Is(r.err, errTooMuch) {
			f.Code, f.Next = connect.CodeProtocol, "the host floods its output"
		}
		return f
	}
	words := secret.Scrub(estate.FirstLine(r.errs), hide...)
	if words == "" {
		words = fmt.Sprintf("%s ended with %d", argv0, r.exit)
	}
	f := s.target.Fail(stage, connect.CodeFailed, words, "", nil)
	if deniedBySudo(r) {
		f.Code, f.Next = connect.CodeNotPermitted, "allow "+s.target.Steward.Account+" to run it with sudo: "+argv0
	} else if strings.Contains(words, "Permission denied") {
		f.Code, f.Next = connect.CodeNotPermitted, "give "+s.target.Steward.Account+" the right to do this"
	} else if strings.Contains(words, "No such file") {
		f.Code = connect.CodeGone
	}
	return f
}

func deniedBySudo(r reply) bool {
	return r.exit == 1 && (strings.Contains(r.errs, "sudo: a password is required") || strings.Contains(r.errs, "not allowed to execute") ||
		strings.Contains(r.errs, "not in the sudoers") || strings.Contains(r.errs, "may not run sudo"))
}

// output runs a command that must succeed.
func (s *session) output(ctx context.Context, stage connect.Stage, argv ...string) ([]byte, *connect.Failure) {
	r := s.run(ctx, nil, argv...)
	return r.out, s.failure(stage, r, argv[0])
}

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, failure := signIn(ctx, target, watch) // anew: its stages are the question
	if failure != nil {
		report := connect.CheckReport{Stages: watch.Stages()}
		if failure.Code == connect.CodeNewHostKey || failure.Code == connect.CodeUntrusted {
			report.Facts = offered(failure)
		}
		return report
	}
	defer s.close()
	if failure := s.readFacts(ctx); failure != nil {
		watch.Fail(failure)
	} else {
		watch.OK(connect.StageRead, s.facts.Flavor+", machine "+s.facts.Identity)
	}
	return connect.CheckReport{Stages: watch.Stages(), Facts: s.facts}
}

// offered finds the fingerprint in a host key failure's words.
func offered(f *connect.Failure) connect.Facts {
	for word := range strings.FieldsSeq(f.Words) {
		if strings.HasPrefix(word, "SHA256:") {
			return connect.Facts{Fingerprint: strings.TrimRight(word, ",")}
		}
	}
	return connect.Facts{}
}

func (s *session) readFacts(ctx context.Context) *connect.Failure {
	id, failure := s.output(ctx, connect.StageRead, "/usr/bin/cat", "/etc/machine-id")
	if failure != nil {
		return failure
	}
	s.facts.Identity = strings.TrimSpace(string(id))
	if len(s.facts.Identity) != 32 {
		return s.target.Fail(connect.StageRead, connect.CodeProtocol, fmt.Sprintf("/etc/machine-id has %d characters instead of 32", len(s.facts.Identity)), "run systemd-machine-id-setup on the host", nil)
	}
	release, failure := s.output(ctx, connect.StageRead, "/usr/bin/cat", "/etc/os-release")
	if failure != nil {
		return failure
	}
	for line := range strings.Lines(string(release)) {
		if name, found := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); found {
			s.facts.Flavor = strings.Trim(name, `"`)
		}
	}
	return nil
}
