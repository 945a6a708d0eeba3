package assembly_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A rotation in a real domain with two controllers does not go on before both have
// learned of the change: whatever signs in at the other one would be refused.
func TestARotationWaitsForReplication(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	a, b, replicate := lab.Controllers(t, "127.0.0.103", "127.0.0.104", "svc-twice")
	f := empty(t)
	ctx := t.Context()
	f.realDirectory(a, map[string]string{"servers": fmt.Sprintf("%s:%d", b.Address, b.Port)})
	account := f.account("dir/svc-twice")
	_, err := f.Custody.Take(ctx, ines, cred(f, account), secret.New(lab.AccountPassword))
	require.NoError(t, err)
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, account), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	id, err := f.Rotations.Start(ctx, ines, cred(f, account), undo, "test", "")
	require.NoError(t, err)
	proof := func() rotation.StepState {
		r, state, _, err := f.Rotations.State(ctx, id)
		require.NoError(t, err)
		for i, step := range r.Plan.Steps {
			if step.Kind == rotation.StepSignIn {
				return state.Steps[i]
			}
		}
		return rotation.StepState{}
	}
	require.Eventually(t, func() bool { return proof().Away >= 3 }, 30*time.Second, 20*time.Millisecond, "it is waited for as what is away is")
	assert.Contains(t, proof().Words, b.Address+":636 has not learned of the change yet: it has the password that was set at")
	assert.Equal(t, rotation.Pending, proof().Status, "and nothing follows")
	assert.Equal(t, "0", b.Local(t, a.DN("svc-twice"), "badPwdCount"), "and nothing was tried there")
	replicate(a, b)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	_, state, _, err := f.Rotations.State(ctx, id)
	require.NoError(t, err)
	words := ""
	for _, step := range state.Steps {
		words += step.Words + "\n"
	}
	assert.Contains(t, words, "bind accepted, and by "+b.Address)
}
