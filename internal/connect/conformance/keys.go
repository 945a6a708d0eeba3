package conformance

import (
	"crypto/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// keys takes a key pair through all that a rotation does with it, and back.
func (s *suite) keys(t *testing.T) {
	admitter, ok := s.Connector.(connect.Admitter)
	if !ok || s.KeyPath == "" {
		return
	}
	fresh, err := keys.Generate(s.Key, "", rand.Reader)
	require.NoError(t, err)
	old, err := keys.PairOf(s.Key)
	require.NoError(t, err)
	next, err := keys.PairOf(fresh)
	require.NoError(t, err)
	opens := func(key secret.Value, want bool, why string) {
		t.Helper()
		verdict, err := admitter.VerifyKey(s.ctx, s.Target, connect.AccountRef{Name: s.KeyAccount}, key, nil)
		require.NoError(t, err)
		assert.Equal(t, want, verdict.Accepted, "%s: %s", why, verdict.Words)
	}
	entries := func(want ...bool) {
		t.Helper()
		is, err := admitter.ReadEntries(s.ctx, s.Target, s.EntriesPath, []string{old.Line, next.Line})
		require.NoError(t, err)
		assert.Equal(t, want, is)
	}
	before, attributes := s.ReadFile(t, s.EntriesPath)
	opens(s.Key, true, "as it is")
	opens(fresh, false, "not yet let in")
	entries(true, false)
	through := s.Target
	verdict, err := admitter.VerifyKey(s.ctx, s.Target, connect.AccountRef{Name: s.KeyAccount}, s.Key, &through)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)

	admit := connect.EntryChange{Path: s.EntriesPath, Stays: old.Line, Admit: next.Line}
	for range 2 { // once more is harmless
		require.NoError(t, admitter.ChangeEntries(s.ctx, s.Target, admit))
	}
	entries(true, true)
	opens(s.Key, true, "both")
	opens(fresh, true, "both")

	holder := s.Connector.(connect.Holder)
	places := []held.Locator{{Layout: held.LayoutPEM, Part: held.PartValue}}
	private, owner := s.ReadFile(t, s.KeyPath)
	public, publicOwner := s.ReadFile(t, s.KeyPath+".pub")
	require.NoError(t, holder.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, s.Key, fresh))
	state, err := holder.ReadCopies(s.ctx, s.Target, s.KeyPath, places)
	require.NoError(t, err)
	assert.True(t, keys.Same(fresh, state.Found[0]))
	_, same := s.ReadFile(t, s.KeyPath)
	assert.Equal(t, owner, same, "owner, mode and access list are kept")
	half, same := s.ReadFile(t, s.KeyPath+".pub")
	assert.Equal(t, publicOwner, same)
	_, comment, _ := strings.Cut(strings.TrimSpace(string(public)), old.Line)
	assert.Equal(t, next.Line+comment+"\n", string(half), "a client offers what stands beside the key")
	f := s.failure(t, holder.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, s.Key, s.Key))
	assert.False(t, f.Unclear, "a key that is neither is left alone, certainly")

	f = s.failure(t, admitter.ChangeEntries(s.ctx, s.Target, connect.EntryChange{Path: s.EntriesPath, Stays: strings.Repeat("x", 9) + " AAAA", Remove: old.Line}))
	assert.Equal(t, connect.CodeGone, f.Code, "the account would be shut")
	assert.False(t, f.Unclear)
	require.NoError(t, admitter.ChangeEntries(s.ctx, s.Target, connect.EntryChange{Path: s.EntriesPath, Stays: next.Line, Remove: old.Line}))
	entries(false, true)
	opens(s.Key, false, "retired")
	opens(fresh, true, "alone")
	now, same := s.ReadFile(t, s.EntriesPath)
	assert.Equal(t, attributes, same)
	assert.Equal(t, strings.ReplaceAll(string(before), old.Line, next.Line), string(now), "options, comments and everything else are kept")

	require.NoError(t, admitter.ChangeEntries(s.ctx, s.Target, connect.EntryChange{Path: s.EntriesPath, Stays: next.Line, Admit: old.Line}))
	require.NoError(t, holder.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, fresh, s.Key))
	require.NoError(t, admitter.ChangeEntries(s.ctx, s.Target, connect.EntryChange{Path: s.EntriesPath, Stays: old.Line, Remove: next.Line}))
	back, same := s.ReadFile(t, s.EntriesPath)
	assert.Equal(t, string(before), string(back))
	assert.Equal(t, attributes, same)
	again, _ := s.ReadFile(t, s.KeyPath)
	assert.Equal(t, string(private), string(again))
	dead := s.Target
	dead.Address = s.DeadAddress
	f = s.failure(t, admitter.ChangeEntries(s.ctx, dead, admit))
	assert.False(t, f.Unclear, "nothing was sent")
	_, err = admitter.VerifyKey(s.ctx, dead, connect.AccountRef{Name: s.KeyAccount}, s.Key, nil)
	s.failure(t, err)
}
