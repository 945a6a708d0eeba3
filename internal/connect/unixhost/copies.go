package unixhost

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// file is a regular file with its real path.
type file struct {
	path    string
	content []byte
	links   int
}

// regular follows symlinks, makes sure that a regular file is there and reads it.
func (s *host) regular(ctx context.Context, stage connect.Stage, p string) (file, *connect.Failure) {
	if !path.IsAbs(p) {
		return file{}, s.Target.Fail(stage, connect.CodeFailed, fmt.Sprintf("%q is not an absolute path", p), "", nil)
	}
	real := s.Run(ctx, nil, "/usr/bin/readlink", "-f", "--", p)
	if real.Err != nil {
		return file{}, s.Failure(stage, real, "readlink")
	}
	f := file{path: strings.TrimRight(string(real.Out), "\n")}
	if real.Exit != 0 || f.path == "" {
		// A closed folder: take the path as it is.
		f.path = p
	}
	argv := []string{"/usr/bin/stat", "-c", "%h|%f", "--", f.path}
	stat := s.Run(ctx, nil, argv...)
	if stat.Err == nil && stat.Exit != 0 && strings.Contains(stat.Errs, "Permission denied") {
		stat = s.Sudo(ctx, nil, argv...)
	}
	if failure := s.Failure(stage, stat, strings.Join(argv, " ")); failure != nil {
		return f, failure
	}
	links, mode, _ := strings.Cut(strings.TrimSpace(string(stat.Out)), "|")
	if kind := shell.KindOf(mode); kind != shell.RegularFile {
		return f, s.Target.Fail(stage, connect.CodeGone, f.path+" is not a regular file but a "+kind, "run a survey of this host", nil)
	}
	f.links, _ = strconv.Atoi(links)
	var failure *connect.Failure
	f.content, failure = s.ReadFile(ctx, f.path)
	return f, failure
}

func digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// ReadCopies implements connect.Holder.
func (Connector) ReadCopies(ctx context.Context, target connect.Target, p string, places []held.Locator) (connect.CopyState, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.CopyState{}, failure
	}
	defer s.Close()
	f, failure := s.regular(ctx, connect.StageRead, p)
	if failure != nil {
		return connect.CopyState{}, failure
	}
	// A probe after a cut connection removes what the attempt left.
	if there := s.maybeThere(ctx, temporaryName(f.path)); there != no {
		if !removeLeftover(ctx, target, s, temporaryName(f.path)) && there == yes {
			return connect.CopyState{}, target.Fail(connect.StageRead, connect.CodeFailed, temporaryName(f.path)+" was left by an attempt and cannot be removed", "remove it: it holds a password", nil)
		}
	}
	if len(places) > 0 && places[0].Layout == layout.PEM {
		if failure := s.mendPublic(ctx, f); failure != nil {
			return connect.CopyState{}, failure
		}
	}
	state := connect.CopyState{Digest: digest(f.content)}
	for _, place := range places {
		span, err := held.Find(f.content, place)
		if err != nil {
			return state, target.Fail(connect.StageRead, connect.CodeGone, fmt.Sprintf("%s: %v", p, err), "the file was changed: run a survey of this host", err)
		}
		state.Found = append(state.Found, span.Value)
	}
	return state, nil
}

// ReplaceCopies implements connect.Holder. The new content goes into a file
// beside the old one that was made by copying it with owner, mode, access
// lists and attributes, is synced, and takes its place by rename.
func (Connector) ReplaceCopies(ctx context.Context, target connect.Target, p string, places []held.Locator, old, value secret.Value) error {
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
	next, failure := s.spliced(f, places, old, value)
	if failure != nil {
		return failure
	}
	if len(places) > 0 && places[0].Layout == layout.PEM {
		return s.replaceKey(ctx, f, next, old, value)
	}
	return connect.AsError(s.put(ctx, f, next, old, value))
}

// put gives a file new content, proves it by reading, and leaves no copy behind.
func (s *host) put(ctx context.Context, f file, next []byte, old, value secret.Value) *connect.Failure {
	target, temporary := s.Target, temporaryName(f.path)
	if failure := s.swap(ctx, f, next, temporary, old, value); failure != nil {
		if !failure.Unclear && !removeLeftover(ctx, target, s, temporary) {
			// The file is as it was, but a copy with the new value may be
			// beside it: not certain until a probe has removed it.
			failure.Unclear = true
			failure.Words += "; " + temporary + " may be left there"
		}
		return failure
	}
	after, failure := s.ReadFile(ctx, f.path)
	if failure != nil {
		failure.Unclear = true
		return failure
	}
	if digest(after) != digest(next) {
		f := target.Fail(connect.StageReplace, connect.CodeFailed, f.path+" was changed by somebody else at the same moment", "look at the file, then resume", nil)
		f.Unclear = true
		return f
	}
	return nil
}

