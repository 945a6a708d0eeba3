package unixhost

import (
	"context"
	"path"
	"strings"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// Beside a private key there is often its public half, in a file of the same
// name and .pub. A client offers what stands there, and then cannot sign with
// a private key that is another: both must change, and there must be no moment
// in which they differ. Without the public file a client reads the private one
// alone, so it is away while the private key is replaced:
//
//	make the new public file under its temporary name
//	remove the old one
//	replace the private key
//	give the new one its name
//
// A temporary public file that a cut connection left says that this was not
// ended; mendPublic ends it.

// replaceKey gives a private key's file new content, and the file of its
// public half.
func (s *host) replaceKey(ctx context.Context, f file, next []byte, old, value secret.Value) error {
	public, has, failure := s.publicBeside(ctx, f.path, old, value)
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	if !has {
		return connect.AsError(s.put(ctx, f, next, old, value))
	}
	temporary := temporaryName(public.path)
	if failure := s.acts(ctx, []act{
		{nil, []string{"/usr/bin/rm", "-f", "--", temporary}},
		{nil, []string{"/usr/bin/cp", "-a", "--", public.path, temporary}},
		{publicLike(public.content, next), []string{"/usr/bin/dd", "of=" + temporary, "conv=fsync", "status=none"}},
		{nil, []string{"/usr/bin/rm", "-f", "--", public.path}},
	}); failure != nil {
		if mended := s.mendPublic(ctx, f); mended != nil {
			failure.Unclear = true // a probe mends it
		}
		return failure
	}
	put := s.put(ctx, f, next, old, value)
	now := f
	if put == nil {
		now.content = next
	}
	if put != nil && put.Unclear {
		return put // a probe looks which key is there, and mends
	}
	if mended := s.mendPublic(ctx, now); mended != nil {
		mended.Unclear = true
		return mended
	}
	return connect.AsError(put)
}

// publicBeside reads the file of the public half, if it is that of one of the
// keys: another one is none of ours.
func (s *host) publicBeside(ctx context.Context, p string, of ...secret.Value) (file, bool, *connect.Failure) {
	f, failure := s.regular(ctx, connect.StageReplace, p+".pub")
	if failure != nil {
		if failure.Code == connect.CodeGone {
			failure = nil
		}
		return f, false, failure
	}
	for _, key := range of {
		if pair, err := keys.PairOf(key); err == nil && keys.Lets(f.content, pair.Line) {
			return f, true, nil
		}
	}
	return f, false, nil
}

// publicLike writes the public half of the first private key in a file, with
// the comment that stood there.
func publicLike(was, private []byte) []byte {
	span, err := held.Find(private, held.Locator{Layout: layout.PEM, Part: held.PartValue})
	if err != nil {
		return was
	}
	pair, err := keys.PairOf(span.Value)
	if err != nil {
		return was
	}
	line := pair.Line
	if _, comment, _, _, err := ssh.ParseAuthorizedKey(was); err == nil && comment != "" {
		line += " " + comment
	}
	return []byte(line + "\n")
}

// mendPublic ends what a cut connection left: a public file that still has its
// temporary name gets the half of the private key that is there now.
func (s *host) mendPublic(ctx context.Context, f file) *connect.Failure {
	public := f.path + ".pub"
	temporary := temporaryName(public)
	left, failure := s.ReadFile(ctx, temporary)
	if failure != nil {
		if failure.Code == connect.CodeGone || failure.Code == connect.CodeNotPermitted { // the rehearsal asks for that right
			failure = nil
		}
		return failure
	}
	return s.acts(ctx, []act{
		{publicLike(left, f.content), []string{"/usr/bin/dd", "of=" + temporary, "conv=fsync", "status=none"}},
		{nil, []string{"/usr/bin/mv", "-fT", "--", temporary, public}},
		{nil, []string{"/usr/bin/sync", "--", path.Dir(public)}},
	})
}

// act is one command with what it reads.
type act struct {
	stdin []byte
	argv  []string
}

// acts does one after the other. None of them is of an unclear kind: doing them
// again is harmless.
func (s *host) acts(ctx context.Context, list []act, hide ...secret.Value) *connect.Failure {
	for _, a := range list {
		if failure := s.Failure(connect.StageReplace, s.Sudo(ctx, a.stdin, a.argv...), strings.Join(a.argv, " "), hide...); failure != nil {
			failure.Unclear = false
			return failure
		}
	}
	return nil
}
