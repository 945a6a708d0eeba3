package unixhost

import (
	"context"
	"net"
	"strconv"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// readEntries tells which of the keys have an entry in a file.
func readEntries(ctx context.Context, target connect.Target, p string, wanted ...string) ([]bool, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return nil, failure
	}
	defer s.Close()
	f, failure := s.regular(ctx, connect.StageRead, p)
	if failure != nil {
		return nil, failure
	}
	out := make([]bool, len(wanted))
	for i, key := range wanted {
		out[i] = keys.Lets(f.content, key)
	}
	// A copy that a cut connection left holds no secret, but confuses people.
	if s.maybeThere(ctx, temporaryName(f.path)) != no {
		removeLeftover(ctx, target, s, temporaryName(f.path))
	}
	return out, nil
}

// entryChange is what a file of entries becomes: stays has an entry before and
// after, admit gets a twin of each of them, remove has none afterwards.
type entryChange struct {
	path, stays, admit, remove string
}

// between is the change that has a file let in exactly what is wanted, from what
// it lets in now.
func between(path, old, next string, want connect.Accepted, hasOld, hasNew bool) entryChange {
	switch change := (entryChange{path: path}); want {
	case connect.AcceptOld:
		change.stays, change.remove = old, next
		return change
	case connect.AcceptNew:
		change.stays, change.remove = next, old
		return change
	default:
		// The one that is there stays, the other gets its twins.
		if change.stays, change.admit = old, next; hasNew && !hasOld {
			change.stays, change.admit = next, old
		}
		return change
	}
}

// acceptEntries changes a file of entries.
func acceptEntries(ctx context.Context, target connect.Target, p string, values connect.Values, want connect.Accepted) error {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // nothing was begun
		return failure
	}
	defer s.Close()
	f, failure := s.regular(ctx, connect.StageReplace, p)
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	old, next := values.Old.RevealString(), values.New.RevealString()
	content, failure := s.entries(f, between(p, old, next, want, keys.Lets(f.content, old), keys.Lets(f.content, next)))
	if failure != nil {
		return failure
	}
	if digest(content) == digest(f.content) {
		return nil
	}
	return connect.AsError(s.put(ctx, f, content, secret.Value{}, secret.Value{}))
}

// probeEntries tells which of two keys have an entry.
func probeEntries(ctx context.Context, target connect.Target, p string, values connect.Values) (connect.Probed, error) {
	is, err := readEntries(ctx, target, p, values.Old.RevealString(), values.New.RevealString())
	if err != nil {
		return connect.Probed{}, err
	}
	answer := map[bool]connect.Answer{true: connect.AnswerYes, false: connect.AnswerNo}
	return connect.Probed{Old: answer[is[0]], New: answer[is[1]]}, nil
}

// entries makes the content after a change.
func (s *host) entries(f file, change entryChange) ([]byte, *connect.Failure) {
	if failure := s.linked(f); failure != nil {
		return nil, failure
	}
	next := f.content
	var err error
	if change.admit != "" {
		next, err = keys.Admit(next, change.stays, change.admit)
	}
	if err == nil && change.remove != "" {
		next, err = keys.Dismiss(next, change.remove, change.stays)
	}
	if err != nil {
		return nil, s.Target.Fail(connect.StageReplace, connect.CodeGone, f.path+": "+err.Error(), "somebody changed the file: run a survey of this host and rehearse again", err)
	}
	return next, nil
}

// VerifyKey implements connect.Admitter: a sign-in over SSH that opens no
// session.
func (Connector) VerifyKey(ctx context.Context, target connect.Target, account connect.AccountRef, key secret.Value, through *connect.Target) (connect.Verdict, error) {
	signer, err := ssh.ParsePrivateKey(key.Reveal())
	if err != nil {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "the private key cannot be read: not tried"}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, shell.HandshakeTime+shell.SignInTime)
	defer cancel()
	watch, methods := connect.NewStopwatch(), []ssh.AuthMethod{ssh.PublicKeys(signer)}
	var client *ssh.Client
	var stop func() bool
	var failure *connect.Failure
	words := "signed in over SSH with the key"
	if through == nil {
		client, stop, _, failure = shell.Handshake(ctx, target, account.Name, methods, watch)
	} else {
		words += " from " + through.Name
		var raw net.Conn
		var end func()
		if raw, end, failure = from(ctx, target, *through); failure == nil {
			defer end()
			client, stop, _, failure = shell.HandshakeOn(ctx, raw, target, account.Name, methods, watch)
		}
	}
	if failure != nil {
		if failure.Stage == connect.StageSignIn && failure.Code == connect.CodeStewardRefused {
			return refusedBy(failure.Words), nil
		}
		return connect.Verdict{}, failure
	}
	defer func() { stop(); _ = client.Close() }()
	if said := shell.MustChange(client); said != "" {
		return connect.Verdict{Code: connect.VerdictMustChange, Words: said}, nil
	}
	return connect.Verdict{Accepted: true, Words: words}, nil
}

// from opens a connection to a host from another one, where we are signed in
// (RFC 4254, section 7.2). end closes what it stands on.
func from(ctx context.Context, target, through connect.Target) (raw net.Conn, end func(), failure *connect.Failure) {
	s, failure := openHost(ctx, through, connect.NewStopwatch())
	if failure != nil {
		return nil, nil, failure
	}
	port := target.Port
	if port == 0 {
		port = shell.DefaultPort
	}
	address := target.Address
	if address == "" {
		address = target.Name
	}
	raw, err := s.Client.DialContext(ctx, "tcp", net.JoinHostPort(address, strconv.Itoa(port)))
	if err != nil {
		s.Close()
		return nil, nil, through.Fail(connect.StageConnect, connect.CodeUnreachable, "from there to "+target.Name+": "+err.Error(), "signing in with the key can be proven only from "+through.Name+": let its sshd forward connections (AllowTcpForwarding) for "+through.Steward.Account, err)
	}
	return raw, s.Close, nil
}

// rehearseEntries checks a change of entries without making it.
func (s *host) rehearseEntries(ctx context.Context, change connect.EntryChange) []connect.Checked {
	what := "entries in " + change.Path
	f, failure := s.regular(ctx, connect.StageRead, change.Path)
	if failure == nil {
		failure = s.linked(f)
	}
	if failure == nil && !keys.Lets(f.content, change.Stays) {
		failure = s.Target.Fail(connect.StageRead, connect.CodeGone, "no entry of the key is there", "run a survey of this host", nil)
	}
	out := []connect.Checked{s.line(what, failure)}
	if failure != nil {
		return out
	}
	return append(out, s.mayReplace(ctx, f.path))
}
