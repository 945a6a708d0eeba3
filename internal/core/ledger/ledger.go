// Package ledger is the append-only record of every act, in a form in which
// any alteration shows.
//
// Entries are leaves of a Merkle tree (golang.org/x/mod/sumdb/tlog, the tree
// of RFC 6962, section 2.1). After each append the tree's head is signed as a
// checkpoint, an open note format that other programs can verify with the
// public key alone. Verification recomputes everything from the entries: an
// entry whose text no longer gives its recorded leaf hash is named; a leaf
// hash that was altered to match no longer gives the signed head.
//
// Every act has two entries: phase "intent" before it happens and phase
// "outcome" after. An entry never contains a secret.
package ledger

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Origin is the name in checkpoints and keys.
const Origin = "moss-ledger"

// Phases of an act.
const (
	Intent  = "intent"
	Outcome = "outcome"
)

// Entry is one record. Index and Time are set when it is appended.
type Entry struct {
	Index   int64     `json:"index"`
	Time    time.Time `json:"time"`
	Actor   string    `json:"actor"`             // who: user name, or "service"
	Act     string    `json:"act"`               // what: "rotation.change", "custody.take", ...
	Phase   string    `json:"phase"`             // intent or outcome
	Subject string    `json:"subject,omitempty"` // on what: account, system or object by name
	System  string    `json:"system,omitempty"`  // where: system name
	Ref     string    `json:"ref,omitempty"`     // id of the rotation, survey, ... it belongs to
	Result  string    `json:"result,omitempty"`  // outcome: done, failed, unclear, refused
	Reason  string    `json:"reason,omitempty"`  // why, in a person's words
	Detail  string    `json:"detail,omitempty"`  // the system's own words
}

// Encode returns the leaf: the entry as one line of JSON.
func (e Entry) Encode() ([]byte, error) {
	e.Time = e.Time.UTC()
	return json.Marshal(e)
}

// Head is a tree of a given size.
type Head struct {
	Size int64
	Hash tlog.Hash
}

// Append computes what must be stored for a new leaf: the hashes to add and
// the new head. hashes must return what earlier calls gave.
func Append(size int64, leaf []byte, hashes tlog.HashReader) ([]tlog.Hash, Head, error) {
	add, err := tlog.StoredHashes(size, leaf, hashes)
	if err != nil {
		return nil, Head{}, fmt.Errorf("hash entry %d: %w", size, err)
	}
	start := tlog.StoredHashIndex(0, size)
	merged := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		var ask []int64
		for i, index := range indexes {
			if index >= start && index < start+int64(len(add)) {
				out[i] = add[index-start]
			} else {
				ask = append(ask, index)
			}
		}
		if len(ask) == 0 {
			return out, nil
		}
		old, err := hashes.ReadHashes(ask)
		if err != nil {
			return nil, err
		}
		next := 0
		for i, index := range indexes {
			if index < start || index >= start+int64(len(add)) {
				out[i] = old[next]
				next++
			}
		}
		return out, nil
	})
	root, err := tlog.TreeHash(size+1, merged)
	if err != nil {
		return nil, Head{}, fmt.Errorf("hash the tree of %d entries: %w", size+1, err)
	}
	return add, Head{Size: size + 1, Hash: root}, nil
}

// SignHead makes the signed checkpoint of a head: origin, number of entries
// and hash of the tree, a line each, as a signed note (the checkpoint format of
// transparency logs, C2SP tlog-checkpoint).
func SignHead(head Head, signer note.Signer) (string, error) {
	text := fmt.Sprintf("%s\n%d\n%s\n", Origin, head.Size, head.Hash)
	signed, err := note.Sign(&note.Note{Text: text}, signer)
	return string(signed), err
}

