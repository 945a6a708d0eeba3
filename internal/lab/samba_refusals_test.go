package lab_test

import (
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
	d := lab.Samba(t, "127.0.0.78", "svc-hours", "svc-disabled", "svc-change", "svc-locked")
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
		_, err := verify("svc-locked", wrong)
		require.NoError(t, err)
	}
	verdict, err = verify("svc-locked", right)
	require.NoError(t, err)
	require.Equal(t, connect.VerdictLocked, verdict.Code, verdict.Words)
	is, err := directory.Connector{}.Probe(t.Context(), d.Target("samba"), connect.Point{Account: ref("svc-locked")}, connect.Values{Old: right, New: wrong})
	require.Error(t, err, "%+v", is)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err))
	assert.ErrorContains(t, err, "locked")
}
