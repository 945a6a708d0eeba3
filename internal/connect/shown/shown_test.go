package shown

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"io"
	"math/big"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

// signed makes a certificate; by nobody it signs itself.
type signed struct {
	raw []byte
	key *ecdsa.PrivateKey
	is  *x509.Certificate
}

func sign(t *testing.T, name string, ca bool, from, until time.Time, by *signed) *signed {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: from, NotAfter: until, IsCA: ca, BasicConstraintsValid: ca}
	if !ca {
		template.DNSNames = []string{name}
	}
	parent, signer := template, key
	if by != nil {
		parent, signer = by.is, by.key
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	is, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	return &signed{raw, key, is}
}

// serve listens and has each connection served.
func serve(t *testing.T, each func(net.Conn)) string {
	t.Helper()
	listener, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				each(conn)
			}()
		}
	}()
	t.Cleanup(func() {
		_ = listener.Close()
		<-ended
	})
	return listener.Addr().String()
}

func shows(t *testing.T, config *tls.Config, first *signed, others ...*signed) string {
	t.Helper()
	pair := tls.Certificate{Certificate: [][]byte{first.raw}, PrivateKey: first.key}
	for _, o := range others {
		pair.Certificate = append(pair.Certificate, o.raw)
	}
	config.Certificates = []tls.Certificate{pair}
	return serve(t, func(conn net.Conn) {
		server := tls.Server(conn, config)
		if server.HandshakeContext(t.Context()) == nil {
			_, _ = io.Copy(io.Discard, server)
		}
	})
}

func direct(ctx context.Context, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", address)
}

// What a port shows is told whatever is wrong with it: what has ended, is not good yet, has
// dates that no clock has, is signed by nobody, or comes in the wrong order.
func TestWhatPortsShow(t *testing.T) {
	now := time.Now().Truncate(time.Second).UTC()
	year := func(y int) time.Time { return time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC) }
	root := sign(t, "root", true, year(2000), year(2099), nil)
	middle := sign(t, "middle", true, year(2000), year(2099), root)
	good := sign(t, "site", false, now.Add(-time.Hour), now.Add(90*24*time.Hour), middle)
	for name, c := range map[string]struct {
		address string
		until   time.Time
		trouble string
	}{
		"in order":           {shows(t, &tls.Config{MinVersion: tls.VersionTLS13}, good, middle), good.is.NotAfter, ""},
		"with its root":      {shows(t, &tls.Config{MinVersion: tls.VersionTLS12, MaxVersion: tls.VersionTLS12}, good, middle, root), good.is.NotAfter, ""},
		"an old version":     {shows(t, &tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS10}, good, middle), good.is.NotAfter, ""},
		"in the wrong order": {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, good, root, middle), good.is.NotAfter, "certificate 2 (CN=root) did not sign"},
		"with a stranger":    {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, good, sign(t, "middle", true, year(2000), year(2099), nil)), good.is.NotAfter, "did not sign"},
		"ended":              {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, sign(t, "site", false, year(2001), year(2002), nil)), year(2002), ""},
		"before 1970":        {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, sign(t, "site", false, year(1951), year(1969), nil)), year(1969), ""},
		"for ever":           {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, sign(t, "site", false, now, time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC), nil)), time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC), ""},
		"not good yet":       {shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, sign(t, "site", false, year(2090), year(2091), nil)), year(2091), ""},
		"ends before it begins": {
			shows(t, &tls.Config{MinVersion: tls.VersionTLS12}, sign(t, "site", false, year(2091), year(2090), nil)), year(2090), "ends before it begins",
		},
		"asks who we are": {shows(t, &tls.Config{MinVersion: tls.VersionTLS12, ClientAuth: tls.RequireAnyClientCert}, good, middle), good.is.NotAfter, ""},
	} {
		a := Ask(t.Context(), direct, c.address, "")
		require.NoError(t, a.Err, name)
		require.NotEmpty(t, a.Chain, "%s: %s", name, a.Words)
		assert.Equal(t, c.until, a.Chain[0].NotAfter, name)
		assert.NotEmpty(t, a.Version, name)
		if c.trouble == "" {
			assert.Empty(t, a.Chain[0].Trouble, name)
		} else {
			assert.Contains(t, a.Chain[0].Trouble, c.trouble, name)
		}
	}
}