// OpenHead verifies a checkpoint's signature and returns its head.
func OpenHead(checkpoint, verifierKey string) (Head, error) {
	verifier, err := note.NewVerifier(verifierKey)
	if err != nil {
		return Head{}, fmt.Errorf("public key of the ledger: %w", err)
	}
	opened, err := note.Open([]byte(checkpoint), note.VerifierList(verifier))
	if err != nil {
		return Head{}, fmt.Errorf("signature of the checkpoint: %w", err)
	}
	lines := strings.Split(opened.Text, "\n")
	if len(lines) != 4 || lines[0] != Origin || lines[3] != "" {
		return Head{}, errors.New("text of the checkpoint: not origin, size and hash")
	}
	size, err := strconv.ParseInt(lines[1], 10, 64)
	if err != nil || size < 0 {
		return Head{}, fmt.Errorf("text of the checkpoint: %q is not a size", lines[1])
	}
	hash, err := tlog.ParseHash(lines[2])
	if err != nil {
		return Head{}, fmt.Errorf("text of the checkpoint: %w", err)
	}
	return Head{Size: size, Hash: hash}, nil
}

// Stored is one stored leaf with the leaf hash that was recorded beside it.
type Stored struct {
	Index int64
	Leaf  []byte
	Hash  tlog.Hash
}

// Report says what a verification found.
type Report struct {
	Entries  int64    `json:"entries"`  // how many were read
	Problems []string `json:"problems"` // empty when everything holds
	Altered  []int64  `json:"altered"`  // indexes of entries that do not hold
	Head     string   `json:"head"`     // hash of the tree as recomputed
}

// OK reports whether the ledger holds.
func (r Report) OK() bool { return len(r.Problems) == 0 }

// Verify reads all entries in order through next (which returns ok=false at
// the end) and holds them against their recorded hashes and the checkpoint.
func Verify(next func() (Stored, bool, error), checkpoint, verifierKey string) (Report, error) {
	report := Report{Problems: []string{}, Altered: []int64{}}
	var hashes []tlog.Hash
	reader := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, index := range indexes {
			if index >= int64(len(hashes)) {
				return nil, fmt.Errorf("hash %d is missing", index)
			}
			out[i] = hashes[index]
		}
		return out, nil
	})
	want, headErr := OpenHead(checkpoint, verifierKey)
	var size int64
	bad := func(index int64, format string, args ...any) {
		if len(report.Altered) == 0 || report.Altered[len(report.Altered)-1] != index {
			report.Altered = append(report.Altered, index)
		}
		report.Problems = append(report.Problems, fmt.Sprintf("entry %d: ", index)+fmt.Sprintf(format, args...))
	}
	for {
		stored, ok, err := next()
		if err != nil {
			return report, err
		}
		if !ok {
			break
		}
		for ; size < stored.Index; size++ {
			bad(size, "is missing")
			add, err := tlog.StoredHashes(size, nil, reader)
			if err != nil {
				return report, err
			}
			hashes = append(hashes, add...)
		}
		if tlog.RecordHash(stored.Leaf) != stored.Hash {
			bad(stored.Index, "its text does not give its recorded hash: %s", describe(stored.Leaf))
		} else if entry := new(Entry); json.Unmarshal(stored.Leaf, entry) == nil && entry.Index != stored.Index {
			bad(stored.Index, "its text says it is entry %d", entry.Index)
		}
		add, err := tlog.StoredHashesForRecordHash(size, stored.Hash, reader)
		if err != nil {
			return report, err
		}
		hashes = append(hashes, add...)
		size++
	}
	report.Entries = size
	switch {
	case headErr != nil && size > 0:
		report.Problems = append(report.Problems, headErr.Error())
	case headErr == nil && size < want.Size:
		for i := size; i < want.Size; i++ {
			bad(i, "is missing: the signed checkpoint covers %d entries", want.Size)
		}
	case headErr == nil && size > want.Size:
		bad(want.Size, "is not covered by the signed checkpoint, which ends at %d entries", want.Size)
	}
	if size > 0 {
		root, err := tlog.TreeHash(size, reader)
		if err != nil {
			return report, err
		}
		report.Head = root.String()
		if headErr == nil && size == want.Size && root != want.Hash {
			report.Problems = append(report.Problems, "the tree of all entries does not give the signed checkpoint: recorded hashes were altered")
		}
	}
	return report, nil
}

func describe(leaf []byte) string {
	text := strings.ToValidUTF8(string(leaf), "?")
	if len(text) > 120 {
		text = text[:120] + "..."
	}
	return text
}
