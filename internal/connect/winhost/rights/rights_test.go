package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
)

func TestPropose(t *testing.T) {
	p, why := Propose("north1", privilege.RightChange{Give: true, To: `LARKMOOR\svc-o'dile`, Group: "Remote Management Users"})
	require.Empty(t, why)
	assert.Equal(t, "Add-LocalGroupMember -Group 'Remote Management Users' -Member 'LARKMOOR\\svc-o''dile'\n", p.Text)
	assert.Equal(t, "Remove-LocalGroupMember -Group 'Remote Management Users' -Member 'LARKMOOR\\svc-o''dile'\n", p.Back)
	assert.NotEmpty(t, p.ByHand)
	p, _ = Propose("north1", privilege.RightChange{To: "a", Group: "b"})
	assert.Contains(t, p.Text, "Remove-")
	_, why = Propose("north1", privilege.RightChange{To: "a\nb", Group: "b"})
	assert.NotEmpty(t, why)
	_, why = Propose("north1", privilege.RightChange{To: "a", Verb: privilege.VerbEverything})
	assert.NotEmpty(t, why)
}

// What a host does not answer is a failure, and what it answers oddly is told.
func TestReadThatFails(t *testing.T) {
	fails := &connect.Failure{System: "north1", Words: "access denied"}
	for _, class := range []string{"Win32_UserAccount", "Win32_Group"} {
		_, err := Read(t.Context(), connect.Target{Name: "north1"}, "NORTH1", func(asked, _ string, _ func(*wsman.Instance) error) error {
			if asked == class {
				return fails
			}
			return nil
		}, func(connect.Batch) error { return nil })
		require.ErrorIs(t, err, fails)
	}
	coverage, err := Read(t.Context(), connect.Target{Name: "north1"}, "NORTH1", func(string, string, func(*wsman.Instance) error) error { return nil }, func(connect.Batch) error { return nil })
	require.NoError(t, err)
	assert.False(t, coverage.Complete, "it never is")
	assert.Contains(t, coverage.Why, "user rights")
}
