package connect_test

import (
	"context"
	"net"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/standin/nameserver"
)

// turning has names resolved to these addresses, in another order each time.
func turning(t *testing.T, addresses ...[4]byte) {
	t.Helper()
	names, err := nameserver.Start(addresses...)
	require.NoError(t, err)
	before := net.DefaultResolver
	net.DefaultResolver = names.Resolver()
	t.Cleanup(func() {
		net.DefaultResolver = before
		_ = names.Close()
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
