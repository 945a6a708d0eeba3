package standin_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	cloudconnect "mossledger.example/moss/internal/connect/cloud"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/cloud"
)

// feeds is a project with a steward and an identity, whose key ends when the clock says so.
type feeds struct {
	*cloud.Project
	target  connect.Target
	ahead   atomic.Int64
	key     secret.Value // of the identity
	keyID   string
	account connect.AccountRef
}

func privatePEM(t *testing.T, key any) secret.Value {
	t.Helper()
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

func newFeeds(t *testing.T) *feeds {
	t.Helper()
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	f := &feeds{}
	f.Project, err = cloud.New("larkmoor-feeds", config, func() time.Time { return time.Now().Add(time.Duration(f.ahead.Load())) })
	require.NoError(t, err)
	f.AddIdentity(cloud.Identity{ID: "1001", Email: "steward@feeds.larkmoor.example", Manages: true})
	f.AddIdentity(cloud.Identity{ID: "1002", Email: "timetable@feeds.larkmoor.example", Description: "Timetable feed"})
	for i := range 120 { // more than one page
		f.AddIdentity(cloud.Identity{ID: fmt.Sprint(2000 + i), Email: fmt.Sprintf("feed%d@feeds.larkmoor.example", i)})
	}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	_, err = f.AddKey("1001", &own.PublicKey, time.Time{})
	require.NoError(t, err)
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	f.keyID, err = f.AddKey("1002", &key.PublicKey, time.Now().Add(time.Hour))
	require.NoError(t, err)
	f.key = privatePEM(t, key)
	address, err := f.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, f.Close()) })
	host, port := split(t, address)
	f.target = connect.Target{SystemID: "feeds", Name: "feeds", Kind: cloudconnect.Kind, Address: host, Port: port, TrustedCA: authority.PEM, Steward: connect.Steward{Account: "steward@feeds.larkmoor.example", PrivateKey: privatePEM(t, own)}}
	f.account = connect.AccountRef{StableID: "1002", Name: "timetable", DN: "timetable@feeds.larkmoor.example"}
	return f
}

func (f *feeds) says(t *testing.T, yes bool, words string) {
	t.Helper()
	v, err := cloudconnect.Connector{}.VerifyKey(t.Context(), f.target, f.account, f.key, nil)
	require.NoError(t, err, words)
	assert.Equal(t, yes, v.Accepted, "%s: %+v", words, v)
	assert.Contains(t, v.Words, words)
}

func TestCloudStandInConforms(t *testing.T) {
	f := newFeeds(t)
	old, err := keys.PairOf(f.key)
	require.NoError(t, err)
	_, _, certificate, _ := pairOf(t, time.Time{})
	conformance.Run(t, conformance.Fixture{Connector: cloudconnect.Connector{}, Target: f.target, Account: "timetable", Password: secret.New("no password is used here"), DeadAddress: "127.0.0.250", Issuer: "identities/1002", Pair: connect.Values{Old: secret.New(old.Line), New: secret.New(certificate)}})
}

