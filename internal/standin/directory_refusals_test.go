package standin_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	standindir "mossledger.example/moss/internal/standin/directory"
)

// berth is the account svc-berth of a stand-in, as a survey finds it.
func berth(t *testing.T, target connect.Target) connect.AccountRef {
	t.Helper()
	var found estate.Account
	_, err := directory.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			if a.Name == "svc-berth" {
				found = a
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.NotEmpty(t, found.StableID)
	return connect.AccountRef{StableID: found.StableID, Name: found.Name, DN: found.DN}
}

// A read-only controller is told before anything is begun, and takes no change.
func TestAReadOnlyControllerIsToldBefore(t *testing.T) {
	server, target := startDirectory(t, true)
	ref := berth(t, target)
	failed := func() (words string) {
		for _, line := range (directory.Connector{}).Rehearse(t.Context(), target, []connect.Intention{{Change: &ref}}) {
			if line.Result == connect.CheckFailed {
				words += line.What + ": " + line.Words + "\n"
			}
		}
		return words
	}
	assert.Empty(t, failed())
	server.SetFault(standindir.Fault{ReadOnly: true})
	assert.Contains(t, failed(), "a read-only controller")
	err := connect.SetPassword(t.Context(), directory.Connector{}, target, ref, secret.New("Fresh-Passw0rd.1"))
	require.Error(t, err)
	assert.False(t, connect.IsUnclear(err), "it was refused for certain: %v", err)
}

// The stand-in locks as a domain does, and the connector's own tries never do it: not by
// proving that a value is refused, however often, and not by the two last passwords,
// which a domain does not count.
func TestOurOwnTriesLockNothing(t *testing.T) {
	_, target := startDirectory(t, true)
	ref := berth(t, target)
	verify := func(value string) (connect.Verdict, error) {
		return directory.Connector{}.Verify(t.Context(), target, ref, secret.New(value))
	}
	spared := 0
	for i := range 12 {
		verdict, err := verify("Wrong-Passw0rd.9")
		if err != nil {
			assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
			spared++
			continue
		}
		assert.Equal(t, connect.VerdictWrong, verdict.Code, "try %d", i)
	}
	assert.Equal(t, 8, spared, "four tries, and no fifth")
	_, target = startDirectory(t, true)
	ref = berth(t, target)
	require.NoError(t, connect.SetPassword(t.Context(), directory.Connector{}, target, ref, secret.New("Fresh-Passw0rd.1")))
	for range 12 {
		verdict, err := verify("Berth-Passw0rd-1")
		require.NoError(t, err)
		assert.Equal(t, connect.VerdictWrong, verdict.Code, "the one before")
	}
	verdict, err := verify("Fresh-Passw0rd.1")
	require.NoError(t, err)
	assert.True(t, verdict.Accepted)
}
