package ledger

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// made is a ledger as it is stored.
type made struct {
	stored     []Stored
	hashes     []tlog.Hash
	checkpoint string
	kept       []string // the signed head after each entry
	key        string
	signer     note.Signer
	book       *Book
}

func (m *made) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	var out []tlog.Hash
	for _, i := range indexes {
		if i < 0 || i >= int64(len(m.hashes)) {
			return nil, fmt.Errorf("no hash %d", i)
		}
		out = append(out, m.hashes[i])
	}
	return out, nil
}

func newMade(t *testing.T, n int) *made {
	key, verifier, err := note.GenerateKey(rand.Reader, Origin)
	require.NoError(t, err)
	m := &made{key: verifier, book: NewBook()}
	m.signer, err = note.NewSigner(key)
	require.NoError(t, err)
	for i := range n {
		m.add(t, fmt.Sprintf("act.%d", i))
	}
	return m
}

func (m *made) add(t *testing.T, act string) {
	leaf, err := Entry{Index: m.book.Head().Size, Actor: "ines", Act: act, Phase: Intent}.Encode()
	require.NoError(t, err)
	add, first, next, err := m.book.Append(leaf)
	require.NoError(t, err)
	require.Equal(t, int64(len(m.hashes)), first)
	m.stored = append(m.stored, Stored{m.book.Head().Size, leaf, add[0]})
	m.hashes = append(m.hashes, add...)
	m.book = next
	m.checkpoint, err = SignHead(next.Head(), m.signer)
	require.NoError(t, err)
	m.kept = append(m.kept, m.checkpoint)
}

// rebuild makes all stored hashes anew from the entries, as a forger would.
func (m *made) rebuild(t *testing.T) {
	book := NewBook()
	m.hashes = nil
	for i := range m.stored {
		add, _, next, err := book.Append(m.stored[i].Leaf)
		require.NoError(t, err)
		m.stored[i].Hash, book = add[0], next
		m.hashes = append(m.hashes, add...)
	}
}

func (m *made) source(earlier ...string) Source {
	i, h := 0, 0
	return Source{
		Next: func() (Stored, bool, error) {
			if i >= len(m.stored) {
				return Stored{}, false, nil
			}
			i++
			return m.stored[i-1], true, nil
		},
		Hashes: func() (int64, tlog.Hash, bool, error) {
			if h >= len(m.hashes) {
				return 0, tlog.Hash{}, false, nil
			}
			h++
			return int64(h - 1), m.hashes[h-1], true, nil
		},
		Checkpoint: m.checkpoint, VerifierKey: m.key, Earlier: earlier,
	}
}

func (m *made) verify(t *testing.T, earlier ...string) Report {
	report, err := Verify(m.source(earlier...))
	require.NoError(t, err)
	return report
}

