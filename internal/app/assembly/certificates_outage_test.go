package assembly_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/acme"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// taken is the booking site's certificate in custody.
func (f *ferry) takenCertificate() records.Credential {
	f.t.Helper()
	k := f.siteCertificate()
	verdict, err := f.Custody.Take(f.t.Context(), ines, k, secret.Value{})
	require.NoError(f.t, err)
	require.True(f.t, verdict.Accepted, verdict.Words)
	return cred(f, k)
}

// siteFits: what clients see is what stands in the files, with the key beside it.
func (f *ferry) siteFits() {
	f.t.Helper()
	shown := f.siteShows()
	verdict, err := f.Custody.Verify(f.t.Context(), ines, f.siteCertificate())
	require.NoError(f.t, err)
	assert.True(f.t, verdict.Accepted, verdict.Words)
	require.True(f.t, f.estate.Hosts["bookings1"].Restart("bookings-web.service"), "it starts with what stands in its files")
	assert.Equal(f.t, shown.SerialNumber, f.siteShows().SerialNumber)
}

// words of the journal of a rotation.
func (f *ferry) words(id records.RotationID) string {
	f.t.Helper()
	list, err := f.Store.Journal(f.t.Context(), id, 0)
	require.NoError(f.t, err)
	var out []string
	for _, r := range list {
		out = append(out, r.Words)
	}
	return strings.Join(out, "\n")
}

// The service is stopped after each record of a renewal: it goes on where it was, and in the
// end the site shows what its files hold.
func TestCertificateRotationIsStoppedAnywhere(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	for n := range 15 {
		before := f.siteShows().SerialNumber
		wish := planning.Request{OnFailure: rotation.UndoOnFailure}
		v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
		id, err := f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			list, err := f.Store.Journal(t.Context(), id, 0)
			return err == nil && len(list) > n
		}, 30*time.Second, time.Millisecond)
		f.Stop()
		require.NoError(t, f.Store.Close())
		f.reopen()
		f.answers()
		require.Equal(t, rotation.FinishedDone, f.ended(id).Result, "after %d records", n)
		f.quiet()
		assert.NotEqual(t, before, f.siteShows().SerialNumber)
		f.siteFits()
	}
}

// What an authority issues is looked at before anything has it; what it refuses, and whom it
// does not believe, leaves everything as it was.
func TestCertificatesThatAreNotIssued(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	before, files := f.siteShows().SerialNumber, f.file("bookings1", larkmoor.SiteCertificate)+f.file("bookings1", larkmoor.SiteKey)
	for name, c := range map[string]struct {
		fault acme.Fault
		mute  bool
		words string
	}{
		"about another name": {acme.Fault{Other: "tide.larkmoor.example"}, false, "cannot take the place of the one before it: it is not good for booking.larkmoor.example; nothing has it"},
		"that has ended":     {acme.Fault{Ended: true}, false, "cannot take the place of the one before it: it has ended"},
		"nobody answers":     {acme.Fault{}, true, "it does not believe that booking.larkmoor.example is ours"},
	} {
		f.estate.Certifier.SetFault(c.fault)
		if c.mute {
			f.estate.AnswersAt("")
		}
		r := f.rotate(k, rotation.UndoOnFailure)
		assert.Equal(t, rotation.FinishedUndone, r.Result, name)
		assert.Contains(t, f.words(r.ID), c.words, name)
		f.quiet()
		f.estate.Certifier.SetFault(acme.Fault{})
		f.answers()
		assert.Equal(t, before, f.siteShows().SerialNumber, name)
		assert.Equal(t, files, f.file("bookings1", larkmoor.SiteCertificate)+f.file("bookings1", larkmoor.SiteKey), name)
		f.siteFits()
	}
	f.estate.Certifier.Suspend()
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), planning.Request{OnFailure: rotation.UndoOnFailure})
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
}

// An authority that is away is waited for; and while a renewal is undone nobody waits for it:
// the site has its old certificate back, and the new one is revoked later.
func TestAnAuthorityOfCertificatesThatIsAway(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	wish := planning.Request{OnFailure: rotation.UndoOnFailure}
	_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
	require.NoError(t, err)
	f.estate.Certifier.SetFault(acme.Fault{Down: true})
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
	require.NoError(t, err)
	f.after(id, func(p rotation.Plan, r rotation.Record) bool {
		return p.Steps[r.Step].Kind == rotation.StepChange && r.Result == rotation.ResultAway
	})
	f.estate.Certifier.SetFault(acme.Fault{})
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	f.quiet()
	f.siteFits()

	before := f.siteShows().SerialNumber
	var refused atomic.Bool
	f.estate.Hosts["bookings1"].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if reloads(argv) && refused.CompareAndSwap(false, true) {
			f.estate.Certifier.SetFault(acme.Fault{Down: true})
			return 1, "Job for bookings-web.service failed", true
		}
		return 0, "", false
	}})
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
	require.NoError(t, err)
	id, err = f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
	require.NoError(t, err)
	f.after(id, func(p rotation.Plan, r rotation.Record) bool {
		return p.Steps[r.Step].Kind == rotation.StepShow && r.Undo && r.Event == rotation.EventOutcome && r.Result == rotation.ResultDone
	})
	assert.Equal(t, before, f.siteShows().SerialNumber, "nobody waited for the authority")
	r, err := f.Store.Rotation(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, r.Result)
	f.estate.Certifier.SetFault(acme.Fault{})
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	f.quiet()
	_, revoked, _ := f.estate.Certifier.Counts()
	assert.Equal(t, 1, revoked)
	f.estate.Hosts["bookings1"].SetFault(unixhost.Fault{})
	f.siteFits()
}

