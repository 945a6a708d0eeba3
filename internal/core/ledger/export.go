package ledger

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"golang.org/x/mod/sumdb/tlog"
)

// An export is JSON lines (one JSON value a line, UTF-8, ended by a newline):
//
//	{"format":"moss-ledger-export-1","origin":"moss-ledger","verifier":"...","checkpoint":"..."}
//	{"index":0,"time":"...", ...}
//	{"index":1, ...}
//
// From the second line on, each line without its newline is a leaf, byte for
// byte: its leaf hash is SHA-256 of a zero byte and the line (RFC 6962, section
// 2.1), so any program can recompute the tree that the checkpoint signs. A leaf
// that is no line of UTF-8, which only a forgery can be, is written as
// {"leaf_base64":"..."}.
const ExportFormat = "moss-ledger-export-1"

// ExportHeader is the first line of an export. Its verifier is for
// information: who verifies takes the key from elsewhere.
type ExportHeader struct {
	Format     string `json:"format"`
	Origin     string `json:"origin"`
	Verifier   string `json:"verifier"`
	Checkpoint string `json:"checkpoint"`
}

type strangeLeaf struct {
	Leaf []byte `json:"leaf_base64"`
}

// ExportLine is the line of a leaf, with its newline.
func ExportLine(leaf []byte) []byte {
	if !utf8.Valid(leaf) || bytes.ContainsAny(leaf, "\r\n") || bytes.HasPrefix(leaf, []byte(`{"leaf_base64":`)) {
		line := `{"leaf_base64":"` + base64.StdEncoding.EncodeToString(leaf) + `"}`
		return append([]byte(line), '\n')
	}
	return append(bytes.Clone(leaf), '\n')
}

// longestLine bounds a line of an export.
const longestLine = 16 << 20

// ReadExport reads an export as the source of a verification. The caller sets
// the key and earlier checkpoints.
func ReadExport(in io.Reader) (ExportHeader, Source, error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 0, 64<<10), longestLine)
	var header ExportHeader
	if !lines.Scan() {
		return header, Source{}, errors.Join(errors.New("the export is empty"), lines.Err())
	}
	if err := json.Unmarshal(lines.Bytes(), &header); err != nil || header.Format != ExportFormat {
		return header, Source{}, fmt.Errorf("line 1 is not the beginning of an export: a JSON object with format %q is expected", ExportFormat)
	}
	line := int64(1)
	return header, Source{Checkpoint: header.Checkpoint, Next: func() (Stored, bool, error) {
		if !lines.Scan() {
			if err := lines.Err(); err != nil {
				return Stored{}, false, fmt.Errorf("line %d of the export: %w", line+1, err)
			}
			return Stored{}, false, nil
		}
		line++
		leaf := bytes.Clone(lines.Bytes())
		if bytes.HasPrefix(leaf, []byte(`{"leaf_base64":`)) {
			var strange strangeLeaf
			if err := json.Unmarshal(leaf, &strange); err != nil {
				return Stored{}, false, fmt.Errorf("line %d of the export: base64 is expected", line)
			}
			leaf = strange.Leaf
		}
		// Entries stand in order: what an entry calls itself is held against that.
		return Stored{Index: line - 2, Leaf: leaf, Hash: tlog.RecordHash(leaf)}, true, nil
	}}, nil
}
