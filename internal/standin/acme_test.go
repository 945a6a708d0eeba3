package standin_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	acmeconnect "mossledger.example/moss/internal/connect/acme"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/acme"
)

const siteName = "booking.larkmoor.example"

// issuing is an authority with an account, and a site that answers what it is told to.
type issuing struct {
	*acme.Server
	target connect.Target
	ca     *standin.Authority

	lock    sync.Mutex
	answers map[string]string
}

func (i *issuing) answer(list []connect.Challenge) {
	i.lock.Lock()
	defer i.lock.Unlock()
	for _, c := range list {
		i.answers["/.well-known/acme-challenge/"+c.Token] = c.Answer
	}
}

func drawn(t *testing.T) (*ecdsa.PrivateKey, secret.Value) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key, privatePEM(t, key)
}

func newIssuing(t *testing.T, names ...string) *issuing {
	t.Helper()
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	i := &issuing{ca: authority, answers: map[string]string{}}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i.lock.Lock()
		defer i.lock.Unlock()
		_, _ = w.Write([]byte(i.answers[r.URL.Path]))
	}))
	t.Cleanup(site.Close)
	i.Server = acme.New(config, authority, func(string) string { return strings.TrimPrefix(site.URL, "http://") })
	address, err := i.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, i.Close()) })
	key, private := drawn(t)
	require.NoError(t, i.Register(&key.PublicKey, names...))
	host, port := split(t, address)
	i.target = connect.Target{SystemID: "1", Name: "ca", Kind: acmeconnect.Kind, Address: host, Port: port, TrustedCA: authority.PEM, Steward: connect.Steward{Account: "ledger@larkmoor.example", PrivateKey: private}}
	return i
}

// before is the certificate in whose place a new one is asked for.
func (i *issuing) before(t *testing.T, names ...string) *x509.Certificate {
	t.Helper()
	text, _, err := i.ca.Issue(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), names...)
	require.NoError(t, err)
	list, err := keys.ReadChain(text)
	require.NoError(t, err)
	return list[0]
}

// issue orders a certificate and has it issued, as a rotation does.
func (i *issuing) issue(t *testing.T, names ...string) (string, secret.Value, error) {
	t.Helper()
	_, private := drawn(t)
	request, err := keys.Ask(private, i.before(t, names...), rand.Reader)
	require.NoError(t, err)
	ordered, err := acmeconnect.Connector{}.Order(t.Context(), i.target, names)
	if err != nil {
		return "", private, err
	}
	i.answer(ordered.Challenges)
	chain, err := acmeconnect.Connector{}.Issue(t.Context(), i.target, ordered, request)
	return chain, private, err
}

func TestCertificateAuthorityConforms(t *testing.T) {
	i := newIssuing(t)
	conformance.Run(t, conformance.Fixture{Connector: acmeconnect.Connector{}, Target: i.target, Account: i.target.Steward.Account, Password: secret.New("no-Passw0rd-is-known-here"), DeadAddress: "127.0.0.9"})
}

// What is issued is about the key and the names that were asked for, is signed, and can be
// taken back, once and again.
func TestCertificatesAreIssued(t *testing.T) {
	i := newIssuing(t)
	chain, private, err := i.issue(t, siteName, "www."+siteName, "192.0.2.7")
	require.NoError(t, err)
	list, err := keys.ReadChain(chain)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	assert.Empty(t, keys.Misfit(list, private, i.before(t, siteName, "www."+siteName, "192.0.2.7"), time.Now()))
	assert.Contains(t, keys.Misfit(list, private, i.before(t, "other.larkmoor.example"), time.Now()), "not good for other.larkmoor.example")
	_, other := drawn(t)
	assert.Contains(t, keys.Misfit(list, other, i.before(t, siteName), time.Now()), "another key")
	_, _, asked := i.Counts()
	assert.Equal(t, 3, asked)
	for range 2 {
		require.NoError(t, acmeconnect.Connector{}.Revoke(t.Context(), i.target, chain))
	}
	_, revoked, _ := i.Counts()
	assert.Equal(t, 1, revoked)
	stranger := newIssuing(t)
	require.ErrorContains(t, acmeconnect.Connector{}.Revoke(t.Context(), stranger.target, chain), "did not order this certificate")
}

// Names that are known to be the account's are not asked about.
func TestKnownNamesAreNotAsked(t *testing.T) {
	i := newIssuing(t, siteName)
	_, _, err := i.issue(t, siteName)
	require.NoError(t, err)
	_, _, asked := i.Counts()
	assert.Zero(t, asked)
}

