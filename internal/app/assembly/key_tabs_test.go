package assembly_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// tabHolds: a host's key tab has, as another program reads it, keys of a number that are
// made of a password, and none of a later number; the former ones are there still.
func (f *ferry) tabHolds(t *testing.T, host, password string, version int, former ...int) {
	t.Helper()
	file, there := f.estate.Hosts[host].Read(gangwayTab)
	require.True(t, there)
	is, want := keytab.New(), keytab.New()
	require.NoError(t, is.Unmarshal(file.Content))
	for _, kind := range []int32{18, 23} {
		require.NoError(t, want.AddEntry("svc-gangway", "LARKMOOR.EXAMPLE", password, time.Now(), uint8(version), kind))
		key, at, err := is.GetEncryptionKey(types.NewPrincipalName(1, "svc-gangway"), "LARKMOOR.EXAMPLE", 0, kind)
		require.NoError(t, err)
		assert.Equal(t, version, at)
		made, _, err := want.GetEncryptionKey(types.NewPrincipalName(1, "svc-gangway"), "LARKMOOR.EXAMPLE", version, kind)
		require.NoError(t, err)
		assert.Equal(t, made.KeyValue, key.KeyValue)
		for _, before := range former {
			_, _, err := is.GetEncryptionKey(types.NewPrincipalName(1, "svc-gangway"), "LARKMOOR.EXAMPLE", before, kind)
			assert.NoError(t, err, "version %d", before)
		}
	}
}

const gangwayTab = "/etc/gangway/gangway.keytab"

// acceptors starts the estate with the account in custody and its key tab on two hosts.
func acceptors(t *testing.T) (*ferry, records.Account) {
	f := start(t)
	file, there := f.estate.Hosts["quay1"].Read(gangwayTab)
	require.True(t, there)
	f.estate.Hosts["quay2"].Write(gangwayTab, unixhost.File{Mode: 0o600, Content: file.Content})
	a := f.take("svc-gangway")
	f.survey()
	return f, a
}

// begin starts to rotate it, with what a person must say about its other name.
func (f *ferry) beginAcceptor(a records.Account) records.RotationID {
	wish := undo
	wish.NoAcceptors = "the proxy was taken down in spring"
	v, err := f.Rotations.Rehearse(f.t.Context(), ines, cred(f, a), wish)
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict, "%+v", bad(v.Checks))
	id, err := f.Rotations.Start(f.t.Context(), ines, cred(f, a), wish, "test", "")
	require.NoError(f.t, err)
	return id
}

func (f *ferry) mode(id int64) rotation.Mode {
	_, state, _, err := f.Rotations.State(f.t.Context(), records.RotationID(id))
	if err != nil {
		return rotation.ModeForward
	}
	return state.Mode
}

// keysAgree: the tabs of both hosts hold the key that tickets have now.
func (f *ferry) keysAgree(t *testing.T, password string) {
	t.Helper()
	version := 0
	f.estate.Directory.Update(larkmoor.DN("svc-gangway"), func(e *standindir.Entry) { version = e.KeyVersion + 1 })
	for _, host := range []string{"quay1", "quay2"} {
		f.tabHolds(t, host, password, version, 1)
	}
	f.survey()
	assert.Empty(t, f.findings("stale-key-tab"))
}

// A rotation that is undone before it came to any key tab has changed the number of the
// account's keys all the same: acceptors get the old key once more, or tickets that are
// given out from now on cannot be read.
func TestUndoneKeyTabsHoldTheNumberOfNow(t *testing.T) {
	f, a := acceptors(t)
	var id atomic.Int64
	for _, host := range []string{"quay1", "quay2"} {
		f.estate.Hosts[host].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
			line := strings.Join(argv, " ")
			moves := strings.Contains(line, "/usr/bin/mv -fT -- /etc/gangway/") && !strings.Contains(line, " -l ")
			return 1, "mv: cannot move: Read-only file system", moves && f.mode(id.Load()) == rotation.ModeForward
		}})
	}
	began := f.beginAcceptor(a)
	id.Store(int64(began))
	require.Equal(t, rotation.FinishedUndone, f.ended(began).Result)
	require.Equal(t, larkmoor.Passwords["svc-gangway"], f.currentOf(a))
	f.keysAgree(t, larkmoor.Passwords["svc-gangway"])
}

// The answer to putting the old value back is lost, and the directory accepts the former
// one for an hour: which is in force shows in the number of its keys, and setting it once
// more would leave every key tab behind.
func TestAnAnswerLostWhileKeyTabsAreUndone(t *testing.T) {
	f, a := acceptors(t)
	f.estate.Directory.SetFormer(time.Hour)
	id := f.beginAcceptor(a)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	f.keysAgree(t, f.currentOf(a))
	_, err := f.Rotations.RehearseUndo(t.Context(), ines, id)
	require.NoError(t, err)
	f.estate.Directory.SetFault(standindir.Fault{LoseAnswer: true})
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, id, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	f.estate.Directory.SetFault(standindir.Fault{})
	f.keysAgree(t, larkmoor.Passwords["svc-gangway"])
}

// Without the number a key could be added that no ticket will ever name.
func TestKeysWithoutANumber(t *testing.T) {
	f, a := acceptors(t)
	f.estate.Directory.Update(larkmoor.DN("svc-gangway"), func(e *standindir.Entry) { e.KeyVersion = -1 })
	f.survey("dir")
	wish := undo
	wish.NoAcceptors = "the proxy was taken down in spring"
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), wish)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	require.Len(t, bad(v.Checks), 2)
	assert.Contains(t, bad(v.Checks)[0].Words, "the directory does not tell which number its keys have")
}
