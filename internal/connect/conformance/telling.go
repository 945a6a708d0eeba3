package conformance

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

func (s *suite) diagnose(t *testing.T) {
	if !s.can(t, connect.ActDiagnose) || s.left(t, s.Unit.Kind == "", "nothing may be restarted") {
		return
	}
	d, err := s.Connector.Diagnose(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	assert.Equal(t, s.Unit, d.Dependent.At())
	assert.True(t, d.Dependent.Up(), d.Dependent.State)
	_, err = s.Connector.Diagnose(s.ctx, s.Target, estate.Place{Kind: s.Unit.Kind, Place: "no-such-unit.service"})
	assert.Equal(t, connect.CodeGone, s.failure(t, err).Code)
}

func (s *suite) observe(t *testing.T) {
	if !s.can(t, connect.ActObserve) || s.left(t, s.Unit.Kind == "", "there is no unit") {
		return
	}
	list, err := s.Connector.Connections(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	for _, c := range list {
		assert.Equal(t, s.Unit.Place, c.Unit, "of that one only")
	}
	list, err = s.Connector.Connections(s.ctx, s.Target, estate.Place{Kind: s.Unit.Kind, Place: "no-such-unit.service"})
	require.NoError(t, err)
	assert.Empty(t, list, "what is not there has none")
}

func (s *suite) records(t *testing.T) {
	if !s.can(t, connect.ActRecords) {
		return
	}
	now := time.Now()
	log, err := s.Connector.Records(s.ctx, s.Target, now.Add(-time.Hour))
	require.NoError(t, err)
	if log.Since.IsZero() {
		assert.Empty(t, log.Records, "what was not read tells nothing")
	}
	for _, r := range log.Records {
		assert.False(t, r.At.IsZero(), "%+v", r)
		assert.NotEmpty(t, r.Act, "%+v", r)
		assert.False(t, r.Who == "" && r.Of == "", "it tells of somebody: %+v", r)
	}
}
