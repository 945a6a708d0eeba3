// Package shell signs in to a unix host over SSH and runs commands there, one at a
// time and without a shell script, and reads files by them. What a command said,
// and whether it ended, is told apart from what came of it.
package shell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
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

// DefaultPort of SSH.
const DefaultPort = 22

// Limits.
const (
	HandshakeTime = 10 * time.Second
	SignInTime    = 30 * time.Second
	commandTime   = 60 * time.Second
	MaxOutput     = 16 << 20 // bytes of one command's output
	maxSessions   = 6        // at the same time on one connection; sshd's default limit is 10
)

// Session is one sign-in to one host. Commands may run beside each other on it.
type Session struct {
	Client *ssh.Client
	Target connect.Target
	Facts  connect.Facts
	slots  chan struct{}
	Root   bool
	stop   func() bool
	dead   chan struct{} // closed when the connection ends
	broken atomic.Bool   // a command did not end
	leave  func()        // what the call that has it does at its end
}

// Close gives it back (see connect.LeaveSession), or signs out.
func (s *Session) Close() { s.leave() }

// Resume implements connect.Session.
func (s *Session) Resume(ctx context.Context) bool {
	select {
	case <-s.dead:
		return false
	default:
	}
	s.stop = context.AfterFunc(ctx, func() { _ = s.Client.Close() })
	return true
}

// Rest implements connect.Session.
func (s *Session) Rest() bool { return s.stop() && !s.broken.Load() }

// End implements connect.Session.
func (s *Session) End() {
	s.stop()
	_ = s.Client.Close()
}

func (s *Session) usedBy(ctx context.Context) *Session {
	s.leave = func() { connect.LeaveSession(ctx, s.Target, s) }
	return s
}

// AccountEnded is what PAM says of an account that has ended, in English.
const AccountEnded = "account has expired"

// MustChange reports whether a host that let somebody in does no more for them than change
// their password, and says so in its words.
func MustChange(client *ssh.Client) string {
	watch := time.AfterFunc(HandshakeTime, func() { _ = client.Close() }) // a cut link never answers
	defer watch.Stop()
	session, err := client.NewSession()
	if err != nil {
		return ""
	}
	defer func() { _ = session.Close() }()
	said := &limited{limit: 64 << 10, over: func() { _ = session.Close() }}
	session.Stdout, session.Stderr = said, said
	_ = session.Run("true") // a shell that lets nobody do anything says so, and that is no matter here
	if _, words, found := strings.Cut(said.buf.String(), "Password change required"); found {
		return "Password change required" + strings.TrimRight(estate.FirstLine(words), "\r ")
	}
	return ""
}

// Handshake connects, checks the host key and signs in with the given methods.
func Handshake(ctx context.Context, target connect.Target, user string, methods []ssh.AuthMethod, watch *connect.Stopwatch) (*ssh.Client, func() bool, connect.Facts, *connect.Failure) {
	raw, failure := connect.Dial(ctx, target, DefaultPort, watch)
	if failure != nil {
		return nil, nil, connect.Facts{}, failure
	}
	return HandshakeOn(ctx, raw, target, user, methods, watch)
}