// A key is taken until its end by the project's clock, and refused from then on; what is
// disabled, enabled, deleted is so, in the words that the rehearsal foretells; and what a far
// end means is never.
func TestKeysOfCloudIdentities(t *testing.T) {
	f := newFeeds(t)
	c := cloudconnect.Connector{}
	f.says(t, true, "a token was given")
	change := func(act expiry.Act, of expiry.What) expiry.EndChange {
		e := expiry.EndChange{Act: act, Of: of, Name: "timetable", ID: "1002", DN: f.account.DN}
		if of == expiry.Key {
			e.KeyID = f.keyID
		}
		return e
	}
	for _, of := range []expiry.What{expiry.Key, expiry.Account} {
		disable := change(expiry.Disable, of)
		told, err := c.Ending(t.Context(), f.target, disable)
		require.NoError(t, err)
		require.NoError(t, c.End(t.Context(), f.target, disable, false))
		f.says(t, false, told.Sights[0].Words)
		require.NoError(t, c.End(t.Context(), f.target, disable, true))
		f.says(t, true, "a token was given")
	}
	// The answer is lost: it is not known what became of it, and a look tells.
	f.SetFault(cloud.Fault{Lose: true})
	err := c.End(t.Context(), f.target, change(expiry.Disable, expiry.Key), false)
	f.SetFault(cloud.Fault{})
	require.True(t, connect.IsUnclear(err), "%v", err)
	told, err := c.Ending(t.Context(), f.target, change(expiry.Disable, expiry.Key))
	require.NoError(t, err)
	assert.True(t, told.There && told.InForce)
	require.NoError(t, c.End(t.Context(), f.target, change(expiry.Enable, expiry.Key), false))
	// Its own clock passes the end.
	f.ahead.Store(int64(59 * time.Minute))
	f.says(t, true, "a token was given")
	f.ahead.Store(int64(61 * time.Minute))
	f.says(t, false, "invalid_grant: the key "+f.keyID+" expired at ")
	f.ahead.Store(0)
	var keys []estate.Dependent
	accounts := 0
	coverage, err := c.Visit(t.Context(), f.target, connect.VisitRequest{}, func(b connect.Batch) error {
		keys, accounts = append(keys, b.Dependents...), accounts+len(b.Accounts)
		return nil
	})
	require.NoError(t, err)
	assert.Empty(t, coverage.Why)
	assert.Equal(t, 122, accounts, "page by page")
	require.Len(t, keys, 2)
	assert.True(t, keys[0].Key.Ends.IsZero(), "the year 9999 is never")
	assert.WithinDuration(t, time.Now().Add(time.Hour), keys[1].Key.Ends, time.Minute)
	assert.Equal(t, f.keyID, keys[1].Key.KeyID)
	require.NoError(t, c.End(t.Context(), f.target, change(expiry.Delete, expiry.Key), false))
	f.says(t, false, "has no key "+f.keyID)
	_, err = c.Ending(t.Context(), f.target, expiry.EndChange{Act: expiry.Disable, Of: expiry.Account, Name: "steward", ID: "1001", DN: "steward@feeds.larkmoor.example"})
	require.ErrorContains(t, err, "lock us out")
}

// A program that nobody here wrote the client of: plain HTTP, a certificate by the standard
// library, the answers of the protocol.
func TestCloudProjectSpeaksPlainly(t *testing.T) {
	f := newFeeds(t)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(f.target.TrustedCA)))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}
	do := func(method, path, token, contentType, body string) (int, map[string]any) {
		request, err := http.NewRequestWithContext(t.Context(), method, f.URL()+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", contentType)
		response, err := client.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		raw, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		out := map[string]any{}
		if len(raw) > 0 {
			require.NoError(t, json.Unmarshal(raw, &out), string(raw))
		}
		return response.StatusCode, out
	}
	for name, c := range map[string]struct{ body, code, words string }{
		"no grant":        {"grant_type=password&username=x", "unsupported_grant_type", ""},
		"no JWT":          {"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Ajwt-bearer&assertion=abc", "invalid_grant", "no signed JWT"},
		"an unsigned one": {"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Ajwt-bearer&assertion=eyJhbGciOiJub25lIn0.eyJpc3MiOiJ0aW1ldGFibGVAZmVlZHMubGFya21vb3IuZXhhbXBsZSJ9.", "invalid_grant", "no signed JWT"},
	} {
		status, said := do("POST", "/token", "", "application/x-www-form-urlencoded", c.body)
		assert.Equal(t, 400, status, name)
		assert.Equal(t, c.code, said["error"], name)
		assert.Contains(t, said["error_description"], c.words, name)
	}
	for _, path := range []string{"/identities", "/feeds/timetable"} {
		status, _ := do("GET", path, "eyJhbGciOiJIUzI1NiJ9.e30.x", "", "")
		assert.Equal(t, 401, status, path)
	}
	_, keys := do("GET", "/jwks", "", "", "")
	assert.Len(t, keys["keys"], 1)
	key, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	_, err = f.AddKey("1002", &key.PublicKey, time.Time{})
	require.NoError(t, err)
	v, err := cloudconnect.Connector{}.VerifyKey(t.Context(), f.target, f.account, privatePEM(t, key), nil)
	require.NoError(t, err)
	assert.Contains(t, v.Words, "the curve P-384 is not taken")
	assert.False(t, v.Accepted)
	// A certificate whose end is the key's, made by the standard library.
	signed := signedIn(t, f)
	template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "timetable"}, NotBefore: time.Now().Add(-time.Minute), NotAfter: time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC)}
	p256, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &p256.PublicKey, p256)
	require.NoError(t, err)
	body, err := json.Marshal(map[string]string{"certificate": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}))})
	require.NoError(t, err)
	status, made := do("POST", "/identities/1002/keys", signed, "application/json", string(body))
	require.Equal(t, 201, status, "%v", made)
	assert.Equal(t, "2031-05-01T00:00:00Z", made["not_after"])
	assert.Nil(t, made["file"], "who uploads one has its private half")
	status, _ = do("POST", "/identities/1002/keys", signed, "application/json", string(body))
	assert.Equal(t, 409, status, "once")
	status, made = do("POST", "/identities/1002/keys", signed, "application/json", `{"not_after":"2020-01-01T00:00:00Z"}`)
	assert.Equal(t, 400, status, "%v", made)
	status, made = do("POST", "/identities/1002/keys", signed, "application/json", `{}`)
	require.Equal(t, 201, status)
	assert.Equal(t, "9999-12-31T23:59:59Z", made["not_after"])
	assert.NotNil(t, made["file"])
}

