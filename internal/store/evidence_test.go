package store

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"mossledger.example/moss/internal/core/ledger"
)

// rootOf follows an audit path from a leaf to the head, as RFC 6962 has it (sections 2.1
// and 2.1.1), in code that shares nothing with ours: what an auditor would write.
func rootOf(leaf []byte, index, size int64, path [][]byte) ([]byte, error) {
	node := sha256.Sum256(append([]byte{0}, leaf...))
	hash, last := node[:], size-1
	for _, sibling := range path {
		if last == 0 {
			return nil, fmt.Errorf("the path is too long")
		}
		var both []byte
		if index%2 == 1 || index == last {
			both = append(append([]byte{1}, sibling...), hash...)
			for index%2 == 0 && index != 0 {
				index, last = index>>1, last>>1
			}
		} else {
			both = append(append([]byte{1}, hash...), sibling...)
		}
		sum := sha256.Sum256(both)
		hash, index, last = sum[:], index>>1, last>>1
	}
	if last != 0 {
		return nil, fmt.Errorf("the path is too short")
	}
	return hash, nil
}

// Each entry about something is proven against the signed head by a checker that we did
// not build on our own code; and nothing that was altered is.
func TestLedgerEvidence(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	for i := range 200 {
		require.NoError(t, s.Record(ctx, ledger.Entry{Actor: "ines", Act: "test", Phase: ledger.Outcome, Ref: fmt.Sprintf("rotation/%d", i%7), Detail: `<script>"ø"`}))
		if i%23 != 0 {
			continue
		}
		evidence, err := s.LedgerEvidence(ctx, "rotation/3")
		require.NoError(t, err)
		verifier, err := note.NewVerifier(evidence.Verifier)
		require.NoError(t, err)
		signed, err := note.Open([]byte(evidence.Checkpoint), note.VerifierList(verifier))
		require.NoError(t, err, "the checkpoint is signed with that key")
		lines := strings.Split(signed.Text, "\n")
		size, err := strconv.ParseInt(lines[1], 10, 64)
		require.NoError(t, err)
		require.Equal(t, evidence.Size, size)
		head, err := base64.StdEncoding.DecodeString(lines[2])
		require.NoError(t, err)
		require.Len(t, evidence.Entries, (i+4)/7)
		for _, e := range evidence.Entries {
			var path [][]byte
			var hashes []tlog.Hash
			for _, text := range e.Hashes {
				raw, err := base64.StdEncoding.DecodeString(text)
				require.NoError(t, err)
				path = append(path, raw)
				hashes = append(hashes, tlog.Hash(raw))
			}
			root, err := rootOf([]byte(e.Line), e.Index, size, path)
			require.NoError(t, err)
			require.Equal(t, head, root)
			ours := ledger.Head{Size: size, Hash: tlog.Hash(head)}
			require.NoError(t, ledger.CheckEntry([]byte(e.Line), e.Index, ours, hashes))
			require.ErrorIs(t, ledger.CheckEntry([]byte(strings.Replace(e.Line, "ines", "eve!", 1)), e.Index, ours, hashes), ledger.ErrBroken)
			other, err := rootOf([]byte(strings.Replace(e.Line, "ines", "eve!", 1)), e.Index, size, path)
			require.NoError(t, err)
			require.NotEqual(t, head, other)
		}
	}
	none, err := s.LedgerEvidence(ctx, "rotation/99")
	require.NoError(t, err)
	assert.Empty(t, none.Entries)
	_, err = ledger.ProveEntry(5, 5, nil)
	require.Error(t, err)
}