// HandshakeOn does the same on a connection that is there, and owns it.
func HandshakeOn(ctx context.Context, raw net.Conn, target connect.Target, user string, methods []ssh.AuthMethod, watch *connect.Stopwatch) (*ssh.Client, func() bool, connect.Facts, *connect.Failure) {
	var facts connect.Facts
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	_ = raw.SetDeadline(time.Now().Add(HandshakeTime))
	var keyFailure *connect.Failure
	var said string
	config := &ssh.ClientConfig{
		// What PAM says of an account that is refused comes as a banner, and then the
		// connection is cut (RFC 4252, section 5.4).
		BannerCallback: func(text string) error {
			said = strings.TrimSpace(text[:min(len(text), 1000)])
			return nil
		},
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
			_ = raw.SetDeadline(time.Now().Add(SignInTime))
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
			if f.Stage == connect.StageSignIn && strings.Contains(said, AccountEnded) {
				f.Code, f.Words, f.Next = connect.CodeStewardRefused, said, "have the account of "+user+" last longer"
			}
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
	waited := HandshakeTime
	if secured {
		waited = SignInTime
	}
	switch {
	case connect.IsTimeout(err):
		return target.Fail(stageOf(secured), connect.CodeTimeout, fmt.Sprintf("connected, but no answer within %s", waited), "the host hangs, or something else listens on this port", err)
	case secured && errors.Is(err, errOnce):
		return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, "the password was refused; the host would ask for it once more in another way, which is not tried", "check the steward "+user, err)
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

// Open takes the session that an earlier call left, or signs in.
func Open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*Session, *connect.Failure) {
	if s, kept := connect.TakeSession[*Session](ctx, target); kept {
		return s.usedBy(ctx), nil
	}
	return SignIn(ctx, target, watch)
}

// SignIn signs in with the target's steward and finds out what it may do.
func SignIn(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*Session, *connect.Failure) {
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
		methods = append(methods, Password(target.Steward.Password).Methods()...)
	}
	client, stop, facts, failure := Handshake(ctx, target, target.Steward.Account, methods, watch)
	if failure != nil {
		return nil, failure
	}
	watch.OK(connect.StageSignIn, target.Steward.Account)
	s := &Session{Client: client, Target: target, Facts: facts, slots: make(chan struct{}, maxSessions), stop: stop, dead: make(chan struct{})}
	go func() { // ends with the connection
		_ = client.Wait()
		close(s.dead)
	}()
	id, failure := s.Output(ctx, connect.StagePermitted, "/usr/bin/id", "-u")
	if failure != nil {
		s.End()
		watch.Fail(failure)
		return nil, failure
	}
	s.Root = strings.TrimSpace(string(id)) == "0"
	detail := "as root"
	if !s.Root {
		detail = "sudo for single commands"
		if reply := s.Run(ctx, nil, "/usr/bin/sudo", "-n", "-l"); reply.Err != nil || reply.Exit != 0 {
			detail = "without sudo: only what everybody may read"
		}
	}
	watch.OK(connect.StagePermitted, detail)
	return s.usedBy(ctx), nil
}

