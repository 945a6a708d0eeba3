package connections

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/standin"
)

// scarce is a listener without descriptors for a while.
type scarce struct {
	net.Listener
	errs []error
}

func (s *scarce) Accept() (net.Conn, error) {
	if len(s.errs) > 0 {
		err := s.errs[0]
		s.errs = s.errs[1:]
		return nil, &net.OpError{Op: "accept", Err: os.NewSyscallError("accept4", err)}
	}
	return s.Listener.Accept()
}

func TestAShortageOfDescriptorsPasses(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g := NewGuarded(&scarce{inner, []error{syscall.EMFILE, syscall.ENFILE, syscall.ECONNABORTED}}, 4, 2, slog.New(slog.DiscardHandler))
	dial := func() net.Conn {
		c, err := net.Dial("tcp", inner.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return c
	}
	dial()
	first, err := g.Accept()
	require.NoError(t, err)
	dial()
	_, err = g.Accept()
	require.NoError(t, err)

	// A third of the same address is closed; when one leaves there is room.
	third := dial()
	accepted := make(chan error, 1)
	go func() { _, err := g.Accept(); accepted <- err }()
	_, err = third.Read(make([]byte, 1))
	assert.Error(t, err, "closed at once")
	require.NoError(t, first.Close())
	require.NoError(t, first.Close(), "closing twice gives back one place")
	dial()
	require.NoError(t, <-accepted)

	// Closing ends an Accept, also one that waits for better times.
	for _, errs := range [][]error{nil, {syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE, syscall.EMFILE}} {
		inner, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		g := NewGuarded(&scarce{inner, errs}, 4, 2, slog.New(slog.DiscardHandler))
		go func() { _, err := g.Accept(); accepted <- err }()
		require.NoError(t, g.Close())
		assert.ErrorIs(t, <-accepted, net.ErrClosed)
	}
	g = NewGuarded(&scarce{inner, []error{errors.New("another matter")}}, 4, 2, slog.New(slog.DiscardHandler))
	_, err = g.Accept()
	assert.ErrorContains(t, err, "another matter")
}

// Below TLS and above it, what was read can be overwritten.
func TestConnectionsForget(t *testing.T) {
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	near, far := net.Pipe()
	below := &Forgetful{Conn: far}
	above := &Forgetful{Conn: tls.Server(below, config)}
	client := tls.Client(near, &tls.Config{InsecureSkipVerify: true})
	sent := make(chan error, 1)
	go func() {
		_, err := io.WriteString(client, "before lantern-41 after lantern-41")
		sent <- err
	}()
	buffer := make([]byte, 64)
	n, err := above.Read(buffer)
	require.NoError(t, err)
	require.NoError(t, <-sent)
	text := string(buffer[:n])
	require.Contains(t, text, "lantern-41")
	standing := func(c *Forgetful) bool {
		for _, b := range c.buffers {
			if bytes.Contains(b, []byte("lantern-41")) {
				return true
			}
		}
		return false
	}
	require.True(t, standing(above) && standing(below), "it stands in both")
	above.Forget([][]byte{[]byte("lantern-41"), nil})
	assert.False(t, standing(above))
	assert.False(t, standing(below))
	assert.Equal(t, "before \x00\x00\x00\x00\x00\x00\x00\x00\x00\x00 after \x00\x00\x00\x00\x00\x00\x00\x00\x00\x00", string(buffer[:n]), "and nothing else is touched")
	_ = near.Close()
	_ = far.Close()
}