// signedIn is a token of the steward.
func signedIn(t *testing.T, f *feeds) string {
	t.Helper()
	token, err := f.TokenFor("1001")
	require.NoError(t, err)
	return token
}

// Whoever is not the project is sent nothing: another issuer, tokens elsewhere, a redirect; and
// a server that is busy, slow, or says what is no JSON, is told so.
func TestCloudServersThatAreNone(t *testing.T) {
	f := newFeeds(t)
	c := cloudconnect.Connector{}
	fails := func(what, code, words string) {
		t.Helper()
		_, err := c.Visit(t.Context(), f.target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
		require.Error(t, err, what)
		assert.Equal(t, code, connect.CodeOf(err), "%s: %v", what, err)
		assert.ErrorContains(t, err, words, what)
	}
	f.SetFault(cloud.Fault{Issuer: "https://elsewhere.example"})
	fails("another issuer", connect.CodeUntrusted, `it says that it is "https://elsewhere.example"`)
	f.SetFault(cloud.Fault{Garbage: true})
	fails("garbage", connect.CodeProtocol, "not what was asked for")
	f.SetFault(cloud.Fault{Busy: 2})
	f.says(t, true, "a token was given") // it is asked again, as it says
	f.SetFault(cloud.Fault{Busy: 100})
	fails("busy", connect.CodeUnreachable, "429")
	hang := make(chan struct{})
	f.SetFault(cloud.Fault{Hang: hang})
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	_, err := c.VerifyKey(ctx, f.target, f.account, f.key, nil)
	cancel()
	close(hang)
	require.Error(t, err)
	assert.Contains(t, []string{connect.CodeTimeout, connect.CodeUnreachable}, connect.CodeOf(err))
	f.SetFault(cloud.Fault{})
	// Clocks five minutes off, on either side: what is signed goes by the project's.
	for _, off := range []time.Duration{5 * time.Minute, -5 * time.Minute} {
		f.ahead.Store(int64(off))
		f.says(t, true, "a token was given")
	}
	f.ahead.Store(0)
	// A server with a certificate that is trusted, which sends on.
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	asked := atomic.Int32{}
	other := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		http.Redirect(w, r, f.URL()+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	other.TLS = config
	other.StartTLS()
	defer other.Close()
	f.target.TrustedCA = authority.PEM
	f.target.Address, f.target.Port = split(t, strings.TrimPrefix(other.URL, "https://"))
	fails("a redirect", connect.CodeUntrusted, "sends us elsewhere")
	assert.EqualValues(t, 1, asked.Load())
}
