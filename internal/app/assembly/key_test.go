package assembly_test

import (
	"encoding/pem"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/unixhost"
)

const (
	heldKey     = "/var/lib/tide/.ssh/id_ed25519"
	berthDoor   = "/var/lib/berth/.ssh/authorized_keys"
	odileDoor   = "/home/odile/.ssh/authorized_keys"
	backupsName = "backup@tide1"
)

func (f *ferry) file(host, path string) string {
	f.t.Helper()
	file, found := f.estate.Hosts[host].Read(path)
	require.True(f.t, found, path)
	return string(file.Content)
}

func (f *ferry) takeKey() records.Credential {
	f.t.Helper()
	k, err := f.Picture.FindCredential(f.t.Context(), backupsName)
	require.NoError(f.t, err)
	verdict, err := f.Custody.Take(f.t.Context(), ines, cred(f, k), secret.Value{})
	require.NoError(f.t, err)
	require.True(f.t, verdict.Accepted, verdict.Words)
	return k
}

// whole: the key that is held opens every door, its public half stands beside
// it, and nothing is left anywhere.
func (f *ferry) whole(k records.Credential) keys.Pair {
	f.t.Helper()
	pair, err := keys.PairOf(secret.New(f.file("tide1", heldKey)))
	require.NoError(f.t, err)
	assert.Equal(f.t, pair.Line+" "+backupsName+"\n", f.file("tide1", heldKey+".pub"))
	for host, door := range map[string]string{"quay1": berthDoor, "quay2": berthDoor, "bookings1": odileDoor} {
		entries, _ := keys.ParseAuthorized([]byte(f.file(host, door)))
		var opens []string
		for _, e := range entries {
			if e.Comment == backupsName {
				opens = append(opens, e.Fingerprint)
			}
		}
		assert.Equal(f.t, []string{pair.Fingerprint}, opens, host)
		for _, path := range f.estate.Hosts[host].Paths() {
			assert.NotContains(f.t, path, ".moss-new")
		}
	}
	assert.Contains(f.t, f.file("quay2", berthDoor), `from="192.0.2.0/24",command="/usr/bin/rsync --server" `)
	for _, path := range f.estate.Hosts["tide1"].Paths() {
		assert.NotContains(f.t, path, ".moss-new")
	}
	now, err := f.Store.Credential(f.t.Context(), k.ID)
	require.NoError(f.t, err)
	assert.Equal(f.t, pair.Fingerprint, now.Fingerprint, "the pair is known by what is in force")
	verdict, err := f.Custody.Verify(f.t.Context(), ines, cred(f, now))
	require.NoError(f.t, err)
	assert.True(f.t, verdict.Accepted, verdict.Words)
	assert.Equal(f.t, []int{3, 1}, []int{now.Points, now.Locations}, "the picture is right before anything is read again")
	f.quiet()
	now, err = f.Store.Credential(f.t.Context(), k.ID)
	require.NoError(f.t, err)
	assert.Equal(f.t, []int{3, 1}, []int{now.Points, now.Locations}, "and after")
	return pair
}

