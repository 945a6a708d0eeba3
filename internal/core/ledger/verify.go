package ledger

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/mod/sumdb/tlog"
)

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
	Earlier  []int64  `json:"earlier"`  // sizes of the earlier checkpoints that were held against it and hold
}

// OK reports whether the ledger holds.
func (r Report) OK() bool { return len(r.Problems) == 0 }

// mostNamed bounds how many entries one problem names, so that a forged index
// costs nothing.
const mostNamed = 100

func (r *Report) problem(format string, args ...any) {
	r.Problems = append(r.Problems, fmt.Sprintf(format, args...))
}

func (r *Report) bad(index int64, format string, args ...any) {
	if !slices.Contains(r.Altered, index) {
		r.Altered = append(r.Altered, index)
	}
	r.problem("entry %d: %s", index, fmt.Sprintf(format, args...))
}

func (r *Report) missing(from, to int64) {
	for i := from; i < to && i < from+mostNamed; i++ {
		r.Altered = append(r.Altered, i)
	}
	if to-from == 1 {
		r.problem("entry %d: is missing", from)
	} else {
		r.problem("entries %d to %d: are missing", from, to-1)
	}
}

// Source is what a verification reads.
type Source struct {
	// Next returns the stored entries in the order of their indexes, and
	// ok=false at the end.
	Next func() (stored Stored, ok bool, err error)
	// Hashes returns all stored hashes in order, and ok=false at the end; nil
	// where only entries are kept.
	Hashes func() (index int64, hash tlog.Hash, ok bool, err error)
	// Checkpoint is the latest signed head, Earlier are some that were kept.
	Checkpoint string
	Earlier    []string
	// VerifierKey is the public key, from a source that is trusted.
	VerifierKey string
}

// tree holds the hashes of all complete subtrees of the entries read so far.
type tree struct{ hashes []tlog.Hash }

func (t *tree) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, index := range indexes {
		if index >= int64(len(t.hashes)) {
			return nil, fmt.Errorf("hash %d is missing", index)
		}
		out[i] = t.hashes[index]
	}
	return out, nil
}

// Verify recomputes everything from the text of the entries and holds it
// against the recorded hashes, the stored tree, the signed checkpoint and
// earlier checkpoints. An error says that something could not be read.
func Verify(source Source) (Report, error) {
	report := Report{Problems: []string{}, Altered: []int64{}, Earlier: []int64{}}
	t := &tree{}
	size, whole, err := report.entries(source, t)
	if err != nil {
		return report, err
	}
	if whole && source.Hashes != nil {
		if err := report.storedHashes(source, t); err != nil {
			return report, err
		}
	}
	want, headErr := OpenHead(source.Checkpoint, source.VerifierKey)
	switch {
	case source.Checkpoint == "" && size == 0:
		report.problem("there is no signed checkpoint and no entry: a ledger has at least the entry of its beginning")
	case headErr != nil:
		report.problem("%v", headErr)
	case size < want.Size:
		report.missing(size, want.Size)
		report.problem("the signed checkpoint covers %d entries", want.Size)
	case size > want.Size:
		report.bad(want.Size, "is not covered by the signed checkpoint, which ends at %d entries", want.Size)
	}
	if !whole || size == 0 {
		return report, nil
	}
	root, err := tlog.TreeHash(size, t)
	if err != nil {
		return report, err
	}
	report.Head = root.String()
	if headErr == nil && size == want.Size && root != want.Hash {
		report.problem("the tree of all entries does not give the signed checkpoint: entries were altered together with their recorded hashes")
	}
	return report, report.earlier(source, t, size)
}

// entries reads all entries into the tree. whole is false when one is missing
// in between: there is no tree then.
func (r *Report) entries(source Source, t *tree) (size int64, whole bool, err error) {
	whole = true
	for {
		stored, ok, err := source.Next()
		if err != nil || !ok {
			r.Entries = size
			return size, whole, err
		}
		if stored.Index < size {
			r.bad(stored.Index, "its index is not in order")
			whole = false
			continue
		}
		if stored.Index > size {
			r.missing(size, stored.Index)
			whole, size = false, stored.Index
		}
		var entry Entry
		switch {
		case tlog.RecordHash(stored.Leaf) != stored.Hash:
			r.bad(stored.Index, "its text does not give its recorded hash: %s", describe(stored.Leaf))
		case json.Unmarshal(stored.Leaf, &entry) != nil:
			r.bad(stored.Index, "its text is not an entry: %s", describe(stored.Leaf))
		case entry.Index != stored.Index:
			r.bad(stored.Index, "its text says it is entry %d", entry.Index)
		}
		if whole {
			add, err := tlog.StoredHashes(size, stored.Leaf, t)
			if err != nil {
				return size, false, err
			}
			t.hashes = append(t.hashes, add...)
		}
		size++
	}
}

