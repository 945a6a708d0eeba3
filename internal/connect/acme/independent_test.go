package acme

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// An authority that others wrote, which refuses good nonces now and then, looks names up, and
// asks over HTTP as it does in earnest.
func TestAnAuthorityThatOthersWrote(t *testing.T) {
	var lock sync.Mutex
	answers := map[string]string{}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		lock.Lock()
		defer lock.Unlock()
		_, _ = io.WriteString(w, answers[r.Host+r.URL.Path])
	}))
	t.Cleanup(site.Close)
	_, text, err := net.SplitHostPort(site.Listener.Addr().String())
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)

	t.Setenv("PEBBLE_VA_NOSLEEP", "1")
	t.Setenv("PEBBLE_WFE_NONCEREJECT", "20")
	quiet := log.New(io.Discard, "", 0)
	memory := db.NewMemoryStore()
	authority := ca.New(quiet, memory, "", "ecdsa", 0, 2, map[string]ca.Profile{"default": {Description: "usual"}})
	front := wfe.New(quiet, memory, va.New(quiet, port, port, true, names(t), memory), authority, nil, true, false, 1, 1)
	server := httptest.NewTLSServer(front.Handler())
	t.Cleanup(server.Close)
	host, text, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(t, err)
	port, err = strconv.Atoi(text)
	require.NoError(t, err)

	account, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	target := connect.Target{
		SystemID: "1", Name: "ca", Kind: Kind, Address: host, Port: port, Options: map[string]string{"directory": wfe.DirectoryPath, "register": "on"},
		TrustedCA: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})), Steward: connect.Steward{Account: "ledger", PrivateKey: written(t, account)},
	}
	const name = "booking.larkmoor.example"
	before := &x509.Certificate{DNSNames: []string{name, "www." + name}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	assert.False(t, Connector{}.Check(t.Context(), target).OK(), "there is no account yet")

	for kind, private := range map[string]secret.Value{"P-256": written(t, fresh(t)), "RSA": written(t, rsaKey(t))} {
		request, err := keys.Ask(private, before, rand.Reader)
		require.NoError(t, err, kind)
		ordered, err := Connector{}.Order(t.Context(), target, before.DNSNames)
		require.NoError(t, err, kind)
		lock.Lock()
		for _, c := range ordered.Challenges {
			answers[c.Name+":"+strconv.Itoa(portOf(t, site))+"/.well-known/acme-challenge/"+c.Token] = c.Answer
			answers[c.Name+"/.well-known/acme-challenge/"+c.Token] = c.Answer
		}
		lock.Unlock()
		chain, err := Connector{}.Issue(t.Context(), target, ordered, request)
		require.NoError(t, err, kind)
		list, err := keys.ReadChain(chain)
		require.NoError(t, err)
		assert.Empty(t, keys.Misfit(list, private, before, time.Now()), kind)
		assert.GreaterOrEqual(t, len(list), 2)
		verified(t, authority.GetRootCert(0).PEM(), chain)
		require.NoError(t, Connector{}.Revoke(t.Context(), target, chain), kind)
		require.NoError(t, Connector{}.Revoke(t.Context(), target, chain), "once more")
	}
	report := Connector{}.Check(t.Context(), target)
	assert.True(t, report.OK(), "%+v", report.Stages)

	// Nobody answers for this one.
	ordered, err := Connector{}.Order(t.Context(), target, []string{"tide.larkmoor.example"})
	require.NoError(t, err)
	request, err := keys.Ask(written(t, fresh(t)), &x509.Certificate{DNSNames: []string{"tide.larkmoor.example"}}, rand.Reader)
	require.NoError(t, err)
	_, err = Connector{}.Issue(t.Context(), target, ordered, request)
	require.ErrorContains(t, err, "does not believe that tide.larkmoor.example is ours")
	require.ErrorContains(t, err, "/.well-known/acme-challenge/")
}

// names answers that every name is here.
func names(t *testing.T) string {
	t.Helper()
	listener, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{Listener: listener, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, asked *dns.Msg) {
		answer := new(dns.Msg)
		answer.SetReply(asked)
		if q := asked.Question[0]; q.Qtype == dns.TypeA {
			answer.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: q.Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 1}, A: net.IPv4(127, 0, 0, 1)}}
		}
		_ = w.WriteMsg(answer)
	})}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = server.ActivateAndServe()
	}()
	t.Cleanup(func() {
		_ = server.Shutdown()
		<-ended
	})
	return listener.Addr().String()
}

func portOf(t *testing.T, s *httptest.Server) int {
	t.Helper()
	_, text, err := net.SplitHostPort(s.Listener.Addr().String())
	require.NoError(t, err)
	port, err := strconv.Atoi(text)
	require.NoError(t, err)
	return port
}

func fresh(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func rsaKey(t *testing.T) *rsa.PrivateKey {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return key
}

func written(t *testing.T, key any) secret.Value {
	t.Helper()
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

// verified: OpenSSL finds the way from a certificate to the root.
func verified(t *testing.T, root []byte, chain string) {
	t.Helper()
	dir := t.TempDir()
	for name, content := range map[string][]byte{"root.pem": root, "chain.pem": []byte(chain)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
	}
	out, err := exec.CommandContext(t.Context(), "openssl", "verify", "-CAfile", filepath.Join(dir, "root.pem"), "-untrusted", filepath.Join(dir, "chain.pem"), filepath.Join(dir, "chain.pem")).CombinedOutput()
	require.NoError(t, err, strings.TrimSpace(string(out)))
}
