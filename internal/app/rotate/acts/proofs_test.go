package acts

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// Which verdicts prove that a value lets an account in, and which that it is refused.
// A locked account proves neither: it refuses everything.
func TestProven(t *testing.T) {
	target := connect.Target{Name: "dir"}
	for _, v := range []struct {
		verdict     connect.Verdict
		in, refused bool
	}{
		{connect.Verdict{Accepted: true}, true, false},
		{connect.Verdict{Accepted: true, Code: connect.VerdictMustChange}, true, false},
		{connect.Verdict{Code: connect.VerdictWrong}, false, true},
		{connect.Verdict{Code: connect.VerdictExpired}, false, false},
		{connect.Verdict{Code: connect.VerdictMustChange}, false, false},
		{connect.Verdict{Code: connect.VerdictLocked}, false, false},
		{connect.Verdict{Code: connect.VerdictDisabled}, false, false},
		{connect.Verdict{Code: connect.VerdictEnded}, false, false},
	} {
		assert.Equal(t, v.in, Proven(target, v.verdict, true) == nil, "%+v lets in", v.verdict)
		assert.Equal(t, v.refused, Proven(target, v.verdict, false) == nil, "%+v is refused", v.verdict)
	}
	assert.ErrorContains(t, Proven(target, connect.Verdict{Code: connect.VerdictLocked, Words: "locked out"}, false), "locked out")
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(Proven(target, connect.Verdict{Code: connect.VerdictLocked}, false)))
}

// A further server that has not learned of a change is waited for; one that is away is
// told, and one that was asked has its say.
func TestServersThatAreBehind(t *testing.T) {
	server := func(name, state string, accepted bool) connect.ServerVerdict {
		return connect.ServerVerdict{Server: name, State: state, Verdict: connect.Verdict{Accepted: accepted}, Words: "as of before"}
	}
	for name, c := range map[string]struct {
		list   []connect.ServerVerdict
		behind string
		words  string
	}{
		"none":                 {nil, "", ""},
		"all have learned":     {[]connect.ServerVerdict{server("dc2", connect.ServerAsked, true), server("dc3", connect.ServerAsked, true)}, "", ", and by dc2, dc3"},
		"one is away":          {[]connect.ServerVerdict{server("dc2", connect.ServerAway, false), server("dc3", connect.ServerAsked, true)}, "", ", and by dc3; not proven, for away or behind: dc2"},
		"one is behind":        {[]connect.ServerVerdict{server("dc2", connect.ServerAsked, true), server("dc3", connect.ServerBehind, false)}, "dc3", ", and by dc2; not proven, for away or behind: dc3"},
		"the first that is so": {[]connect.ServerVerdict{server("dc2", connect.ServerBehind, false), server("dc3", connect.ServerBehind, false)}, "dc2", "; not proven, for away or behind: dc2, dc3"},
	} {
		found, is := behind(connect.Verdict{Accepted: true, Elsewhere: c.list})
		assert.Equal(t, c.behind, found.Server, name)
		assert.Equal(t, c.behind != "", is, name)
		assert.Equal(t, c.words, served(c.list), name)
	}
	assert.True(t, AcceptedAnywhere(connect.Verdict{Elsewhere: []connect.ServerVerdict{server("dc2", connect.ServerAsked, true)}}))
	assert.False(t, AcceptedAnywhere(connect.Verdict{Elsewhere: []connect.ServerVerdict{server("dc2", connect.ServerBehind, true)}}), "what was not asked has no say")
}

// What an act that failed means: a system that is away was not changed, and is no failure.
func TestOutcomesOfErrors(t *testing.T) {
	fail := func(code string, unclear bool) error {
		return &connect.Failure{Code: code, Words: "x", Unclear: unclear}
	}
	for name, c := range map[string]struct {
		err           error
		acted, proved string
		away          bool
	}{
		"refused":              {fail(connect.CodeNotPermitted, false), rotation.ResultFailed, rotation.ResultFailed, false},
		"answer lost":          {fail(connect.CodeUnreachable, true), rotation.ResultUnclear, rotation.ResultAway, true},
		"not reached":          {fail(connect.CodeUnreachable, false), rotation.ResultAway, rotation.ResultAway, true},
		"no such name":         {fail(connect.CodeUnknownName, false), rotation.ResultAway, rotation.ResultAway, true},
		"too late":             {fail(connect.CodeTimeout, false), rotation.ResultAway, rotation.ResultAway, true},
		"another error":        {errors.New("x"), rotation.ResultUnclear, rotation.ResultFailed, false},
		"away, in other words": {fmt.Errorf("x: %w", rotation.ErrAway), rotation.ResultAway, rotation.ResultAway, true},
	} {
		assert.Equal(t, c.acted, Failed(c.err).Result, name)
		assert.Equal(t, c.proved, Certainly(c.err).Result, name)
		assert.Equal(t, c.away, Away(c.err), name)
		want := rotation.ProbeUnknown
		if c.away {
			want = rotation.ProbeAway
		}
		assert.Equal(t, want, NotFoundOut(c.err).Result, name)
	}
}
