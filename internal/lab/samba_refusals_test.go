package lab_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A real domain controller refuses the right password for reasons that are not the
// password. None of them may be told as "wrong", and none as a proof of anything.
func TestSambaRefusesForOtherReasons(t *testing.T) {
	d := lab.Samba(t, "127.0.0.78", "svc-hours", "svc-disabled", "svc-change", "svc-locked", "svc-hammered")
	never := "AAAAAAAAAAAAAAAAAAAAAAAAAAAA" // no hour of the week
	d.Alter(t, "dn: "+d.DN("svc-hours")+"\nchangetype: modify\nreplace: logonHours\nlogonHours:: "+never+"\n\n"+
		"dn: "+d.DN("svc-disabled")+"\nchangetype: modify\nreplace: userAccountControl\nuserAccountControl: 66050\n\n"+
		"dn: "+d.DN("svc-change")+"\nchangetype: modify\nreplace: userAccountControl\nuserAccountControl: 512\n-\nreplace: pwdLastSet\npwdLastSet: 0\n\n"+
		"dn: "+d.Base+"\nchangetype: modify\nreplace: lockoutThreshold\nlockoutThreshold: 5\n-\nreplace: lockoutDuration\nlockoutDuration: -18000000000\n-\nreplace: lockOutObservationWindow\nlockOutObservationWindow: -18000000000\n")
	right, wrong := secret.New(lab.AccountPassword), secret.New("Wrong-Passw0rd.9")
	accounts, _, _ := readDirectory(t, d.Target("samba"))
	ref := func(name string) connect.AccountRef {
		return connect.AccountRef{StableID: accounts[name].StableID, Name: name, DN: accounts[name].DN}
	}
	verify := func(name string, value secret.Value) (connect.Verdict, error) {
		return directory.Connector{}.Verify(t.Context(), d.Target("samba"), ref(name), value)
	}
	verdict, err := verify("svc-hours", right)
	require.Error(t, err, "%+v", verdict)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
	verdict, err = verify("svc-hours", wrong)
	require.NoError(t, err)
	assert.Equal(t, connect.VerdictWrong, verdict.Code, "a wrong one is wrong all the same")
	verdict, err = verify("svc-disabled", right)
	require.NoError(t, err)
	assert.Equal(t, connect.VerdictDisabled, verdict.Code, verdict.Words)
	verdict, err = verify("svc-change", right)
	require.NoError(t, err)
	assert.Equal(t, connect.AnswerYes, verdict.Says(), verdict.Words)

	// Locked out by who went on trying an old one: neither the old value nor the new
	// one is wrong by that, and nobody else set one.
	for range 6 {
		require.False(t, lab.Binds(t, d, d.DN("svc-locked"), "Wrong-Passw0rd.9"))
	}
	verdict, err = verify("svc-locked", right)
	require.NoError(t, err)
	require.Equal(t, connect.VerdictLocked, verdict.Code, verdict.Words)
	is, err := directory.Connector{}.Probe(t.Context(), d.Target("samba"), connect.Point{Account: ref("svc-locked")}, connect.Values{Old: right, New: wrong})
	require.Error(t, err, "%+v", is)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err))
	assert.ErrorContains(t, err, "locked")

	// One that something forgotten goes on trying: our own proofs are wrong passwords as
	// well, and none of them is the one that locks.
	for tries := 1; ; tries++ {
		require.LessOrEqual(t, tries, 5, "the fifth would lock it")
		verdict, err = verify("svc-hammered", wrong)
		if err != nil {
			break
		}
		assert.Equal(t, connect.VerdictWrong, verdict.Code)
	}
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
	assert.ErrorContains(t, err, "4 wrong passwords were given for svc-hammered lately, and 5 wrong passwords within 30m0s lock an account for 30m0s")
	_, err = verify("svc-hammered", right)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), "whether it is right is not known before")
	assert.True(t, lab.Binds(t, d, d.DN("svc-hammered"), lab.AccountPassword), "the directory itself: it is not locked")
	verdict, err = verify("svc-hammered", right)
	require.NoError(t, err, "a sign-in set the count back")
	assert.True(t, verdict.Accepted)

	// Accounts that are no service accounts, as the directory has them from the start.
	line := func(name, what string) connect.Checked {
		account := ref(name)
		require.NotEmpty(t, account.StableID, name)
		lines := directory.Connector{}.Rehearse(t.Context(), d.Target("samba"), []connect.Intention{{Change: &account}})
		i := slices.IndexFunc(lines, func(c connect.Checked) bool { return c.What == what })
		require.GreaterOrEqual(t, i, 0, "%+v", lines)
		return lines[i]
	}
	const guarded = "an account whose password may be set"
	assert.Equal(t, connect.CheckFailed, line("krbtgt", guarded).Result)
	assert.Equal(t, connect.CheckFailed, line("TIDE1$", guarded).Result)
	assert.Equal(t, connect.CheckWarning, line("Administrator", guarded).Result)
	assert.Equal(t, connect.CheckOK, line("svc-hours", guarded).Result)
	err = connect.SetPassword(t.Context(), directory.Connector{}, d.Target("samba"), ref("krbtgt"), secret.New("Fresh-Passw0rd.1"))
	assert.Equal(t, connect.CodePolicy, connect.CodeOf(err), err)
	assert.False(t, connect.IsUnclear(err))
	const goesOn = "not locked by who goes on with the old value"
	assert.Equal(t, connect.CheckOK, line("svc-disabled", goesOn).Result)
	assert.Equal(t, connect.CheckFailed, line("svc-locked", goesOn).Result)
	assert.Contains(t, line("svc-disabled", goesOn).Words, "5 wrong passwords within 30m0s")
}
