package assembly_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// An account of a real domain that is refused a bind whatever is given is taken, rotated
// and put back: every step is proven by tickets, and none by a refusal.
func TestAProtectedAccountIsRotated(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	samba := lab.Samba(t, "127.0.0.105", "svc-protected")
	samba.Alter(t, "dn: CN=Protected Users,CN=Users,"+samba.Base+"\nchangetype: modify\nadd: member\nmember: "+samba.DN("svc-protected")+"\n")
	require.False(t, lab.Binds(t, samba, samba.DN("svc-protected"), lab.AccountPassword), "the directory itself")
	f := empty(t)
	ctx := t.Context()
	f.realDirectory(samba, nil)
	account := f.account("dir/svc-protected")
	_, err := f.Custody.Take(ctx, ines, cred(f, account), secret.New("Not-The-0ne.9"))
	require.Error(t, err, "nothing proves it")
	_, err = f.Custody.Take(ctx, ines, cred(f, account), secret.New(lab.AccountPassword))
	require.NoError(t, err)
	r := f.rotate(account, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	_, state, _, err := f.Rotations.State(ctx, r.ID)
	require.NoError(t, err)
	words := ""
	for _, step := range state.Steps {
		words += step.Words + "\n"
	}
	assert.Contains(t, words, "a ticket was given for it, although a bind is refused")
	assert.Contains(t, words, "so that the other one gets none")

	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	assert.Equal(t, lab.AccountPassword, f.currentOf(account))
}