// Whether a file is there; of a closed folder it cannot be said.
const (
	no = iota
	perhaps
	yes
)

func (s *host) maybeThere(ctx context.Context, p string) int {
	r := s.Run(ctx, nil, "/usr/bin/stat", "-c", "%h|%f", "--", p)
	switch {
	case r.Err == nil && r.Exit == 0:
		return yes
	case r.Err == nil && strings.HasSuffix(r.Errs, ": No such file or directory"):
		return no
	}
	return perhaps // a closed folder, or an answer that says nothing
}

// removeLeftover removes the copy of an attempt that failed, on a connection of
// its own if the first one was cut. It reports whether it is certainly gone.
func removeLeftover(ctx context.Context, target connect.Target, s *host, temporary string) bool {
	argv := []string{"/usr/bin/rm", "-f", "--", temporary}
	if r := s.Sudo(ctx, nil, argv...); r.Err == nil {
		return r.Exit == 0
	}
	// The act's own time may be over: cleaning up gets a little more.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*shell.HandshakeTime)
	defer cancel()
	again, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return false
	}
	defer again.Close()
	r := again.Sudo(ctx, nil, argv...)
	return r.Err == nil && r.Exit == 0
}

// temporaryName is fixed for each file, so that a sudoers line can name it and
// a copy that a cut connection left is found and removed by the next attempt.
func temporaryName(p string) string { return path.Join(path.Dir(p), "."+path.Base(p)+".moss-new") }

// linked refuses files with several hard links.
func (s *host) linked(f file) *connect.Failure {
	if f.links > 1 {
		return s.Target.Fail(connect.StageReplace, connect.CodeFailed, fmt.Sprintf("%s has %d hard links: a rename would part them", f.path, f.links), "replace the links by one file or symlinks", nil)
	}
	return nil
}

func (s *host) spliced(f file, places []held.Locator, old, value secret.Value) ([]byte, *connect.Failure) {
	if failure := s.linked(f); failure != nil {
		return nil, failure
	}
	next := f.content
	for _, place := range places {
		span, err := held.Find(next, place)
		if err == nil && !held.Same(place.Layout, span.Value, old) && !held.Same(place.Layout, span.Value, value) {
			err = errors.New("it holds neither the old nor the new value: somebody else changed it")
		}
		if err == nil {
			next, err = held.Replace(next, place, old, value)
		}
		if err != nil {
			code := connect.CodeFailed
			if errors.Is(err, layout.ErrNotThere) {
				code = connect.CodeGone
			}
			return nil, s.Target.Fail(connect.StageReplace, code, fmt.Sprintf("%s#%s: %v", f.path, place, err), "run a survey of this host and rehearse again", err)
		}
	}
	return next, nil
}

// swap writes and renames. Only the rename itself can be unclear.
func (s *host) swap(ctx context.Context, f file, next []byte, temporary string, hide ...secret.Value) *connect.Failure {
	if failure := s.acts(ctx, []act{ // the file itself is untouched
		{nil, []string{"/usr/bin/rm", "-f", "--", temporary}},
		{nil, []string{"/usr/bin/cp", "-a", "--", f.path, temporary}},
		{next, []string{"/usr/bin/dd", "of=" + temporary, "conv=fsync", "status=none"}},
	}, hide...); failure != nil {
		return failure
	}
	if failure := s.sameLabel(ctx, f.path, temporary); failure != nil {
		return failure
	}
	again, failure := s.ReadFile(ctx, f.path)
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	if digest(again) != digest(f.content) {
		return s.Target.Fail(connect.StageReplace, connect.CodeFailed, f.path+" was edited by somebody while it was being replaced: left as it is", "resume to try again", nil)
	}
	move := []string{"/usr/bin/mv", "-fT", "--", temporary, f.path}
	if failure := s.Failure(connect.StageReplace, s.Sudo(ctx, nil, move...), strings.Join(move, " "), hide...); failure != nil {
		return failure
	}
	directory := []string{"/usr/bin/sync", "--", path.Dir(f.path)}
	if failure := s.Failure(connect.StageReplace, s.Sudo(ctx, nil, directory...), strings.Join(directory, " "), hide...); failure != nil {
		failure.Unclear = true // renamed, but not known to be on disk
		return failure
	}
	return nil
}
