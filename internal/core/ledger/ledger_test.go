package ledger

import (
	"crypto/rand"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

type book struct {
	stored     []Stored
	hashes     []tlog.Hash
	checkpoint string
	verifier   string
}

func newBook(t *testing.T, n int) *book {
	key, verifier, err := note.GenerateKey(rand.Reader, Origin)
	require.NoError(t, err)
	signer, err := note.NewSigner(key)
	require.NoError(t, err)
	b := &book{verifier: verifier}
	reader := tlog.HashReaderFunc(func(indexes []int64) ([]tlog.Hash, error) {
		var out []tlog.Hash
		for _, i := range indexes {
			out = append(out, b.hashes[i])
		}
		return out, nil
	})
	for i := range n {
		leaf, err := Entry{Index: int64(i), Actor: "ines", Act: fmt.Sprintf("act.%d", i), Phase: Intent}.Encode()
		require.NoError(t, err)
		add, head, err := Append(int64(i), leaf, reader)
		require.NoError(t, err)
		b.stored = append(b.stored, Stored{int64(i), leaf, add[0]})
		b.hashes = append(b.hashes, add...)
		b.checkpoint, err = SignHead(head, signer)
		require.NoError(t, err)
	}
	return b
}

func (b *book) verify(t *testing.T) Report {
	i := 0
	report, err := Verify(func() (Stored, bool, error) {
		if i >= len(b.stored) {
			return Stored{}, false, nil
		}
		i++
		return b.stored[i-1], true, nil
	}, b.checkpoint, b.verifier)
	require.NoError(t, err)
	return report
}

func TestEveryAlterationShows(t *testing.T) {
	for _, n := range []int{1, 2, 3, 7, 8, 33} {
		b := newBook(t, n)
		report := b.verify(t)
		require.True(t, report.OK(), "%v", report.Problems)
		require.Equal(t, int64(n), report.Entries)
		for i := range b.stored {
			for at := 0; at < len(b.stored[i].Leaf); at += 7 {
				b.stored[i].Leaf[at] ^= 1
				report := b.verify(t)
				require.False(t, report.OK())
				require.Equal(t, []int64{int64(i)}, report.Altered, "the altered entry is named")
				b.stored[i].Leaf[at] ^= 1
			}
		}
	}
}

func TestCleverAlterationsShowToo(t *testing.T) {
	b := newBook(t, 9)
	b.stored[4].Leaf[20] ^= 1
	b.stored[4].Hash = tlog.RecordHash(b.stored[4].Leaf)
	assert.Contains(t, b.verify(t).Problems[0], "signed checkpoint", "the hash was altered to match")

	b = newBook(t, 9)
	b.stored = append(b.stored[:3], b.stored[4:]...)
	assert.Equal(t, []int64{3}, b.verify(t).Altered, "an entry was removed")

	b = newBook(t, 9)
	b.stored = b.stored[:7]
	assert.Equal(t, []int64{7, 8}, b.verify(t).Altered, "the end was cut off")

	b = newBook(t, 9)
	b.stored[2].Leaf, b.stored[3].Leaf = b.stored[3].Leaf, b.stored[2].Leaf
	b.stored[2].Hash, b.stored[3].Hash = b.stored[3].Hash, b.stored[2].Hash
	assert.False(t, b.verify(t).OK(), "two entries changed places")

	b, other := newBook(t, 9), newBook(t, 9)
	b.checkpoint = other.checkpoint
	assert.Contains(t, b.verify(t).Problems[0], "signature", "a checkpoint of another key")
	_, err := OpenHead("nonsense", b.verifier)
	assert.Error(t, err)
}
