package shown

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
)

// named is a server that has a certificate for each of some names, and one, or none, for who
// names nobody.
func named(t *testing.T, first *signed, of map[string]*signed) string {
	t.Helper()
	config := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		s := of[hello.ServerName]
		if s == nil {
			s = first
		}
		if s == nil {
			return nil, fmt.Errorf("nobody is called %q", hello.ServerName)
		}
		return &tls.Certificate{Certificate: [][]byte{s.raw}, PrivateKey: s.key}, nil
	}}
	return serve(t, func(conn net.Conn) {
		server := tls.Server(conn, config)
		if server.HandshakeContext(t.Context()) == nil {
			_, _ = io.Copy(io.Discard, server)
		}
	})
}

func socket(t *testing.T, address string) estate.Socket {
	t.Helper()
	at, err := net.ResolveTCPAddr("tcp", address)
	require.NoError(t, err)
	return estate.Socket{Listens: true, Local: "127.0.0.1", LocalPort: at.Port, Unit: "site.service"}
}

// A port has other certificates for who asks by name: each is told once, with a name that it is
// shown to; what everybody is shown is not told again.
func TestCertificatesByName(t *testing.T) {
	now := time.Now().Truncate(time.Second).UTC()
	one := func(name string, days int) *signed {
		return sign(t, name, false, now.Add(-time.Hour), now.AddDate(0, 0, days), nil)
	}
	first, tide, berth := one("site.larkmoor.example", 90), one("tide.larkmoor.example", 30), one("berth.larkmoor.example", 10)
	of := map[string]*signed{"tide.larkmoor.example": tide, "berth.larkmoor.example": berth, "old.larkmoor.example": berth}
	port, mute, plain := socket(t, named(t, first, of)), socket(t, named(t, nil, of)), socket(t, serve(t, func(net.Conn) {}))
	names := []string{"TIDE.larkmoor.example", "tide.larkmoor.example.", "site.larkmoor.example", "berth.larkmoor.example", "old.larkmoor.example", "nobody.larkmoor.example", "192.0.2.7", "a b.example", "", "localhost"}
	never := func(error) bool { return false }
	seen := Ports(t.Context(), direct, []estate.Socket{port, mute, plain}, names, never)
	ends := map[string]time.Time{}
	for _, d := range seen.Batch.Dependents {
		ends[d.Place] = d.Key.Ends
		assert.Equal(t, []string{"site.service"}, d.Requires)
	}
	at := func(s estate.Socket, name string) string {
		return placeOf(fmt.Sprintf("127.0.0.1:%d", s.LocalPort), name)
	}
	assert.Equal(t, map[string]time.Time{
		at(port, ""): first.is.NotAfter, at(port, "tide.larkmoor.example"): tide.is.NotAfter, at(port, "berth.larkmoor.example"): berth.is.NotAfter,
		at(mute, "tide.larkmoor.example"): tide.is.NotAfter, at(mute, "berth.larkmoor.example"): berth.is.NotAfter,
	}, ends)
	assert.Empty(t, seen.Batch.Problems, "one that shows nothing without a name does for one")
	assert.Zero(t, seen.LeftOut)

	seen = Ports(t.Context(), direct, []estate.Socket{mute}, nil, never)
	assert.Len(t, seen.Batch.Problems, 1)
	assert.Empty(t, seen.Batch.Dependents)

	var many []string
	for i := range 3 * mostNames {
		many = append(many, fmt.Sprintf("n%d.larkmoor.example", i))
	}
	assert.Equal(t, 2*mostNames, Ports(t.Context(), direct, []estate.Socket{port}, many, never).LeftOut)
}

func TestNamesToAskFor(t *testing.T) {
	assert.Equal(t, []string{"a.example", "www.b.example"}, askable([]string{"*.b.example", "A.example.", "a.example", "::1", "2001:db8::1", "x@y.example", "*.*.c.example", "\u00fc.example"}))
	assert.True(t, covers(keys.Certificate{Names: []string{"*.b.example"}}, "www.b.example"))
	assert.False(t, covers(keys.Certificate{Names: []string{"b.example", "192.0.2.1"}}, "www.b.example"))
	for _, place := range []string{"0.0.0.0:443", "[::]:443 a.example"} {
		assert.Equal(t, place, placeOf(portOf(place)))
	}
}