// What an authority may do instead of issuing is told in its words, and whether it is away.
func TestAuthoritiesThatDoNotIssue(t *testing.T) {
	for name, c := range map[string]struct {
		fault acme.Fault
		names []string
		code  string // "" for that it is issued all the same
		words string
	}{
		"busy for a moment":     {fault: acme.Fault{Busy: 2}},
		"nonces are not good":   {fault: acme.Fault{Nonces: 3}},
		"down":                  {fault: acme.Fault{Down: true}, code: connect.CodeUnreachable, words: "down for maintenance"},
		"busy without an end":   {fault: acme.Fault{Busy: 1000}, code: connect.CodeUnreachable, words: "come again later"},
		"no directory":          {fault: acme.Fault{Garbage: true}, code: connect.CodeProtocol},
		"orders are elsewhere":  {fault: acme.Fault{Away: "https://192.0.2.1/order"}, code: connect.CodeUntrusted, words: "not followed"},
		"orders without TLS":    {fault: acme.Fault{Away: "http://127.0.0.1/order"}, code: connect.CodeUntrusted, words: "not followed"},
		"a name of others":      {names: []string{"www.others.invalid"}, code: connect.CodeNotPermitted, words: "no certificates are issued about www.others.invalid"},
		"the connection is cut": {fault: acme.Fault{Lose: true}, code: connect.CodeUnreachable},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			i := newIssuing(t)
			i.SetFault(c.fault)
			names := c.names
			if names == nil {
				names = []string{siteName}
			}
			_, _, err := i.issue(t, names...)
			if c.code == "" {
				require.NoError(t, err)
				return
			}
			require.Error(t, err)
			assert.Equal(t, c.code, connect.CodeOf(err), err.Error())
			assert.Contains(t, err.Error(), c.words)
			assert.NotContains(t, err.Error(), "PRIVATE KEY")
		})
	}
}

// A site that does not answer is not believed, and the words say where to look.
func TestNobodyAnswersForAName(t *testing.T) {
	i := newIssuing(t)
	ordered, err := acmeconnect.Connector{}.Order(t.Context(), i.target, []string{siteName})
	require.NoError(t, err)
	require.Len(t, ordered.Challenges, 1)
	_, private := drawn(t)
	request, err := keys.Ask(private, i.before(t, siteName), rand.Reader)
	require.NoError(t, err)
	_, err = acmeconnect.Connector{}.Issue(t.Context(), i.target, ordered, request)
	require.ErrorContains(t, err, "does not believe that "+siteName+" is ours")
	require.ErrorContains(t, err, "/.well-known/acme-challenge/")
	issued, _, _ := i.Counts()
	assert.Zero(t, issued)
}

// An authority that never comes to an end is away when the time for the act is over, and what it
// did not say is not known.
func TestAnAuthorityThatNeverAnswers(t *testing.T) {
	i := newIssuing(t)
	i.SetFault(acme.Fault{Stuck: true})
	ordered, err := acmeconnect.Connector{}.Order(t.Context(), i.target, []string{siteName})
	require.NoError(t, err)
	i.answer(ordered.Challenges)
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, err = acmeconnect.Connector{}.Issue(ctx, i.target, ordered, []byte("not asked for"))
	assert.Equal(t, connect.CodeTimeout, connect.CodeOf(err), "%v", err)
}

// What was issued while the connection was cut is fetched by who asks again.
func TestIssuedAndCutOff(t *testing.T) {
	i := newIssuing(t)
	_, private := drawn(t)
	request, err := keys.Ask(private, i.before(t, siteName), rand.Reader)
	require.NoError(t, err)
	ordered, err := acmeconnect.Connector{}.Order(t.Context(), i.target, []string{siteName})
	require.NoError(t, err)
	i.answer(ordered.Challenges)
	i.SetFault(acme.Fault{Lose: true})
	_, err = acmeconnect.Connector{}.Issue(t.Context(), i.target, ordered, request)
	require.Error(t, err)
	assert.True(t, connect.IsUnclear(err))
	i.SetFault(acme.Fault{})
	chain, err := acmeconnect.Connector{}.Issue(t.Context(), i.target, ordered, request)
	require.NoError(t, err)
	list, err := keys.ReadChain(chain)
	require.NoError(t, err)
	assert.Empty(t, keys.Misfit(list, private, i.before(t, siteName), time.Now()))
	issued, _, _ := i.Counts()
	assert.Equal(t, 1, issued)
}

// An account is made only where that is asked for, and one that was ended orders nothing.
func TestAccountsOfAuthorities(t *testing.T) {
	i := newIssuing(t)
	i.Open()
	_, i.target.Steward.PrivateKey = drawn(t)
	_, _, err := i.issue(t, siteName)
	assert.Equal(t, connect.CodeStewardRefused, connect.CodeOf(err))
	require.ErrorContains(t, err, "it has no account of the steward's key")
	i.target.Options = map[string]string{"register": "on"}
	assert.False(t, acmeconnect.Connector{}.Check(t.Context(), i.target).OK(), "a check makes nothing")
	lines := acmeconnect.Connector{}.Rehearse(t.Context(), i.target, []connect.Intention{{Certify: []string{siteName}}})
	assert.Equal(t, connect.CheckWarning, lines[0].Result, "%+v", lines)
	assert.Contains(t, lines[0].Words, "agrees to the authority's terms")
	for range 2 {
		_, _, err = i.issue(t, siteName)
		require.NoError(t, err)
	}
	assert.True(t, acmeconnect.Connector{}.Check(t.Context(), i.target).OK())
	i.Suspend()
	_, _, err = i.issue(t, siteName)
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), "%v", err)
	lines = acmeconnect.Connector{}.Rehearse(t.Context(), i.target, []connect.Intention{{Certify: []string{siteName}}})
	assert.Equal(t, connect.CheckFailed, lines[0].Result)
	_, i.target.Steward.PrivateKey = secret.Value{}, secret.New("no key")
	_, _, err = i.issue(t, siteName)
	assert.Equal(t, connect.CodeStewardRefused, connect.CodeOf(err))
}