func TestEveryAlterationShows(t *testing.T) {
	for _, n := range []int{1, 2, 3, 7, 8, 33} {
		b := newMade(t, n)
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
	for name, c := range map[string]struct {
		forge   func(t *testing.T, m *made)
		altered []int64
		words   string
	}{
		"the hash beside it altered to match": {func(_ *testing.T, m *made) {
			m.stored[4].Leaf[20] ^= 1
			m.stored[4].Hash = tlog.RecordHash(m.stored[4].Leaf)
		}, nil, "stored hash"},
		"all hashes made anew":     {func(t *testing.T, m *made) { m.stored[4].Leaf[20] ^= 1; m.rebuild(t) }, nil, "signed checkpoint"},
		"an entry removed":         {func(_ *testing.T, m *made) { m.stored = append(m.stored[:3], m.stored[4:]...) }, []int64{3}, "missing"},
		"the end cut off":          {func(_ *testing.T, m *made) { m.stored = m.stored[:7] }, []int64{7, 8}, "missing"},
		"everything emptied":       {func(_ *testing.T, m *made) { m.stored, m.hashes, m.checkpoint = nil, nil, "" }, nil, "no signed checkpoint"},
		"entries emptied":          {func(_ *testing.T, m *made) { m.stored, m.hashes = nil, nil }, []int64{0, 1, 2, 3, 4, 5, 6, 7, 8}, "missing"},
		"an inner hash altered":    {func(_ *testing.T, m *made) { m.hashes[2][0] ^= 1 }, nil, "stored hash 2 (level 1, from entry 0 on)"},
		"stored hashes emptied":    {func(_ *testing.T, m *made) { m.hashes = nil }, nil, "stored hashes 0 to"},
		"a checkpoint of another":  {func(t *testing.T, m *made) { m.checkpoint = newMade(t, 9).checkpoint }, nil, "signature"},
		"a checkpoint of nonsense": {func(_ *testing.T, m *made) { m.checkpoint = "nonsense" }, nil, "checkpoint"},
		"an older checkpoint":      {func(_ *testing.T, m *made) { m.checkpoint = m.kept[5] }, []int64{6}, "not covered"},
		"two entries changed places": {func(_ *testing.T, m *made) {
			m.stored[2].Leaf, m.stored[3].Leaf = m.stored[3].Leaf, m.stored[2].Leaf
			m.stored[2].Hash, m.stored[3].Hash = m.stored[3].Hash, m.stored[2].Hash
		}, []int64{2, 3}, "its text says"},
		// A forged index must not cost what it claims.
		"an index far away": {func(_ *testing.T, m *made) { m.stored[8].Index = 3_000_000_000 }, nil, "entries 8 to 2999999999: are missing"},
		"an index twice":    {func(_ *testing.T, m *made) { m.stored[8].Index = 2 }, []int64{2, 8}, "not in order"},
	} {
		t.Run(name, func(t *testing.T) {
			m := newMade(t, 9)
			require.True(t, m.verify(t, m.kept...).OK())
			c.forge(t, m)
			report := m.verify(t)
			require.False(t, report.OK())
			if c.altered != nil {
				assert.Equal(t, c.altered, report.Altered)
			}
			assert.LessOrEqual(t, len(report.Altered), mostNamed+1)
			assert.Contains(t, strings.Join(report.Problems, "\n"), c.words)
		})
	}
	_, err := OpenHead("nonsense", newMade(t, 1).key)
	assert.Error(t, err)
}

// A book is opened at a signed head only when what is stored gives it.
func TestABookHoldsWhatIsStoredAgainstItsHead(t *testing.T) {
	for n := 1; n <= 40; n++ {
		m := newMade(t, n)
		b, err := OpenBook(m.book.Head(), m)
		require.NoError(t, err)
		leaf := []byte("the next one")
		add, first, next, err := b.Append(leaf)
		require.NoError(t, err)
		wantAdd, wantFirst, wantNext, err := m.book.Append(leaf)
		require.NoError(t, err)
		assert.Equal(t, wantAdd, add)
		assert.Equal(t, wantFirst, first)
		assert.Equal(t, wantNext.Head(), next.Head(), "opened or held, it goes on the same")
		// Every hash that makes up the root counts.
		for i := range m.hashes {
			m.hashes[i][3] ^= 1
			if _, err := OpenBook(m.book.Head(), m); err == nil {
				// An inner hash that only proofs need: verifying tells.
				assert.False(t, m.verify(t).OK(), "size %d, hash %d", n, i)
			} else {
				assert.ErrorIs(t, err, ErrBroken)
			}
			m.hashes[i][3] ^= 1
		}
		m.hashes = m.hashes[:len(m.hashes)-1]
		if _, err := OpenBook(m.book.Head(), m); err != nil {
			assert.ErrorIs(t, err, ErrBroken)
		}
	}
}

func TestKeptCheckpoints(t *testing.T) {
	m := newMade(t, 13)
	assert.Equal(t, []int64{1, 4, 13}, m.verify(t, m.kept[0], m.kept[3], m.kept[12]).Earlier)
	for from := int64(1); from <= 13; from++ {
		older, err := OpenHead(m.kept[from-1], m.key)
		require.NoError(t, err)
		proof, err := Prove(from, 13, m)
		require.NoError(t, err)
		require.NoError(t, CheckProof(older, m.book.Head(), proof))
		older.Hash[0] ^= 1
		require.ErrorIs(t, CheckProof(older, m.book.Head(), proof), ErrBroken)
	}
	_, err := Prove(14, 13, m)
	require.Error(t, err)

	// Rewritten by somebody who has the key: only what was kept elsewhere tells.
	before := m.kept
	m.stored[5].Leaf = []byte(strings.Replace(string(m.stored[5].Leaf), "ines", "odil", 1))
	m.rebuild(t)
	book := NewBook()
	for _, s := range m.stored {
		_, _, book, err = book.Append(s.Leaf)
		require.NoError(t, err)
	}
	m.checkpoint, err = SignHead(book.Head(), m.signer)
	require.NoError(t, err)
	assert.True(t, m.verify(t).OK())
	assert.True(t, m.verify(t, before[4]).OK(), "the part before it is the same")
	report := m.verify(t, before[8])
	assert.False(t, report.OK())
	assert.Contains(t, report.Problems[0], "an entry before was altered")
	m.stored = m.stored[:3]
	m.rebuild(t)
	assert.Contains(t, strings.Join(m.verify(t, before[8]).Problems, "\n"), "rolled back")
}

func TestAnExportIsVerifiedWithoutAnything(t *testing.T) {
	m := newMade(t, 20)
	write := func() string {
		header, err := json.Marshal(ExportHeader{Format: ExportFormat, Origin: Origin, Verifier: m.key, Checkpoint: m.checkpoint})
		require.NoError(t, err)
		out := string(header) + "\n"
		for _, s := range m.stored {
			out += string(ExportLine(s.Leaf))
		}
		return out
	}
	check := func(text string) (Report, error) {
		header, source, err := ReadExport(strings.NewReader(text))
		if err != nil {
			return Report{}, err
		}
		assert.Equal(t, m.key, header.Verifier)
		source.VerifierKey, source.Earlier = m.key, m.kept[:3]
		return Verify(source)
	}
	whole := write()
	report, err := check(whole)
	require.NoError(t, err)
	assert.True(t, report.OK(), "%v", report.Problems)
	// Another program needs SHA-256 and the RFC only.
	lines := strings.Split(strings.TrimSuffix(whole, "\n"), "\n")[1:]
	assert.Equal(t, m.book.Head().Hash, tlog.Hash(rfc6962(lines)))

	for at := strings.Index(whole, "\n") + 1; at < len(whole); at += 11 {
		altered := []byte(whole)
		altered[at] ^= 1
		report, err := check(string(altered))
		assert.True(t, err != nil || !report.OK(), "byte %d", at)
	}
	m.stored[7].Leaf = []byte("two\nlines \xff")
	report, err = check(write())
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, report.Altered)
	for _, nonsense := range []string{"", "x", `{"format":"other"}`, whole[:100]} {
		_, err := check(nonsense)
		assert.Error(t, err)
	}
}

// rfc6962 is the tree hash as section 2.1 writes it down, which shares nothing
// with the package that the product uses.
func rfc6962(leaves []string) [32]byte {
	if len(leaves) == 1 {
		return sha256.Sum256([]byte("\x00" + leaves[0]))
	}
	k := 1
	for k*2 < len(leaves) {
		k *= 2
	}
	left, right := rfc6962(leaves[:k]), rfc6962(leaves[k:])
	return sha256.Sum256(append(append([]byte{1}, left[:]...), right[:]...))
}