// storedHashes holds every stored hash against the recomputed one.
func (r *Report) storedHashes(source Source, t *tree) error {
	var next int64
	wrong := 0
	for {
		index, hash, ok, err := source.Hashes()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		if index != next || index >= int64(len(t.hashes)) || hash != t.hashes[index] {
			if wrong++; wrong <= mostNamed {
				level, entry := 0, int64(0)
				if index >= 0 && index < int64(len(t.hashes)) {
					level, entry = tlog.SplitStoredHashIndex(index)
				}
				r.problem("stored hash %d (level %d, from entry %d on) is not that of the entries", index, level, entry<<level)
			}
		}
		next = index + 1
	}
	if next < int64(len(t.hashes)) {
		r.problem("stored hashes %d to %d are missing", next, len(t.hashes)-1)
	}
	if wrong > mostNamed {
		r.problem("%d further stored hashes are not those of the entries", wrong-mostNamed)
	}
	return nil
}

// earlier holds checkpoints that were kept elsewhere against the tree.
func (r *Report) earlier(source Source, t *tree, size int64) error {
	for i, checkpoint := range source.Earlier {
		head, err := OpenHead(checkpoint, source.VerifierKey)
		if err != nil {
			r.problem("kept checkpoint %d: %v", i+1, err)
			continue
		}
		if head.Size > size {
			r.problem("kept checkpoint %d covers %d entries, here are only %d: the ledger was rolled back", i+1, head.Size, size)
			continue
		}
		if head.Size > 0 {
			root, err := tlog.TreeHash(head.Size, t)
			if err != nil {
				return err
			}
			if root != head.Hash {
				r.problem("kept checkpoint %d: the first %d entries are not the ones that it covers: an entry before was altered", i+1, head.Size)
				continue
			}
		}
		r.Earlier = append(r.Earlier, head.Size)
	}
	return nil
}

// Prove makes the proof that the tree of the newer size begins with the tree of
// the older one (RFC 6962, section 2.1.2). hashes are the stored ones.
func Prove(older, newer int64, hashes tlog.HashReader) ([]tlog.Hash, error) {
	if older < 1 || older > newer {
		return nil, fmt.Errorf("there is no proof from %d to %d entries", older, newer)
	}
	return tlog.ProveTree(newer, older, hashes)
}

// CheckProof holds a proof against two heads. It needs nothing of the ledger.
func CheckProof(older, newer Head, proof []tlog.Hash) error {
	switch {
	case older.Size > newer.Size:
		return fmt.Errorf("%w: it has %d entries, fewer than the %d of the checkpoint that was kept: it was rolled back", ErrBroken, newer.Size, older.Size)
	case older.Size == newer.Size && older.Hash != newer.Hash:
		return fmt.Errorf("%w: two different ledgers of %d entries were signed", ErrBroken, newer.Size)
	case older.Size == newer.Size, older.Size == 0:
		return nil
	}
	if err := tlog.CheckTree(proof, newer.Size, newer.Hash, older.Size, older.Hash); err != nil {
		return fmt.Errorf("%w: its first %d entries are not those of the checkpoint that was kept", ErrBroken, older.Size)
	}
	return nil
}

// ParseHashes reads hashes from their text form.
func ParseHashes(texts []string) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(texts))
	for i, text := range texts {
		hash, err := tlog.ParseHash(text)
		if err != nil {
			return nil, errors.New("a hash of the proof cannot be read")
		}
		out[i] = hash
	}
	return out, nil
}

func describe(leaf []byte) string {
	text := strings.ToValidUTF8(string(leaf), "?")
	if len(text) > 120 {
		text = text[:120] + "..."
	}
	return text
}

// ProveEntry makes the proof that an entry stands at an index of the tree of a size
// (RFC 6962, section 2.1.1). hashes are the stored ones.
func ProveEntry(index, size int64, hashes tlog.HashReader) ([]tlog.Hash, error) {
	if index < 0 || index >= size {
		return nil, fmt.Errorf("there is no entry %d among %d", index, size)
	}
	return tlog.ProveRecord(size, index, hashes)
}

// CheckEntry holds the proof of an entry against a head. It needs nothing of the ledger.
func CheckEntry(leaf []byte, index int64, head Head, proof []tlog.Hash) error {
	if err := tlog.CheckRecord(proof, head.Size, head.Hash, index, tlog.RecordHash(leaf)); err != nil {
		return fmt.Errorf("%w: entry %d is not in the ledger of the checkpoint as it stands here", ErrBroken, index)
	}
	return nil
}
