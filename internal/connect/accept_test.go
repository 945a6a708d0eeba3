package connect_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

// says is a system that says the same of each value.
type says map[string]connect.Verdict

func (s says) Verify(_ context.Context, _ connect.Target, _ connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	return s[value.RevealString()], nil
}

// What probing may conclude from what a system says of the old and the new value:
// every pair of verdicts. "Neither" is a strong word, for it means that somebody else
// set another one: only two refusals of the values themselves say so.
func TestProbePassword(t *testing.T) {
	yes, wrong := connect.Verdict{Accepted: true}, connect.Verdict{Code: connect.VerdictWrong, Words: "no"}
	verdicts := map[string]struct {
		verdict connect.Verdict
		answer  connect.Answer // of the value; "" when nobody can tell
	}{
		"accepted":    {yes, connect.AnswerYes},
		"wrong":       {wrong, connect.AnswerNo},
		"expired":     {connect.Verdict{Code: connect.VerdictExpired}, connect.AnswerYes},
		"must change": {connect.Verdict{Code: connect.VerdictMustChange}, connect.AnswerYes},
		"locked":      {connect.Verdict{Code: connect.VerdictLocked, Words: "locked out"}, ""},
		"disabled":    {connect.Verdict{Code: connect.VerdictDisabled}, ""},
		"ended":       {connect.Verdict{Code: connect.VerdictEnded}, ""},
		"a new word":  {connect.Verdict{Code: "asleep"}, ""},
	}
	for oldName, older := range verdicts {
		for newName, newer := range verdicts {
			is, err := connect.ProbePassword(t.Context(), says{"old": older.verdict, "new": newer.verdict}, connect.Target{Name: "dir"}, connect.Point{}, connect.Values{Old: secret.New("old"), New: secret.New("new")})
			if older.answer == "" || newer.answer == "" {
				require.Error(t, err, "old %s, new %s", oldName, newName)
				assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err))
				assert.Equal(t, connect.Probed{}, is, "nothing is said")
				continue
			}
			require.NoError(t, err)
			assert.Equal(t, [2]connect.Answer{older.answer, newer.answer}, [2]connect.Answer{is.Old, is.New}, "old %s, new %s", oldName, newName)
		}
	}
}

// Of an account that nobody may sign in as, a ticket for one value says that the other one
// gets none, also where the other one by itself says nothing; without a ticket nothing is
// said.
func TestProbeByTicket(t *testing.T) {
	ticket, blind := connect.Verdict{Accepted: true, Ticket: true, Words: "a ticket was given"}, connect.Verdict{Code: "asleep"}
	for name, c := range map[string]struct {
		older, newer connect.Verdict
		old, new     connect.Answer
	}{
		"the new one":     {blind, ticket, connect.AnswerNo, connect.AnswerYes},
		"the old one":     {ticket, blind, connect.AnswerYes, connect.AnswerNo},
		"neither":         {blind, blind, "", ""},
		"not by a ticket": {connect.Verdict{Accepted: true}, blind, "", ""},
	} {
		is, err := connect.ProbePassword(t.Context(), says{"old": c.older, "new": c.newer}, connect.Target{Name: "dir"}, connect.Point{}, connect.Values{Old: secret.New("old"), New: secret.New("new")})
		assert.Equal(t, [2]connect.Answer{c.old, c.new}, [2]connect.Answer{is.Old, is.New}, name)
		if c.old == "" {
			assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), name)
		}
	}
}
