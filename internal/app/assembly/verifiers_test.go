package assembly_test

import (
	"crypto/md5"
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// A pooler's list of users holds what was derived of the value: it is in the plan and made
// anew. What only the server can make keeps the rehearsal from passing until a person
// decides.
func TestDerivedCopies(t *testing.T) {
	f := start(t)
	md5Of := func(value string) string {
		sum := md5.Sum([]byte(value + "svc_bookings"))
		return "md5" + hex.EncodeToString(sum[:])
	}
	const path, scram = "/etc/pooler/users.txt", "SCRAM-SHA-256$4096:c2FsdHNhbHRzYWx0c2E=$c3RvcmVk:c2VydmVy"
	write := func(text string) {
		f.estate.Hosts["bookings1"].Write(path, unixhost.File{Mode: 0o640, Owner: "root", Group: "root", Content: []byte("\"svc_bookings\" \"" + text + "\"\n")})
		f.survey("bookings1")
	}
	bookings, _ := f.stores()
	write(scram)
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, bookings), undo)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	require.Len(t, bad(v.Checks), 1)
	assert.Contains(t, bad(v.Checks)[0].Words, path)
	assert.Contains(t, bad(v.Checks)[0].Words, "a SCRAM verifier: it must be the one that the server makes of the new value")
	assert.NotContains(t, strings.Join(f.stale(), "\n"), path, "what could not be compared is not told to be stale")
	list, err := f.Store.DependentsOfAccount(t.Context(), bookings.ID)
	require.NoError(t, err)
	for _, d := range list {
		if d.Path == path {
			require.Error(t, f.Picture.DecideCopy(t.Context(), ines, d.ID, records.CopyReplace, "x"))
			require.NoError(t, f.Picture.DecideCopy(t.Context(), ines, d.ID, records.CopyLeave, "the pooler asks the server"))
		}
	}
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, bookings), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))

	f.estate.Hosts["bookings1"].Write("/etc/pooler/old.txt", unixhost.File{Mode: 0o640, Owner: "root", Group: "root", Content: []byte("\"svc_bookings\" \"" + md5Of(larkmoor.Passwords["svc_bookings"]) + "\"\n")})
	f.survey("bookings1")
	r := f.rotate(bookings, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	assert.Equal(t, "\"svc_bookings\" \""+md5Of(f.currentOf(bookings))+"\"\n", f.file("bookings1", "/etc/pooler/old.txt"))
	assert.Contains(t, f.file("bookings1", path), scram)
	f.survey("bookings1")
	assert.NotContains(t, strings.Join(f.stale(), "\n"), "/etc/pooler")
	f.estate.Hosts["bookings1"].Write("/etc/pooler/old.txt", unixhost.File{Mode: 0o640, Owner: "root", Group: "root", Content: []byte("\"svc_bookings\" \"" + md5Of("a former one") + "\"\n")})
	f.survey("bookings1")
	assert.Contains(t, strings.Join(f.stale(), "\n"), "/etc/pooler/old.txt", "one that is of no value in custody is")
}

// stale are the copies that are told to be so.
func (f *ferry) stale() (out []string) {
	for _, finding := range f.findings("stale-copy") {
		out = append(out, finding.Subject+" "+finding.What)
	}
	return out
}
