package keys

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// ErrEntries is wrapped when entries are not what a change needs them to be.
var ErrEntries = errors.New("the entries are not as expected")

// blobOf is the base64 part of a key's line.
func blobOf(line string) (kind, blob string) {
	kind, blob, _ = strings.Cut(strings.TrimSpace(line), " ")
	blob, _, _ = strings.Cut(blob, " ")
	return kind, blob
}

// entryOf reports whether a line of authorized_keys lets the holder of a key in.
func entryOf(line []byte, blob string) bool {
	trimmed := bytes.TrimSpace(line)
	if len(trimmed) == 0 || trimmed[0] == '#' || !bytes.Contains(trimmed, []byte(blob)) {
		return false
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(trimmed)
	return err == nil && base64.StdEncoding.EncodeToString(public.Marshal()) == blob
}

// Lets reports whether any entry lets the holder of a key in. key is type and
// key as in Pair.Line.
func Lets(content []byte, key string) bool {
	_, blob := blobOf(key)
	for line := range bytes.Lines(content) {
		if entryOf(line, blob) {
			return true
		}
	}
	return false
}

// Admit gives every entry of the key beside a twin for another key, with the
// same options and comment, on the line before it. Every other byte stays as it
// is. If there is an entry of the other key already, nothing is added.
func Admit(content []byte, beside, key string) ([]byte, error) {
	if Lets(content, key) {
		return content, nil
	}
	oldKind, oldBlob := blobOf(beside)
	kind, blob := blobOf(key)
	out := make([]byte, 0, len(content)+1024)
	added := false
	for line := range bytes.Lines(content) {
		if entryOf(line, oldBlob) {
			at := bytes.Index(line, []byte(oldBlob))
			head := line[:at]
			name := bytes.LastIndex(head, []byte(oldKind))
			if name < 0 {
				return nil, fmt.Errorf("%w: an entry whose type does not stand before its key", ErrEntries)
			}
			out = append(out, head[:name]...)
			out = append(out, kind...)
			out = append(out, head[name+len(oldKind):]...)
			out = append(out, blob...)
			out = append(out, bytes.TrimRight(line[at+len(oldBlob):], "\r\n")...)
			if bytes.HasSuffix(line, []byte("\r\n")) {
				out = append(out, '\r')
			}
			out = append(out, '\n')
			added = true
		}
		out = append(out, line...)
	}
	if !added {
		return nil, fmt.Errorf("%w: there is no entry of the key beside which the new one belongs", ErrEntries)
	}
	return out, nil
}

// Dismiss removes every entry of a key. It refuses when no entry of the key
// that stays is there: the account would be shut.
func Dismiss(content []byte, key, stays string) ([]byte, error) {
	if !Lets(content, stays) {
		return nil, fmt.Errorf("%w: there is no entry of the key that stays", ErrEntries)
	}
	_, blob := blobOf(key)
	out := make([]byte, 0, len(content))
	for line := range bytes.Lines(content) {
		if !entryOf(line, blob) {
			out = append(out, line...)
		}
	}
	return out, nil
}
