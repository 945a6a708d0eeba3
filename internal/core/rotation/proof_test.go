package rotation

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProof(t *testing.T) {
	plan := Plan{Steps: []Step{{Kind: StepRestart}, {Kind: StepProve}, {Kind: StepProve, Check: &AppCheck{Kind: "tcp"}}, {Kind: StepRevive}, {Kind: StepProve, Check: &AppCheck{Kind: "tcp"}}}}
	s, err := Fold(plan, nil)
	require.NoError(t, err)
	require.Equal(t, Proof{None: 4}, s.Proof(), "nothing is proven by beginning")
	for i, status := range []Status{Done, Done, Done, Failed, Undone} {
		s.Steps[i].Status = status
	}
	require.Equal(t, Proof{Answers: 2, Runs: 1, None: 1}, s.Proof(), "a restart proves nothing, and a failed proof neither")
}

// The weakest stands first: it is what a person should know.
func TestProofInWords(t *testing.T) {
	for want, p := range map[string]Proof{
		"": {},
		"1 runs after its restart, and nothing asked whether it works":                                              {Runs: 1},
		"2 are not proven; 3 run after their restart, and nothing asked whether they work; 1 answers its own check": {Answers: 1, Runs: 3, None: 2},
		"4 answer their own checks": {Answers: 4},
	} {
		require.Equal(t, want, p.String())
	}
}
