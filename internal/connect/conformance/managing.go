package conformance

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
)

// host: one that can be restarted as a whole tells since when it is up, and the same twice; of others
// that is asked in vain.
func (s *suite) host(t *testing.T) {
	whole := estate.Place{Kind: estate.DependentHost, Place: s.Target.Name}
	state, err := s.Connector.UnitState(s.ctx, s.Target, whole)
	if !s.Connector.Describe().Can(connect.ActRestartHost) {
		require.Error(t, err)
		return
	}
	require.NoError(t, err)
	assert.Equal(t, "active", state.Active)
	since, err := time.Parse(time.RFC3339, strings.TrimPrefix(state.Invocation, connect.UpSince))
	require.NoError(t, err, state.Invocation)
	assert.True(t, since.Before(time.Now().Add(time.Minute)))
	again, err := s.Connector.UnitState(s.ctx, s.Target, whole)
	require.NoError(t, err)
	assert.Equal(t, state.Invocation, again.Invocation)
	lines := s.Connector.Rehearse(s.ctx, s.Target, []connect.Intention{{Restart: whole}})
	require.NotEmpty(t, lines)
	assert.NotEqual(t, connect.CheckFailed, lines[len(lines)-1].Result, lines[len(lines)-1].Words)
}

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
