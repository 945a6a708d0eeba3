package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/managed"
)

// managing: what a directory says about managed accounts is told without a doubt, and nothing of
// what is no managed account.
func (s *suite) managing(t *testing.T) {
	seen, err := s.Connector.Managing(s.ctx, s.Target, managed.Ask{})
	if connect.CodeOf(err) == connect.CodeCannot {
		s.failure(t, err)
		return
	}
	require.NoError(t, err)
	require.True(t, s.Connector.Describe().Can(connect.ActManaged))
	assert.NotEmpty(t, seen.Container)
	assert.NotZero(t, seen.Now)
	assert.Len(t, managed.Prerequisites(seen), 4)
	assert.Nil(t, seen.Account)
	nobody, err := s.Connector.Managing(s.ctx, s.Target, managed.Ask{Account: "CN=nobody at all,DC=nowhere", Container: "no name"})
	require.NoError(t, err, "what is not there is no failure")
	assert.Nil(t, nobody.Account)
	assert.NotEmpty(t, nobody.ContainerUnread)
	other, err := s.Connector.Managing(s.ctx, s.Target, managed.Ask{Account: seen.Container})
	require.NoError(t, err)
	assert.Nil(t, other.Account, "a container is no managed account")
}