// What speaks no TLS is left with a short beginning of it, and nothing is made of its answer.
func TestPortsThatShowNothing(t *testing.T) {
	silent := make(chan struct{})
	t.Cleanup(func() { close(silent) })
	addresses := []string{
		serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "220 mail.larkmoor.example\r\n") }),
		serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "HTTP/1.1 400 Bad Request\r\n\r\n") }),
		serve(t, func(net.Conn) {}),
		serve(t, func(net.Conn) { <-silent }),
		serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, strings.Repeat("\x16\x03\x03\xff\xff", 1000)) }),
		serve(t, func(conn net.Conn) { _, _ = conn.Write([]byte{0x15, 3, 3, 0, 2, 2, 40}) }), // an alert: handshake failure
	}
	var questions []Question
	for _, a := range addresses {
		questions = append(questions, Question{Address: a})
	}
	for i, a := range AskAll(t.Context(), direct, questions) {
		assert.Empty(t, a.Chain, i)
		require.NoError(t, a.Err)
		if i == 5 {
			assert.Contains(t, a.Words, "handshake failure")
		} else if i != 4 {
			assert.Empty(t, a.Words, i)
		}
	}
	gone, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, gone.Close())
	require.Error(t, Ask(t.Context(), direct, gone.Addr().String(), "").Err)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, Ask(ctx, direct, addresses[0], "").Err)
}

// Ports are asked once each, those of protocols that begin otherwise not at all, and no more
// than so many, whatever a host says that it listens on.
func TestWhichPortsAreAsked(t *testing.T) {
	list := []estate.Socket{
		{Listens: true, Local: "0.0.0.0", LocalPort: 8443, Unit: "a.service"},
		{Listens: true, Local: "::", LocalPort: 8443, Unit: "a.service"},
		{Listens: true, Local: "127.0.0.1", LocalPort: 9443},
		{Listens: true, Local: "192.0.2.1", LocalPort: 9443},
		{Listens: true, Local: "::", LocalPort: 7443},
		{Listens: true, Local: "0.0.0.0", LocalPort: 22},
		{Listens: true, Local: "0.0.0.0", LocalPort: 9100},
		{Listens: true, Local: "0.0.0.0", LocalPort: 25},
		{Listens: true, Local: "127.0.0.1", LocalPort: 3306},
		{Local: "192.0.2.1", LocalPort: 443, Peer: "192.0.2.9"},
	}
	var asked []string
	for _, p := range toAsk(list) {
		asked = append(asked, p.place+" by "+p.address)
	}
	assert.Equal(t, []string{"0.0.0.0:25 by 127.0.0.1:25", "0.0.0.0:8443 by 127.0.0.1:8443", "127.0.0.1:9443 by 127.0.0.1:9443", "192.0.2.1:9443 by 192.0.2.1:9443", "[::]:7443 by [::1]:7443"}, asked)

	var many []estate.Socket
	for port := range 60_000 {
		many = append(many, estate.Socket{Listens: true, Local: "127.0.0.1", LocalPort: port + 5_000})
	}
	var dialled atomic.Int64
	seen := Ports(t.Context(), func(context.Context, string) (net.Conn, error) {
		dialled.Add(1)
		return nil, errors.New("nobody")
	}, many, []string{"booking.larkmoor.example"}, func(error) bool { return false })
	assert.Empty(t, seen.Batch.Dependents)
	assert.Zero(t, seen.Unasked)
	assert.EqualValues(t, MostPorts, dialled.Load())
	assert.Greater(t, Count(many), MostPorts)
}