func TestKeyPairRotation(t *testing.T) {
	f := start(t)
	k := f.takeKey()
	before := f.whole(k)
	r := f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	after := f.whole(k)
	assert.NotEqual(t, before.Fingerprint, after.Fingerprint)
	assert.Equal(t, "current retired", f.statesOf(k))
	page, err := f.Store.Credentials(t.Context(), records.Query{Filters: []string{"kind=ssh-key"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 2, "a new key is no new pair")

	noted := fmt.Sprint(r.Plan.Notes)
	assert.Contains(t, noted, "exposed: others than its owner may read "+heldKey)
	// Another type, asked of the rehearsal and of the rotation alike.
	wish := planning.Request{OnFailure: rotation.UndoOnFailure, Type: "ecdsa-sha2-nistp256"}
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	_, err = f.Rotations.Start(t.Context(), ines, cred(f, k), undo, "test", "")
	require.ErrorIs(t, err, app.ErrRefused, "that was not rehearsed")
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	assert.Equal(t, wish.Type, f.whole(k).Type)
	_, err = f.Rotations.RehearseUndo(t.Context(), ines, id)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, id, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	assert.Equal(t, after.Fingerprint, f.whole(k).Fingerprint)
	require.NoError(t, f.Custody.Release(t.Context(), ines, "handed over", cred(f, k)))
}

// k2 reads a pair again: its fingerprint may have changed.

// The connection is cut at each command on a door's host and on the holder's.
func TestKeyConnectionCutAtEachCommand(t *testing.T) {
	for _, host := range []string{"quay1", "tide1"} {
		for _, command := range []string{"rm -f -- " + heldKey + ".pub", "cp -a", "dd of=", "mv -fT", "sync --"} {
			for nth := 1; nth <= 2; nth++ { // admitting and dismissing; public half and private one
				if host == "quay1" && strings.HasPrefix(command, "rm") || nth == 2 && strings.HasPrefix(command, "rm") {
					continue
				}
				t.Run(host+"/"+command+"/"+string(rune('0'+nth)), func(t *testing.T) {
					f := start(t)
					k := f.takeKey()
					left := nth
					f.estate.Hosts[host].SetFault(unixhost.Fault{Cut: func(argv []string) bool {
						text := strings.Join(argv, " ")
						if left == 0 || !strings.Contains(text, "-- /usr/bin/"+command) || strings.Contains(text, " -l ") {
							return false
						}
						left--
						return left == 0
					}})
					r := f.rotate(k, rotation.UndoOnFailure)
					assert.Zero(t, left, "the connection was cut")
					if r.Result == rotation.FinishedWithFailures { // only that the old key is still let in
						require.NoError(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideResume, "test"))
						r = f.ended(r.ID)
					}
					assert.Contains(t, []string{rotation.FinishedDone, rotation.FinishedUndone}, r.Result)
					f.whole(k)
				})
			}
		}
	}
}

func TestKeyThatMustNotBeRotated(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	lost, err := f.Picture.FindCredential(ctx, "odile@old-laptop")
	require.NoError(t, err)
	_, err = f.Custody.Take(ctx, ines, cred(f, lost), secret.Value{})
	require.ErrorIs(t, err, app.ErrRefused, "nobody holds it")
	_, err = f.Custody.Take(ctx, ines, cred(f, lost), secret.New(f.file("tide1", heldKey)))
	require.ErrorIs(t, err, app.ErrInput, "another key")
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, lost), undo)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)

	k := f.takeKey()
	// A holder that the new key cannot be brought to.
	locked := f.estate.Hosts["quay2"]
	content, err := keys.Recode(secret.New(f.file("tide1", heldKey)), "OPENSSH PRIVATE KEY")
	require.NoError(t, err)
	locked.Write("/root/.ssh/id_copy", unixhost.File{Mode: 0o600, Owner: "root", Content: closed(t, content)})
	f.survey("quay2")
	v, err = f.Rotations.Rehearse(ctx, ines, cred(f, k), undo)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
	assert.Contains(t, failures(v), "passphrase")
	locked.Write("/root/.ssh/id_copy", unixhost.File{Mode: 0o600, Owner: "root", Content: []byte("gone\n")})
	f.survey("quay2")

	// Somebody removes an entry between the rehearsal and the rotation.
	v, err = f.Rotations.Rehearse(ctx, ines, cred(f, k), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, failures(v))
	door, _ := f.estate.Hosts["quay2"].Read(berthDoor)
	kept := door
	door.Content = []byte("# cleaned up\n")
	f.estate.Hosts["quay2"].Write(berthDoor, door)
	id, err := f.Rotations.Start(ctx, ines, cred(f, k), undo, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	assert.Equal(t, "# cleaned up\n", f.file("quay2", berthDoor), "nothing is added where somebody took it away")
	f.quiet()
	verdict, err := f.Custody.Verify(ctx, ines, cred(f, k))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, "the other doors open: "+verdict.Words)
	f.estate.Hosts["quay2"].Write(berthDoor, kept)
	f.survey("quay2")
	f.whole(k)

	// The key with which we sign in ourselves.
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "spare", "berth", secret.Value{}, secret.New(f.file("tide1", heldKey))))
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, k), undo)
	require.ErrorIs(t, err, app.ErrRefused)
	require.ErrorContains(t, err, "spare")
}

func failures(v records.Rehearsal) string {
	var out []string
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			out = append(out, c.What+": "+c.Words)
		}
	}
	return strings.Join(out, "\n")
}

// closed is a private key with a passphrase.
func closed(t *testing.T, key secret.Value) []byte {
	raw, err := ssh.ParseRawPrivateKey(key.Reveal())
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(raw, "", []byte("a passphrase"))
	require.NoError(t, err)
	return pem.EncodeToMemory(block)
}
