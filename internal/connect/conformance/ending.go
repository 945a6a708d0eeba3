package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/secret"
)

// ends: what takes access away is foretold, does it, and is taken back; what is not offered
// is refused for certain; of whom nobody knows nothing is done; without signing in nothing is
// told.
func (s *suite) ends(t *testing.T) {
	if !s.can(t, connect.ActEnd) {
		return
	}
	change := expiry.EndChange{Name: s.Account, ID: s.ref().StableID, DN: s.ref().DN}
	strange := change
	strange.Act, strange.Of = expiry.Disable, expiry.Certificate
	_, err := s.Connector.Ending(s.ctx, s.Target, strange)
	assert.Equal(t, connect.CodeCannot, s.failure(t, err).Code)
	f := s.failure(t, s.Connector.End(s.ctx, s.Target, strange, false))
	assert.Equal(t, connect.CodeCannot, f.Code)
	assert.False(t, f.Unclear)
	assert.NotEmpty(t, f.Next)
	for _, p := range s.Connector.Describe().Ends {
		c := change
		c.Act, c.Of = p.Act, p.Of
		if c.Act == expiry.SetEnd || c.Act == expiry.Extend {
			c.End = expiry.End{State: expiry.Never}
		}
		nobody := c
		nobody.Name, nobody.ID, nobody.DN = "nobody-of-this-name", "id-of-nobody", ""
		if told, err := s.Connector.Ending(s.ctx, s.Target, nobody); err == nil {
			assert.True(t, c.Act == expiry.Delete && told.There, "%s of nobody", p.Act)
		} else {
			assert.False(t, s.failure(t, err).Unclear, "it was only asked")
		}
		if c.Of == expiry.Key || !p.Act.Takes() || p.Act == expiry.Delete {
			continue
		}
		s.shuts(t, c)
	}
	target := s.Target
	target.Steward.Password, target.Steward.PrivateKey = secret.New("Not-The-Steward-99"), secret.Value{}
	change.Act, change.Of = s.Connector.Describe().Ends[0].Act, s.Connector.Describe().Ends[0].Of
	change.End = expiry.End{State: expiry.Never}
	_, err = s.Connector.Ending(s.ctx, target, change)
	assert.False(t, s.failure(t, err).Unclear)
	assert.False(t, s.failure(t, s.Connector.End(s.ctx, target, change, false)).Unclear, "nothing was begun")
}

// shuts takes access away and gives it back.
func (s *suite) shuts(t *testing.T, c expiry.EndChange) {
	told, err := s.Connector.Ending(s.ctx, s.Target, c)
	if connect.CodeOf(err) == connect.CodeCannot {
		return // it says why, of this account
	}
	require.NoError(t, err, c.Words())
	require.False(t, told.There, c.Words())
	require.NotEmpty(t, told.Words)
	require.NotEmpty(t, told.Sights, "what holders see is told")
	c.Former = told.Former
	signs := func(yes bool) {
		if !s.can(t, connect.ActVerify) {
			return
		}
		verdict, err := s.Connector.Verify(s.ctx, s.Target, s.ref(), s.Password)
		require.NoError(t, err, c.Words())
		assert.Equal(t, yes, verdict.Accepted, "%s: %+v", c.Words(), verdict)
	}
	signs(true)
	for range 2 { // once more is harmless
		require.NoError(t, s.Connector.End(s.ctx, s.Target, c, false), c.Words())
	}
	after, err := s.Connector.Ending(s.ctx, s.Target, c)
	require.NoError(t, err)
	assert.True(t, after.There && after.InForce, "%s: %+v", c.Words(), after)
	signs(false)
	for range 2 {
		require.NoError(t, s.Connector.End(s.ctx, s.Target, c, true), c.Words())
	}
	signs(true)
}
