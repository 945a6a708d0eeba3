package rotate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
)

// Who goes on with the old value is named where wrong passwords lock the account, and
// nowhere else.
func TestWhoWouldLockTheAccountIsNamed(t *testing.T) {
	lockout := func(result string) []connect.Checked {
		return []connect.Checked{{What: "reach", Result: connect.CheckOK}, {What: "not locked", Result: result, Words: "5 wrong passwords lock it", About: connect.AboutLockout}}
	}
	latent := rotation.Plan{Notes: []rotation.Note{{Kind: rotation.NoteInfo, Text: "nothing"}, {Kind: rotation.NoteLatent, Text: "berth.service on quay1 runs on"}}}
	client := []connect.Checked{{Result: connect.CheckWarning, Words: "192.0.2.17 signs in as it, and nothing explains why"}, {Result: connect.CheckUnchecked, Words: "not read"}}
	for name, c := range map[string]struct {
		checks []connect.Checked
		plan   rotation.Plan
		around []connect.Checked
		result string
		words  string
	}{
		"nobody":         {lockout(connect.CheckOK), rotation.Plan{}, nil, connect.CheckOK, "5 wrong passwords lock it"},
		"a unit":         {lockout(connect.CheckOK), latent, nil, connect.CheckWarning, "5 wrong passwords lock it; 1 may go on with the old value: berth.service on quay1 runs on"},
		"and a client":   {lockout(connect.CheckOK), latent, client, connect.CheckWarning, "5 wrong passwords lock it; 2 may go on with the old value: berth.service on quay1 runs on; 192.0.2.17 signs in as it, and nothing explains why"},
		"failed already": {lockout(connect.CheckFailed), latent, client, connect.CheckFailed, "5 wrong passwords lock it"},
	} {
		line := tellLockout(c.checks, c.plan, c.around)[1]
		assert.Equal(t, c.result, line.Result, name)
		assert.Equal(t, c.words, line.Words, name)
		assert.Equal(t, c.result == connect.CheckWarning, line.Next != "", name)
	}
	none := []connect.Checked{{What: "reach", Result: connect.CheckOK}}
	assert.Equal(t, none, tellLockout(none, latent, client), "no lock, nothing to tell")
}

// An md5 verifier in a pooler's list cannot sign in to a server that keeps SCRAM: what
// would make the server do so fails where such a list is in the plan.
func TestVerifiersThatEnd(t *testing.T) {
	ends := func() []connect.Checked {
		return []connect.Checked{{What: "reach", Result: connect.CheckOK}, {What: "clients", Result: connect.CheckWarning, Words: "its verifier is md5", About: connect.AboutVerifier}}
	}
	in := func(part string) rotation.Plan {
		return rotation.Plan{Steps: []rotation.Step{{Kind: rotation.StepReplace, System: "pool1", Subject: "/etc/users.txt", Places: []held.Locator{{Part: part}}}}}
	}
	line := tellVerifiers(ends(), in(held.PartVerifier))[1]
	assert.Equal(t, connect.CheckFailed, line.Result)
	assert.Contains(t, line.Words, "its verifier is md5; and /etc/users.txt on pool1 holds an md5 verifier in place of the password")
	assert.Contains(t, line.Next, "verifier=keep")
	assert.Equal(t, ends(), tellVerifiers(ends(), in(held.PartValue)), "a password in its place is enough")
	stays := []connect.Checked{{What: "reach", Result: connect.CheckOK}}
	assert.Equal(t, stays, tellVerifiers(stays, in(held.PartVerifier)))
}
