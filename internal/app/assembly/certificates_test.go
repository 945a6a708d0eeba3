package assembly_test

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/rotate/planning"
	_ "mossledger.example/moss/internal/connect/acme"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// withCertifier is a ferry that has the company's authority, and answers for the booking site.
func withCertifier(t *testing.T) *ferry {
	t.Helper()
	return withCertifierBy(t, &clock{})
}

func withCertifierBy(t *testing.T, by *clock) *ferry {
	t.Helper()
	f := startBy(t, by)
	require.NoError(t, f.Inventory.SaveSteward(t.Context(), ines, "ca", larkmoor.CertifierAccount, secret.Value{}, secret.New(f.estate.CertifierKey)))
	host, port := larkmoor.Port(f.estate.Stores["larkmoor-ca"])
	_, err := f.Inventory.Add(t.Context(), ines, records.System{Name: "ca", Kind: "certificate-authority", Address: host, Port: port, Steward: "ca", TrustedCA: f.estate.CA})
	require.NoError(t, err)
	f.answers()
	f.survey("ca", "bookings1")
	return f
}

// answers has the booking site's people send the authority to who answers its challenges.
func (f *ferry) answers() {
	f.t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer, found := f.Base.Challenges.Answer(r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:])
		if !found {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(answer))
	}))
	f.t.Cleanup(server.Close)
	f.estate.AnswersAt(server.URL)
}

// siteShows is what clients of the booking site see: a certificate that its own authority
// signed, with a key that fits.
func (f *ferry) siteShows() *x509.Certificate {
	f.t.Helper()
	roots := x509.NewCertPool()
	require.True(f.t, roots.AppendCertsFromPEM([]byte(f.estate.CA)))
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", f.estate.SiteAddress(), &tls.Config{RootCAs: roots, ServerName: larkmoor.SiteName, MinVersion: tls.VersionTLS12})
	require.NoError(f.t, err)
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0]
}

func (f *ferry) siteCertificate() records.Credential {
	f.t.Helper()
	c, err := f.Picture.FindCredential(f.t.Context(), larkmoor.SiteName)
	require.NoError(f.t, err)
	return c
}

// A certificate is renewed with its key as one: ordered at the authority, which asks the site
// who answers for it; both files replaced, the site restarted, and proven by what clients see;
// and back, with what was issued revoked.
func TestCertificateRotation(t *testing.T) {
	by := &clock{}
	f := withCertifierBy(t, by)
	ctx := t.Context()
	k := f.siteCertificate()
	assert.Equal(t, []any{"certificate", 1, 1}, []any{string(k.Kind), k.Points, k.Locations})
	verdict, err := f.Custody.Take(ctx, ines, k, secret.Value{})
	require.NoError(t, err)
	require.True(t, verdict.Accepted, verdict.Words)
	assert.Contains(t, verdict.Words, "1 of 1 ports show it")
	first, files := f.siteShows(), []string{f.file("bookings1", larkmoor.SiteCertificate), f.file("bookings1", larkmoor.SiteKey)}

	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, k), planning.Request{OnFailure: rotation.UndoOnFailure})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	assert.Contains(t, fmt.Sprintf("%+v", v.Checks), "right to reload bookings-web.service")
	assert.Contains(t, v.Plan.Interruption(), "nothing is restarted; told to read files again while running: 1")
	_, starts := f.estate.Hosts["bookings1"].UnitState("bookings-web.service")
	r := f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	second := f.siteShows()
	assert.NotEqual(t, first.SerialNumber, second.SerialNumber)
	assert.NotEqual(t, first.PublicKey, second.PublicKey)
	assert.Equal(t, first.DNSNames, second.DNSNames)
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 90), second.NotAfter, time.Hour)
	issued, revoked, asked := f.estate.Certifier.Counts()
	assert.Equal(t, []int{1, 0, 2}, []int{issued, revoked, asked}, "both names were answered for")
	f.quiet()
	now := cred(f, k)
	assert.Equal(t, []any{larkmoor.SiteName, 1, 1}, []any{now.Name, now.Points, now.Locations})
	verdict, err = f.Custody.Verify(ctx, ines, now)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)

	back, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", back.Verdict, "%+v", back.Checks)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	assert.Equal(t, first.SerialNumber, f.siteShows().SerialNumber)
	assert.Equal(t, files, []string{f.file("bookings1", larkmoor.SiteCertificate), f.file("bookings1", larkmoor.SiteKey)}, "byte for byte")
	_, revoked, _ = f.estate.Certifier.Counts()
	assert.Equal(t, 1, revoked)
	_, restarted := f.estate.Hosts["bookings1"].UnitState("bookings-web.service")
	assert.Equal(t, starts, restarted, "it ran all the time")

	// A certificate that has ended since is not put back.
	r = f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.quiet()
	by.pass(13 * 24 * time.Hour)
	back, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	assert.Equal(t, "failed", back.Verdict)
	assert.Contains(t, fmt.Sprintf("%+v", back.Checks), "it ended on ")
}