// reloads: the site is told to read its files again.
func reloads(argv []string) bool {
	text := strings.Join(argv, " ")
	return strings.Contains(text, "systemctl reload bookings-web.service") && !strings.Contains(text, " -l ")
}

// A site that says it read its files and did not, or that is not told at all, is found by what
// clients see: all is put back, and it can be restarted instead.
func TestASiteThatDoesNotReadItsFilesAgain(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	host := f.estate.Hosts["bookings1"]
	before, files := f.siteShows().SerialNumber, f.file("bookings1", larkmoor.SiteCertificate)+f.file("bookings1", larkmoor.SiteKey)
	for _, c := range []struct {
		exit  int
		words string
	}{{0, "and is about another key"}, {1, "Job for bookings-web.service failed."}} {
		host.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) { return c.exit, c.words, reloads(argv) }})
		r := f.rotate(k, rotation.UndoOnFailure)
		assert.Equal(t, rotation.FinishedUndone, r.Result, f.words(r.ID))
		assert.Contains(t, f.words(r.ID), c.words)
		host.SetFault(unixhost.Fault{})
		f.quiet()
		assert.Equal(t, before, f.siteShows().SerialNumber)
		assert.Equal(t, files, f.file("bookings1", larkmoor.SiteCertificate)+f.file("bookings1", larkmoor.SiteKey))
	}
	_, starts := host.UnitState("bookings-web.service")
	host.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) { return 1, "it is not to be told", reloads(argv) }})
	wish := planning.Request{OnFailure: rotation.UndoOnFailure, NoReload: true}
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result, f.words(id))
	_, restarted := host.UnitState("bookings-web.service")
	assert.Equal(t, starts+1, restarted)
	assert.NotEqual(t, before, f.siteShows().SerialNumber)
	host.SetFault(unixhost.Fault{})
	f.quiet()
	f.siteFits()

	other := cred(f, k)
	other.Kind = credential.Password
	_, err = f.Rotations.Rehearse(t.Context(), ines, other, wish)
	assert.ErrorContains(t, err, "is for certificates")
}

// Connections to the host that are cut at each command of a renewal leave it whole.
func TestCertificateConnectionCutAtEachCommand(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	host := f.estate.Hosts["bookings1"]
	wish := planning.Request{OnFailure: rotation.UndoOnFailure}
	for nth := int64(1); ; nth++ {
		v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
		var seen atomic.Int64
		host.SetFault(unixhost.Fault{Cut: func(argv []string) bool {
			text := strings.Join(argv, " ")
			changes := strings.Contains(text, "-- /usr/bin/") && strings.Contains(text, "/etc/bookings-web/tls/") && !strings.Contains(text, " -l ") || reloads(argv)
			return changes && seen.Add(1) == nth
		}})
		id, err := f.Rotations.Start(t.Context(), ines, cred(f, k), wish, "test", "")
		require.NoError(t, err)
		r := f.ended(id)
		cut := seen.Load() >= nth
		host.SetFault(unixhost.Fault{})
		f.quiet()
		require.Contains(t, []string{rotation.FinishedDone, rotation.FinishedUndone}, r.Result, "command %d", nth)
		f.siteFits()
		if !cut {
			break
		}
	}
}

// What cannot be asked of a certificate is refused before anything is tried.
func TestCertificatesThatCannotBeRotated(t *testing.T) {
	f := withCertifier(t)
	k := f.takenCertificate()
	for name, wish := range map[string]planning.Request{
		"no such authority": {OnFailure: rotation.UndoOnFailure, Authority: "bookings1"},
		"a life":            {OnFailure: rotation.UndoOnFailure, Lasts: 90 * 24 * time.Hour},
		"a length":          {OnFailure: rotation.UndoOnFailure, Length: 20},
		"a type":            {OnFailure: rotation.UndoOnFailure, Type: "ssh-ed25519"},
		"stopped first":     {OnFailure: rotation.UndoOnFailure, StopFirst: true},
	} {
		_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), wish)
		require.ErrorIs(t, err, app.ErrInput, name)
	}
	r := f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.quiet()

	// Of two authorities the one that issued it is meant, and before that somebody must say.
	config, err := f.estate.Authority.Server("127.0.0.1")
	require.NoError(t, err)
	other := acme.New(config, f.estate.Authority, func(string) string { return "" })
	address, err := other.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, other.Close()) })
	host, port := larkmoor.Port(address)
	_, err = f.Inventory.Add(t.Context(), ines, records.System{Name: "other-ca", Kind: "certificate-authority", Address: host, Port: port, Steward: "ca", TrustedCA: f.estate.CA})
	require.NoError(t, err)
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, k), planning.Request{OnFailure: rotation.UndoOnFailure})
	require.NoError(t, err)
	assert.Equal(t, "ca", v.Plan.Authority)
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, k), planning.Request{OnFailure: rotation.UndoOnFailure, Authority: "other-ca", When: rotation.RestartLeave})
	require.NoError(t, err)
	assert.Equal(t, "other-ca", v.Plan.Authority)
	assert.Contains(t, notes(v.Plan), "port 0.0.0.0:8443 on bookings1 goes on showing the old certificate")
	for _, name := range []string{"ca", "other-ca"} {
		require.NoError(t, f.Inventory.Remove(t.Context(), ines, name))
	}
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, k), planning.Request{OnFailure: rotation.UndoOnFailure})
	require.ErrorIs(t, err, app.ErrRefused)
	require.ErrorContains(t, err, "no system that issues certificates is known")
}

func notes(p rotation.Plan) string {
	var out []string
	for _, n := range p.Notes {
		out = append(out, n.String())
	}
	return strings.Join(out, "\n")
}
