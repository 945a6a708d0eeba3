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
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// keys takes a key pair through all that a rotation does with it, and back.
func (s *suite) keys(t *testing.T) {
	if !s.can(t, connect.ActEntries) || s.left(t, s.KeyPath == "", "no key opens an account") {
		return
	}
	c, point := s.Connector, connect.Point{Account: connect.AccountRef{Name: s.KeyAccount}, Path: s.EntriesPath}
	fresh, err := keys.Generate(s.Key, "", rand.Reader)
	require.NoError(t, err)
	old, err := keys.PairOf(s.Key)
	require.NoError(t, err)
	next, err := keys.PairOf(fresh)
	require.NoError(t, err)
	opens := func(key secret.Value, want bool, why string) {
		t.Helper()
		verdict, err := c.VerifyKey(s.ctx, s.Target, connect.AccountRef{Name: s.KeyAccount}, key, nil)
		require.NoError(t, err)
		assert.Equal(t, want, verdict.Accepted, "%s: %s", why, verdict.Words)
	}
	entries := func(want ...bool) {
		t.Helper()
		is, err := c.Probe(s.ctx, s.Target, point, connect.Values{Old: secret.New(old.Line), New: secret.New(next.Line)})
		require.NoError(t, err)
		assert.Equal(t, want, []bool{is.Old == connect.AnswerYes, is.New == connect.AnswerYes})
	}
	before, attributes := s.ReadFile(t, s.EntriesPath)
	opens(s.Key, true, "as it is")
	opens(fresh, false, "not yet let in")
	entries(true, false)
	through := s.Target
	verdict, err := c.VerifyKey(s.ctx, s.Target, connect.AccountRef{Name: s.KeyAccount}, s.Key, &through)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)

	accept := func(target connect.Target, want connect.Accepted) error {
		return c.Accept(s.ctx, target, point, connect.Values{Old: secret.New(old.Line), New: secret.New(next.Line)}, want)
	}
	can, why, err := c.Overlaps(s.ctx, s.Target, point)
	require.NoError(t, err)
	assert.True(t, can, why)
	for range 2 { // once more is harmless
		require.NoError(t, accept(s.Target, connect.AcceptBoth))
	}
	entries(true, true)
	opens(s.Key, true, "both")
	opens(fresh, true, "both")

	places := []held.Locator{{Layout: layout.PEM, Part: held.PartValue}}
	private, owner := s.ReadFile(t, s.KeyPath)
	public, publicOwner := s.ReadFile(t, s.KeyPath+".pub")
	require.NoError(t, c.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, s.Key, fresh))
	state, err := c.ReadCopies(s.ctx, s.Target, s.KeyPath, places)
	require.NoError(t, err)
	assert.True(t, keys.Same(fresh, state.Found[0]))
	_, same := s.ReadFile(t, s.KeyPath)
	assert.Equal(t, owner, same, "owner, mode and access list are kept")
	half, same := s.ReadFile(t, s.KeyPath+".pub")
	assert.Equal(t, publicOwner, same)
	_, comment, _ := strings.Cut(strings.TrimSpace(string(public)), old.Line)
	assert.Equal(t, next.Line+comment+"\n", string(half), "a client offers what stands beside the key")
	f := s.failure(t, c.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, s.Key, s.Key))
	assert.False(t, f.Unclear, "a key that is neither is left alone, certainly")

	f = s.failure(t, c.Accept(s.ctx, s.Target, point, connect.Values{Old: secret.New(old.Line), New: secret.New(strings.Repeat("x", 9) + " AAAA")}, connect.AcceptNew))
	assert.Equal(t, connect.CodeGone, f.Code, "the account would be shut")
	assert.False(t, f.Unclear)
	require.NoError(t, accept(s.Target, connect.AcceptNew))
	entries(false, true)
	opens(s.Key, false, "retired")
	opens(fresh, true, "alone")
	now, same := s.ReadFile(t, s.EntriesPath)
	assert.Equal(t, attributes, same)
	assert.Equal(t, strings.ReplaceAll(string(before), old.Line, next.Line), string(now), "options, comments and everything else are kept")

	require.NoError(t, accept(s.Target, connect.AcceptBoth))
	require.NoError(t, c.ReplaceCopies(s.ctx, s.Target, s.KeyPath, places, fresh, s.Key))
	require.NoError(t, accept(s.Target, connect.AcceptOld))
	back, same := s.ReadFile(t, s.EntriesPath)
	assert.Equal(t, string(before), string(back))
	assert.Equal(t, attributes, same)
	again, _ := s.ReadFile(t, s.KeyPath)
	assert.Equal(t, string(private), string(again))
	dead := s.Target
	dead.Address = s.DeadAddress
	f = s.failure(t, accept(dead, connect.AcceptBoth))
	assert.False(t, f.Unclear, "nothing was sent")
	_, err = c.VerifyKey(s.ctx, dead, connect.AccountRef{Name: s.KeyAccount}, s.Key, nil)
	s.failure(t, err)
}
