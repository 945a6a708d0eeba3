package conformance

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// turns: two accounts that take turns, there and back.
func (s *suite) turns(t *testing.T) {
	if !s.Connector.Describe().Can(connect.ActTurns) {
		can, why, err := s.Connector.Alternates(s.ctx, s.Target, connect.Point{Account: s.ref(), Next: s.ref()})
		require.NoError(t, err)
		assert.False(t, can)
		assert.NotEmpty(t, why)
		return
	}
	if s.left(t, s.Twin == "", "no account takes turns with it") {
		return
	}
	read := func(resting ...string) (was, next estate.Account) {
		_, err := s.Connector.Visit(s.ctx, s.Target, connect.VisitRequest{FingerprintKey: secret.New("key"), Resting: resting}, func(b connect.Batch) error {
			for _, a := range b.Accounts {
				switch a.Name {
				case s.Account:
					was = a
				case s.Twin:
					next = a
				}
			}
			return nil
		})
		require.NoError(t, err)
		return was, next
	}
	_, twin := read()
	require.NotEmpty(t, twin.StableID, s.Twin)
	there := connect.Point{Account: s.ref(), Next: connect.AccountRef{StableID: twin.StableID, Name: twin.Name, DN: twin.DN}}
	can, why, err := s.Connector.Alternates(s.ctx, s.Target, there)
	require.NoError(t, err)
	require.True(t, can, why)
	for _, line := range s.Connector.Rehearse(s.ctx, s.Target, []connect.Intention{{Change: &there.Next, Turn: &there.Account}}) {
		assert.NotEqual(t, connect.CheckFailed, line.Result, "%+v", line)
	}
	values := connect.Values{Old: s.Password, New: secret.New(newValue)}
	for _, c := range []struct {
		want     connect.Accepted
		old, new connect.Answer
	}{
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes},
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes}, // once more is harmless
		{connect.AcceptOld, connect.AnswerYes, connect.AnswerNo},
		{connect.AcceptBoth, connect.AnswerYes, connect.AnswerYes},
		{connect.AcceptNew, connect.AnswerNo, connect.AnswerYes},
		{connect.AcceptNew, connect.AnswerNo, connect.AnswerYes},
	} {
		require.NoError(t, s.Connector.Accept(s.ctx, s.Target, there, values, c.want), "%s", c.want)
		is, err := s.Connector.Probe(s.ctx, s.Target, there, values)
		require.NoError(t, err)
		assert.Equal(t, []connect.Answer{c.old, c.new}, []connect.Answer{is.Old, is.New}, "%s: %s", c.want, is.Words)
	}
	rests, works := read(there.Account.StableID)
	assert.Equal(t, there.Account.StableID, rests.StableID, "one that rests is not gone")
	assert.Equal(t, estate.No, rests.Enabled)
	assert.Equal(t, estate.Yes, works.Enabled)
	assert.ElementsMatch(t, rests.Groups, works.Groups, "in step")
	verdict, err := s.Connector.Verify(s.ctx, s.Target, there.Account, s.Password)
	require.NoError(t, err)
	assert.True(t, verdict.Rests(), "%+v", verdict)
	// And the other way round, with a value of its own.
	back := connect.Point{Account: there.Next, Next: there.Account}
	values = connect.Values{Old: values.New, New: s.Password}
	for _, want := range []connect.Accepted{connect.AcceptBoth, connect.AcceptNew} {
		require.NoError(t, s.Connector.Accept(s.ctx, s.Target, back, values, want), "%s", want)
	}
	is, err := s.Connector.Probe(s.ctx, s.Target, back, values)
	require.NoError(t, err)
	assert.Equal(t, []connect.Answer{connect.AnswerNo, connect.AnswerYes}, []connect.Answer{is.Old, is.New}, is.Words)
	// An account that is gone is told, and nothing is changed.
	gone := connect.Point{Account: there.Account, Next: connect.AccountRef{StableID: "oid:1", Name: "nobody-of-that-name"}}
	f := s.failure(t, s.Connector.Accept(s.ctx, s.Target, gone, values, connect.AcceptBoth))
	assert.False(t, f.Unclear)
	require.NoError(t, s.Connector.Accept(s.ctx, s.Target, there, connect.Values{Old: s.Password, New: secret.New(newValue)}, connect.AcceptBoth), "as before")
}
