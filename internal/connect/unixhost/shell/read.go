package shell

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
)

// readAtOnce is how many files one command reads. Most are small; when they are
// not, fewer are read at once.
const (
	readAtOnce = 400
	readOutput = 128 << 20
)

// TarCommand reads the files whose names stand on standard input. It takes no
// options from there, and follows no link.
var TarCommand = []string{"/usr/bin/nice", "-n", "19", "/usr/bin/tar", "--create", "--file=-", "--absolute-names", "--no-recursion", "--ignore-failed-read", "--null", "--verbatim-files-from", "--files-from=-"}

// ReadFile is a file as it was read.
type ReadFile struct {
	Content []byte
	Mode    int64
	Owner   string
}

// ReadMany reads files in few round trips. Files that are not in the answer
// could not be read this way; changed holds those that were written meanwhile.
func (s *Session) ReadMany(ctx context.Context, paths []string) (contents map[string]ReadFile, changed map[string]bool, failure *connect.Failure) {
	contents, changed = map[string]ReadFile{}, map[string]bool{}
	for most := readAtOnce; len(paths) > 0; {
		n := min(most, len(paths))
		r, _ := s.Elevated(ctx, readOutput, []byte(strings.Join(paths[:n], "\x00")+"\x00"), TarCommand...)
		if errors.Is(r.Err, errTooMuch) && n > 1 {
			most = n / 4
			continue
		}
		paths = paths[n:]
		if r.Err != nil {
			return nil, nil, s.Failure(connect.StageRead, r, "tar")
		}
		for line := range strings.Lines(r.Errs) {
			if p, found := strings.CutSuffix(strings.TrimSpace(line), ": file changed as we read it"); found {
				changed[strings.TrimPrefix(p, "/usr/bin/tar: ")] = true
				changed[strings.TrimPrefix(p, "tar: ")] = true
			}
		}
		reader := tar.NewReader(bytes.NewReader(r.Out))
		for {
			header, err := reader.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				break // what is missing is read one by one, and tells why it cannot
			}
			if header.Typeflag != tar.TypeReg || header.Size > held.MaxSize {
				continue
			}
			content, err := io.ReadAll(reader)
			if err != nil {
				break
			}
			contents[header.Name] = ReadFile{Content: content, Mode: header.Mode, Owner: header.Uname}
		}
	}
	return contents, changed, nil
}

// ReadFile reads a file, with rights only when it needs them.
func (s *Session) ReadFile(ctx context.Context, p string) ([]byte, *connect.Failure) {
	r := s.Run(ctx, nil, "/usr/bin/cat", "--", p)
	if r.Err == nil && r.Exit != 0 && strings.Contains(r.Errs, "Permission denied") && !s.Root {
		r = s.Sudo(ctx, nil, "/usr/bin/cat", "--", p)
	}
	if f := s.Failure(connect.StageRead, r, "/usr/bin/cat -- "+p); f != nil {
		return nil, f
	}
	return r.Out, nil
}

// Elevated runs a command with rights where they are given, else without, and
// says which.
func (s *Session) Elevated(ctx context.Context, limit int, stdin []byte, argv ...string) (r Reply, full bool) {
	if s.Root {
		return s.runLimited(ctx, limit, stdin, argv...), true
	}
	r = s.runLimited(ctx, limit, stdin, append([]string{"/usr/bin/sudo", "-n", "--"}, argv...)...)
	if r.Err == nil && deniedBySudo(r) {
		return s.runLimited(ctx, limit, stdin, argv...), false
	}
	return r, true
}
