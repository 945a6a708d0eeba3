package rotate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
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
