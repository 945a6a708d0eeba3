package unixhost

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

// tarCommand reads the files whose names stand on standard input. It takes no
// options from there, and follows no link.
var tarCommand = []string{"/usr/bin/nice", "-n", "19", "/usr/bin/tar", "--create", "--file=-", "--absolute-names", "--no-recursion", "--ignore-failed-read", "--null", "--verbatim-files-from", "--files-from=-"}

// readFile is a file as it was read.
type readFile struct {
	content []byte
	mode    int64
	owner   string
}

// readMany reads files in few round trips. Files that are not in the answer
// could not be read this way; changed holds those that were written meanwhile.
func (s *session) readMany(ctx context.Context, paths []string) (contents map[string]readFile, changed map[string]bool, failure *connect.Failure) {
	contents, changed = map[string]readFile{}, map[string]bool{}
	for most := readAtOnce; len(paths) > 0; {
		n := min(most, len(paths))
		r, _ := s.elevated(ctx, readOutput, []byte(strings.Join(paths[:n], "\x00")+"\x00"), tarCommand...)
		if errors.Is(r.err, errTooMuch) && n > 1 {
			most = n / 4
			continue
		}
		paths = paths[n:]
		if r.err != nil {
			return nil, nil, s.failure(connect.StageRead, r, "tar")
		}
		for line := range strings.Lines(r.errs) {
			if p, found := strings.CutSuffix(strings.TrimSpace(line), ": file changed as we read it"); found {
				changed[strings.TrimPrefix(p, "/usr/bin/tar: ")] = true
				changed[strings.TrimPrefix(p, "tar: ")] = true
			}
		}
		reader := tar.NewReader(bytes.NewReader(r.out))
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
			contents[header.Name] = readFile{content: content, mode: header.Mode, owner: header.Uname}
		}
	}
	return contents, changed, nil
}
