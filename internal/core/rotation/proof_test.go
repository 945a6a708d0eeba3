package rotation_test

import (
	"testing"

	. "mossledger.example/moss/internal/core/rotation"

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
	s.Steps[1].SignedIn, s.Steps[2].SignedIn = true, true
	require.Equal(t, Proof{Answers: 2, Signed: 1, None: 1}, s.Proof(), "an answer says more than a session")
}

// What a proof saw stands in the journal, and is read from it again.
func TestASignInIsRemembered(t *testing.T) {
	plan := Plan{Steps: []Step{{Kind: StepProve}}}
	records := []Record{{Seq: 1, Event: EventIntent, Step: 0}, {Seq: 2, Event: EventOutcome, Step: 0, Result: ResultDone, Memo: MemoSignedIn}}
	s, err := Fold(plan, records)
	require.NoError(t, err)
	require.True(t, s.Steps[0].SignedIn)
	s, err = Fold(plan, append(records, Record{Seq: 3, Event: EventIntent, Step: 0, Undo: true}, Record{Seq: 4, Event: EventOutcome, Step: 0, Undo: true, Result: ResultDone}))
	require.NoError(t, err)
	require.False(t, s.Steps[0].SignedIn, "with the other value it is to be seen anew")
}

// The weakest stands first: it is what a person should know.
func TestProofInWords(t *testing.T) {
	for want, p := range map[string]Proof{
		"": {},
		"1 runs after its restart, and nothing asked whether it works":                                              {Runs: 1},
		"2 are not proven; 3 run after their restart, and nothing asked whether they work; 1 answers its own check": {Answers: 1, Runs: 3, None: 2},
		"4 answer their own checks": {Answers: 4},
		"1 has signed in again since its restart; 2 answer their own checks": {Signed: 1, Answers: 2},
		"1 is not proven; 3 have signed in again since their restart":        {None: 1, Signed: 3},
	} {
		require.Equal(t, want, p.String())
	}
}
