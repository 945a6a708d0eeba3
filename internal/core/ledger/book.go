package ledger

import (
	"errors"
	"fmt"
	"maps"

	"golang.org/x/mod/sumdb/tlog"
)

// ErrBroken is wrapped by every error that says that what is stored is not
// what was signed. Nothing may be appended then.
var ErrBroken = errors.New("the ledger does not hold")

// Book is the end of a ledger, held in memory: its head, and the hashes of the
// complete subtrees that make it up, which is all that appending needs. What
// is stored is read once, when the book is opened, and held against the signed
// head; later appends do not depend on it. A Book is never changed: Append
// returns the next one.
type Book struct {
	head Head
	edge map[int64]tlog.Hash // by stored index
}

// NewBook begins an empty ledger.
func NewBook() *Book { return &Book{edge: map[int64]tlog.Hash{}} }

// OpenBook takes up a ledger at a signed head. hashes are the stored ones; a
// root of them that differs from the head's is ErrBroken.
func OpenBook(head Head, hashes tlog.HashReader) (*Book, error) {
	if head.Size == 0 {
		return NewBook(), nil
	}
	b := &Book{head: head, edge: map[int64]tlog.Hash{}}
	root, err := tlog.TreeHash(head.Size, tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		read, err := hashes.ReadHashes(indexes)
		if err != nil {
			return nil, err
		}
		for i, index := range indexes {
			b.edge[index] = read[i]
		}
		return read, nil
	}))
	if err != nil {
		return nil, fmt.Errorf("%w: the stored hashes cannot be read: %w", ErrBroken, err)
	}
	if root != head.Hash {
		return nil, fmt.Errorf("%w: the stored hashes do not give the signed head of %d entries", ErrBroken, head.Size)
	}
	return b, nil
}

// Head is the size and root of the ledger.
func (b *Book) Head() Head { return b.head }

// Append computes what must be stored for a new leaf, the hashes to add from
// their first index on, and the book after it.
func (b *Book) Append(leaf []byte) (add []tlog.Hash, first int64, next *Book, err error) {
	known := maps.Clone(b.edge)
	reader := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, index := range indexes {
			hash, ok := known[index]
			if !ok {
				return nil, fmt.Errorf("hash %d is not at the ledger's end", index)
			}
			out[i] = hash
		}
		return out, nil
	})
	if add, err = tlog.StoredHashes(b.head.Size, leaf, reader); err != nil {
		return nil, 0, nil, fmt.Errorf("hash entry %d: %w", b.head.Size, err)
	}
	first = tlog.StoredHashIndex(0, b.head.Size)
	for i, hash := range add {
		known[first+int64(i)] = hash
	}
	next = &Book{head: Head{Size: b.head.Size + 1}, edge: map[int64]tlog.Hash{}}
	next.head.Hash, err = tlog.TreeHash(next.head.Size, tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		out, err := reader.ReadHashes(indexes)
		for i, index := range indexes {
			if err == nil {
				next.edge[index] = out[i]
			}
		}
		return out, err
	}))
	if err != nil {
		return nil, 0, nil, fmt.Errorf("hash the tree of %d entries: %w", next.head.Size, err)
	}
	return add, first, next, nil
}
