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

// Accounts that a real controller does not let bind, whatever is given: where it gives a
// ticket the value is proven, and where it gives none nothing is.
func TestTicketsProveWhatBindsDoNot(t *testing.T) {
	d := lab.Samba(t, "127.0.0.89", "svc-station", "svc-protected", "svc-hours")
	d.Alter(t, "dn: "+d.DN("svc-station")+"\nchangetype: modify\nreplace: userWorkstations\nuserWorkstations: NOWHERE1\n\n"+
		"dn: CN=Protected Users,CN=Users,"+d.Base+"\nchangetype: modify\nadd: member\nmember: "+d.DN("svc-protected")+"\n\n"+
		"dn: "+d.DN("svc-hours")+"\nchangetype: modify\nreplace: logonHours\nlogonHours:: AAAAAAAAAAAAAAAAAAAAAAAAAAAA\n")
	target := d.Target("samba")
	accounts, _, _ := readDirectory(t, target)
	verify := func(name string, value string) (connect.Verdict, error) {
		return directory.Connector{}.Verify(t.Context(), target, connect.AccountRef{StableID: accounts[name].StableID, Name: name, DN: accounts[name].DN}, secret.New(value))
	}
	for name, number := range map[string]string{"svc-station": "data 531", "svc-protected": "data 52f"} {
		require.False(t, lab.Binds(t, d, d.DN(name), lab.AccountPassword), "the directory itself")
		v, err := verify(name, lab.AccountPassword)
		require.NoError(t, err)
		assert.True(t, v.Accepted, name)
		assert.Contains(t, v.Words, "a ticket was given for it, although a bind is refused")
		assert.Contains(t, v.Words, number)
		assert.NotZero(t, v.KeyVersion)
	}
	v, err := verify("svc-station", "Wrong-Passw0rd.9")
	require.NoError(t, err)
	assert.Equal(t, connect.VerdictWrong, v.Code, "a bind with a wrong one says so before it comes to the machine")

	// A refusal by the center could be anybody's: it says nothing of the value.
	_, err = verify("svc-protected", "Wrong-Passw0rd.9")
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
	assert.ErrorContains(t, err, "and no ticket was given")
	assert.ErrorContains(t, err, "KDC_ERR_PREAUTH_FAILED")
	_, err = verify("svc-hours", lab.AccountPassword)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), err)
	assert.ErrorContains(t, err, "KDC_ERR_CLIENT_REVOKED")
	assert.NotContains(t, err.Error(), lab.AccountPassword)

	// A rotation of one goes its way: what is set is proven by a ticket.
	account := connect.AccountRef{StableID: accounts["svc-protected"].StableID, Name: "svc-protected", DN: accounts["svc-protected"].DN}
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	require.NoError(t, directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: account}, connect.Values{Old: old, New: next}, connect.AcceptNew))
	v, err = verify("svc-protected", next.RevealString())
	require.NoError(t, err)
	assert.True(t, v.Accepted)
	_, err = verify("svc-protected", lab.AccountPassword)
	assert.Equal(t, connect.CodeUnproven, connect.CodeOf(err), "the former one gets no ticket, not even for an hour")
	is, err := directory.Connector{}.Probe(t.Context(), target, connect.Point{Account: account}, connect.Values{Old: old, New: next})
	require.NoError(t, err, "an answer that was lost is found out about")
	assert.Equal(t, [2]connect.Answer{connect.AnswerNo, connect.AnswerYes}, [2]connect.Answer{is.Old, is.New})
	is, err = directory.Connector{}.Probe(t.Context(), target, connect.Point{Account: account}, connect.Values{Old: next, New: old})
	require.NoError(t, err)
	assert.Equal(t, [2]connect.Answer{connect.AnswerYes, connect.AnswerNo}, [2]connect.Answer{is.Old, is.New})
}