// Reply of a command.
type Reply struct {
	Out  []byte
	Errs string
	Exit int
	Err  error // the command could not be run, or its end is unknown
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

// plainly has a command and what it starts speak the language that we understand,
// whatever the host speaks to people: sudo keeps it (sudoers, env_check).
var plainly = []string{"/usr/bin/env", "LC_ALL=C"}

// Run runs one command. Arguments are quoted for the login shell.
func (s *Session) Run(ctx context.Context, stdin []byte, argv ...string) Reply {
	return s.runLimited(ctx, MaxOutput, stdin, argv...)
}

// runLimited runs one command that may say limit bytes.
func (s *Session) runLimited(ctx context.Context, limit int, stdin []byte, argv ...string) (r Reply) {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	select {
	case s.slots <- struct{}{}:
		defer func() { <-s.slots }()
	case <-ctx.Done():
		return Reply{Err: ctx.Err()}
	}
	begun, line := time.Now(), shellescape.QuoteCommand(append(slices.Clone(plainly), argv...))
	defer func() { trace(connect.TraceOf(ctx), begun, line, r) }()
	channel, err := s.newChannel(ctx)
	if err != nil {
		s.broken.Store(true)
		return Reply{Err: err}
	}
	defer channel.Close()
	// Run blocks for ever on a cut link: the deadline closes the connection.
	stop := context.AfterFunc(ctx, func() { _ = s.Client.Close() })
	defer stop()
	over := false
	tooMuch := func() { over = true; _ = channel.Close() }
	out := &limited{limit: limit, over: tooMuch}
	errs := &limited{limit: 64 << 10, over: tooMuch}
	channel.Stdout, channel.Stderr = out, errs
	if stdin != nil {
		channel.Stdin = bytes.NewReader(stdin)
	}
	err = channel.Run(line)
	r = Reply{Out: out.buf.Bytes(), Errs: strings.TrimSpace(errs.buf.String()), sent: true}
	var exit *ssh.ExitError
	switch {
	case over:
		s.broken.Store(true) // what it still says is on its way
		r.Err = fmt.Errorf("%s: %w (%d bytes)", argv[0], errTooMuch, limit)
	case ctx.Err() != nil:
		s.broken.Store(true)
		r.Err = fmt.Errorf("no end of %s: %w", argv[0], ctx.Err())
	case errors.As(err, &exit):
		r.Exit = exit.ExitStatus()
	case err != nil:
		// Also io.EOF: a connection that was cut is no command that succeeded
		// and said nothing.
		s.broken.Store(true)
		r.Err = fmt.Errorf("the connection was cut during %s: %w", argv[0], err)
	}
	return r
}

// trace tells a command to whoever wants to see it. What is given to its standard input is no
// part of that: it may be a secret.
func trace(to connect.Trace, begun time.Time, line string, r Reply) {
	if !to.On() {
		return
	}
	o := connect.Ended("ssh", line, begun, r.Err, nil)
	if r.Err == nil && r.Exit != 0 {
		o.Outcome, o.Exit, o.Words = connect.OperationFailed, r.Exit, r.Errs
		if deniedBySudo(r) || strings.Contains(r.Errs, "Permission denied") {
			o.Outcome = connect.OperationRefused
		}
	}
	to.Tell(o)
}

// newChannel opens a channel for one command. One that is opened at the very
// moment in which the connection ends would wait for its answer for ever: the
// end of the connection, and that of the time, are waited for too.
func (s *Session) newChannel(ctx context.Context) (*ssh.Session, error) {
	type opened struct {
		channel *ssh.Session
		err     error
	}
	answer := make(chan opened, 1)
	go func() {
		channel, err := s.Client.NewSession()
		answer <- opened{channel, err}
	}()
	select {
	case o := <-answer:
		return o.channel, o.err
	case <-s.dead:
		return nil, errors.New("the connection was cut before the command began")
	case <-ctx.Done():
		_ = s.Client.Close()
		return nil, ctx.Err()
	}
}

// Sudo runs a command with rights, directly when signed in as root.
func (s *Session) Sudo(ctx context.Context, stdin []byte, argv ...string) Reply {
	if s.Root {
		return s.Run(ctx, stdin, argv...)
	}
	return s.Run(ctx, stdin, append([]string{"/usr/bin/sudo", "-n", "--"}, argv...)...)
}

// Failure turns a reply into a Failure, or nil when the command succeeded.
func (s *Session) Failure(stage connect.Stage, r Reply, argv0 string, hide ...secret.Value) *connect.Failure {
	if r.Err == nil && r.Exit == 0 {
		return nil
	}
	if r.Err != nil {
		f := s.Target.Fail(stage, connect.CodeUnreachable, secret.Scrub(r.Err.Error(), hide...), "the connection was lost or the command did not end", r.Err)
		f.Unclear = r.sent
		if errors.Is(r.Err, context.DeadlineExceeded) {
			f.Code = connect.CodeTimeout
		}
		if errors.Is(r.Err, errTooMuch) {
			f.Code, f.Next = connect.CodeProtocol, "the host floods its output"
		}
		return f
	}
	words := secret.Scrub(estate.FirstLine(r.Errs), hide...)
	if words == "" {
		words = fmt.Sprintf("%s ended with %d", argv0, r.Exit)
	}
	f := s.Target.Fail(stage, connect.CodeFailed, words, "", nil)
	if deniedBySudo(r) {
		f.Code, f.Next = connect.CodeNotPermitted, "allow "+s.Target.Steward.Account+" to run it with sudo: "+argv0
	} else if strings.Contains(words, "Permission denied") {
		f.Code, f.Next = connect.CodeNotPermitted, "give "+s.Target.Steward.Account+" the right to do this"
	} else if strings.Contains(words, "No such file") {
		f.Code = connect.CodeGone
	}
	return f
}

func deniedBySudo(r Reply) bool {
	return r.Exit == 1 && (strings.Contains(r.Errs, "sudo: a password is required") || strings.Contains(r.Errs, "not allowed to execute") ||
		strings.Contains(r.Errs, "not in the sudoers") || strings.Contains(r.Errs, "may not run sudo"))
}

// Output runs a command that must succeed.
func (s *Session) Output(ctx context.Context, stage connect.Stage, argv ...string) ([]byte, *connect.Failure) {
	r := s.Run(ctx, nil, argv...)
	return r.Out, s.Failure(stage, r, argv[0])
}

// ReadFacts reads what the host is.
func (s *Session) ReadFacts(ctx context.Context) *connect.Failure {
	id, failure := s.Output(ctx, connect.StageRead, "/usr/bin/cat", "/etc/machine-id")
	if failure != nil {
		return failure
	}
	s.Facts.Identity = strings.TrimSpace(string(id))
	if len(s.Facts.Identity) != 32 {
		return s.Target.Fail(connect.StageRead, connect.CodeProtocol, fmt.Sprintf("/etc/machine-id has %d characters instead of 32", len(s.Facts.Identity)), "run systemd-machine-id-setup on the host", nil)
	}
	release, failure := s.Output(ctx, connect.StageRead, "/usr/bin/cat", "/etc/os-release")
	if failure != nil {
		return failure
	}
	for line := range strings.Lines(string(release)) {
		if name, found := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); found {
			s.Facts.Flavor = strings.Trim(name, `"`)
		}
	}
	return nil
}
