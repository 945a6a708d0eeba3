package connect_test

import (
	"context"
	"net"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"mossledger.example/moss/internal/connect"
)

// turning is a name server that tells the addresses of a name in another order each
// time, as those of directories with several controllers do.
func turning(t *testing.T, addresses ...[4]byte) {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	var asked atomic.Int64
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buffer := make([]byte, 1500)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(buffer[:n]) != nil || len(m.Questions) != 1 {
				continue
			}
			m.Response, m.Additionals = true, nil
			if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
				first := int(asked.Add(1))
				for i := range addresses {
					m.Answers = append(m.Answers, dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}, Body: &dnsmessage.AResource{A: addresses[(first+i)%len(addresses)]}})
				}
			}
			if out, err := m.Pack(); err == nil {
				_, _ = conn.WriteTo(out, from)
			}
		}
	}()
	before := net.DefaultResolver
	net.DefaultResolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", conn.LocalAddr().String())
	}}
	t.Cleanup(func() {
		net.DefaultResolver = before
		_ = conn.Close()
		<-ended
	})
}

// listen takes connections on an address, and counts them.
func listen(t *testing.T, address string) (net.Listener, *atomic.Int64) {
	t.Helper()
	l, err := net.Listen("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	var taken atomic.Int64
	go func() { // ends with the listener
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			taken.Add(1)
			_ = c.Close()
		}
	}()
	return l, &taken
}

// The calls of one piece of work reach one of a name's servers, whatever the name
// server says meanwhile, and no other one when that is away.
func TestOneServerOfAName(t *testing.T) {
	first, one := listen(t, "127.0.0.91:0")
	_, port, err := net.SplitHostPort(first.Addr().String())
	require.NoError(t, err)
	second, two := listen(t, "127.0.0.92:"+port)
	turning(t, [4]byte{127, 0, 0, 91}, [4]byte{127, 0, 0, 92})
	target := connect.Target{Name: "dir", Address: "directory.larkmoor.example", Port: first.Addr().(*net.TCPAddr).Port}
	reach := func(ctx context.Context) (string, *connect.Failure) {
		conn, failure := connect.Dial(ctx, target, 0, connect.NewStopwatch())
		if failure != nil {
			return "", failure
		}
		defer conn.Close()
		return conn.RemoteAddr().(*net.TCPAddr).IP.String(), nil
	}
	seen := map[string]int{}
	for range 20 {
		at, failure := reach(t.Context())
		require.Nil(t, failure)
		seen[at]++
	}
	require.Len(t, seen, 2, "without a piece of work each call asks whom it gets: the danger is there")

	work, end := connect.KeepSessions(t.Context())
	defer end()
	assert.Empty(t, connect.PinOf(work, target))
	at, failure := reach(work)
	require.Nil(t, failure)
	assert.Equal(t, at, connect.PinOf(work, target))
	for range 20 {
		again, failure := reach(work)
		require.Nil(t, failure)
		require.Equal(t, at, again)
	}
	// It goes away. The other one is there, and is not asked.
	gone, other := first, two
	if at == "127.0.0.92" {
		gone, other = second, one
	}
	require.NoError(t, gone.Close())
	before := other.Load()
	_, failure = reach(work)
	require.NotNil(t, failure)
	assert.Equal(t, connect.CodeUnreachable, failure.Code)
	assert.Contains(t, failure.Next, "asks no other one")
	assert.Equal(t, before, other.Load())

	// Another piece of work may begin with the one that is left, and what a journal
	// has is kept to.
	later, endLater := connect.KeepSessions(t.Context())
	defer endLater()
	connect.Pin(later, target, at)
	_, failure = reach(later)
	require.NotNil(t, failure, "the server that took the change is away")
	connect.Pin(later, target, "127.0.0.93")
	assert.Equal(t, at, connect.PinOf(later, target), "the first stands")

	plain := connect.Target{Name: "dir", Address: "127.0.0.91"}
	connect.Pin(later, plain, "127.0.0.92")
	assert.Empty(t, connect.PinOf(later, plain), "an address is no name")
	connect.Pin(t.Context(), target, at)
	assert.Empty(t, connect.PinOf(t.Context(), target), "no piece of work, no pin")
}
