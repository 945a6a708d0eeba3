package conformance

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

func (s *suite) restart(t *testing.T) {
	if !s.can(t, connect.ActRestart) || s.left(t, s.Unit.Kind == "", "nothing may be restarted") {
		return
	}
	before, err := s.Connector.UnitState(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	require.Equal(t, "active", before.Active, before.Words)
	words, err := s.Connector.Restart(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	assert.NotEmpty(t, words)
	after, err := s.Connector.UnitState(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	assert.Equal(t, "active", after.Active)
	assert.NotEqual(t, before.Invocation, after.Invocation, "a new invocation proves the restart")
	for _, bad := range []string{"no-such-unit.service", "", "a; reboot", "--now", "../x.service", strings.Repeat("x", 300) + ".service"} {
		for _, act := range []func(context.Context, connect.Target, estate.Place) (string, error){s.Connector.Restart, s.Connector.Reload, s.Connector.Stop} {
			_, err := act(s.ctx, s.Target, estate.Place{Kind: s.Unit.Kind, Place: bad})
			assert.False(t, s.failure(t, err).Unclear, "%q", bad)
		}
	}
	s.reload(t)
	s.stop(t)
}

// reload: what can reads its files again, any number of times, and stays up; of what cannot it
// is said so.
func (s *suite) reload(t *testing.T) {
	if !s.can(t, connect.ActReload) || s.left(t, s.Reloads.Kind == "", "nothing reads its files again") {
		return
	}
	_, err := s.Connector.Reload(s.ctx, s.Target, s.Unit)
	assert.False(t, s.failure(t, err).Unclear)
	before, err := s.Connector.UnitState(s.ctx, s.Target, s.Reloads)
	require.NoError(t, err)
	require.Equal(t, "active", before.Active, before.Words)
	for range 2 {
		words, err := s.Connector.Reload(s.ctx, s.Target, s.Reloads)
		require.NoError(t, err)
		assert.NotEmpty(t, words)
	}
	after, err := s.Connector.UnitState(s.ctx, s.Target, s.Reloads)
	require.NoError(t, err)
	assert.Equal(t, before, after, "it was not restarted")
	reloads := false
	_, err = s.Connector.Visit(s.ctx, s.Target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
		for _, d := range b.Dependents {
			reloads = reloads || d.At() == s.Reloads && d.Reloads
			assert.False(t, d.At() == s.Unit && d.Reloads)
		}
		return nil
	})
	require.NoError(t, err)
	assert.True(t, reloads, "a survey tells that it can")
	for _, line := range s.Connector.Rehearse(s.ctx, s.Target, []connect.Intention{{Restart: s.Reloads, Reload: true}}) {
		assert.Equal(t, connect.CheckOK, line.Result, "%+v", line)
	}
}

// stop: what nothing needs is stopped, stays so, and a restart brings it up; what others
// need is left running.
func (s *suite) stop(t *testing.T) {
	if len(s.Along) > 0 {
		_, err := s.Connector.Stop(s.ctx, s.Target, s.Unit)
		f := s.failure(t, err)
		assert.False(t, f.Unclear)
		assert.Contains(t, f.Words, "would go down with it")
		state, err := s.Connector.UnitState(s.ctx, s.Target, s.Unit)
		require.NoError(t, err)
		assert.Equal(t, "active", state.Active)
		return
	}
	for range 2 { // again is harmless
		words, err := s.Connector.Stop(s.ctx, s.Target, s.Unit)
		require.NoError(t, err)
		assert.NotEmpty(t, words)
		state, err := s.Connector.UnitState(s.ctx, s.Target, s.Unit)
		require.NoError(t, err)
		assert.Equal(t, "inactive", state.Active)
	}
	_, err := s.Connector.Restart(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	state, err := s.Connector.UnitState(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	assert.Equal(t, "active", state.Active)
}
