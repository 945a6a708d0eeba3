package standin_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/windowshost"
)

// A host's log of security tells who signed in and who set a password, back as far as is
// asked; one that is not shown to the steward is told, and is not nobody.
func TestWindowsRecords(t *testing.T) {
	h, target, _ := startWindows(t, "ntlm")
	before := time.Now().Add(-time.Minute)
	h.SignedIn(`LARKMOOR\odile`, "192.0.2.40")
	h.PasswordSet(`LARKMOOR\odile`, "svc-local", "Another-Passw0rd-2")
	log, err := winhost.Connector{}.Records(t.Context(), target, before)
	require.NoError(t, err)
	w := log.Of(before, time.Now(), "svc-local")
	require.NotNil(t, w)
	assert.True(t, w.Back.IsZero())
	require.Len(t, w.List, 3, "%+v", w.List)
	assert.Equal(t, change.SetPassword, w.List[0].Act)
	assert.Equal(t, `LARKMOOR\odile`, w.List[0].Who)
	assert.True(t, w.List[0].It)
	assert.Contains(t, w.Words(), `LARKMOOR\odile from 192.0.2.40`)
	assert.Contains(t, w.Words(), `NORTH1\mossmgr from 127.0.0.1`, "we are there as well")
	// More than is read at once: how far back it went is said.
	for range 6000 {
		h.SignedIn(`LARKMOOR\jonas`, "192.0.2.41")
	}
	log, err = winhost.Connector{}.Records(t.Context(), target, before)
	require.NoError(t, err)
	assert.False(t, log.Of(before, time.Now()).Back.IsZero())

	reader := target
	h.AddUser(windowshost.User{Name: "reader", Password: "Reader-Passw0rd-1"})
	h.AddMember("Remote Management Users", "reader")
	reader.Steward.Account, reader.Steward.Password = `NORTH1\reader`, secret.New("Reader-Passw0rd-1")
	_, err = winhost.Connector{}.Records(t.Context(), reader, before)
	require.Error(t, err)
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
}
