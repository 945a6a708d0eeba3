package acts

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
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
