package conformance

import (
	"context"
	"io"
	"net"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

// sessions: calls that follow each other use one sign-in when they are told to,
// and only then; no other steward's; and a lost one is noticed.
func (s *suite) sessions(t *testing.T) {
	if !s.can(t, connect.ActSessions) {
		return
	}
	between := s.counted(t)
	target := s.Target
	target.Address, target.Port = between.address(t)
	call := func(ctx context.Context, target connect.Target) error {
		switch {
		case s.Unit.Kind != "":
			_, err := s.Connector.UnitState(ctx, target, s.Unit)
			return err
		default:
			_, err := s.Connector.PasswordRules(ctx, target, s.ref())
			return err
		}
	}

	for range 3 {
		require.NoError(t, call(s.ctx, target))
	}
	assert.Equal(t, 3, between.taken(), "each call signs in when nothing is kept")

	ctx, end := connect.KeepSessions(s.ctx)
	for range 3 {
		require.NoError(t, call(ctx, target))
	}
	assert.Equal(t, 4, between.taken(), "one sign-in for all")

	wrong := target
	wrong.Steward.Password, wrong.Steward.PrivateKey = secret.New("Not-The-Steward-1"), secret.Value{}
	err := call(ctx, wrong)
	assert.Equal(t, connect.CodeStewardRefused, s.failure(t, err).Code, "a session serves nobody with another secret")
	assert.Equal(t, 5, between.taken())

	between.cut(t)
	// The end of a connection takes a moment to be noticed; a call in between may fail for it.
	require.Eventually(t, func() bool { return call(ctx, target) == nil }, 10*time.Second, 10*time.Millisecond, "a lost session is replaced")
	assert.Equal(t, 6, between.taken())

	var all sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		all.Add(1)
		go func() {
			defer all.Done()
			errs[i] = call(ctx, target)
		}()
	}
	all.Wait()
	for _, err := range errs {
		require.NoError(t, err, "calls at the same time do not disturb each other")
	}
	end()
	assert.Eventually(t, func() bool { return between.open() == 0 }, 10*time.Second, 10*time.Millisecond, "nothing stays signed in afterwards")
	before := between.taken()
	require.NoError(t, call(ctx, target), "calls after the end sign in, and out")
	assert.Equal(t, before+1, between.taken())
	assert.Eventually(t, func() bool { return between.open() == 0 }, 10*time.Second, 10*time.Millisecond)
}

// forwarder stands before a system and counts connections.
type forwarder struct {
	listener net.Listener
	to       string

	lock  sync.Mutex
	count int
	conns map[net.Conn]bool
}

func (s *suite) counted(t *testing.T) *forwarder {
	t.Helper()
	port := s.Target.Port
	if port == 0 {
		port = s.Connector.Describe().Port
	}
	address := s.Target.Address
	if address == "" {
		address = s.Target.Name
	}
	// A certificate is for an address of this machine; a host elsewhere has a key.
	listener, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
	if err != nil {
		listener, err = net.Listen("tcp", "127.0.0.1:0")
	}
	require.NoError(t, err)
	f := &forwarder{listener: listener, to: net.JoinHostPort(address, strconv.Itoa(port)), conns: map[net.Conn]bool{}}
	var work sync.WaitGroup
	work.Add(1)
	go func() {
		defer work.Done()
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", f.to)
			if err != nil {
				_ = near.Close()
				continue
			}
			f.lock.Lock()
			f.count++
			f.conns[near] = true
			f.lock.Unlock()
			work.Add(2)
			go func() {
				defer work.Done()
				_, _ = io.Copy(far, near)
				_ = far.Close()
			}()
			go func() {
				defer work.Done()
				_, _ = io.Copy(near, far)
				_ = near.Close()
				f.lock.Lock()
				delete(f.conns, near)
				f.lock.Unlock()
			}()
		}
	}()
	t.Cleanup(func() {
		_ = listener.Close()
		f.closeAll()
		work.Wait()
	})
	return f
}

func (f *forwarder) address(t *testing.T) (string, int) {
	host, port, err := net.SplitHostPort(f.listener.Addr().String())
	require.NoError(t, err)
	number, err := strconv.Atoi(port)
	require.NoError(t, err)
	return host, number
}

func (f *forwarder) taken() int {
	f.lock.Lock()
	defer f.lock.Unlock()
	return f.count
}

func (f *forwarder) open() int {
	f.lock.Lock()
	defer f.lock.Unlock()
	return len(f.conns)
}

func (f *forwarder) closeAll() {
	f.lock.Lock()
	defer f.lock.Unlock()
	for conn := range f.conns {
		_ = conn.Close()
	}
}

// cut ends what is open, as a filter between does, and waits until it has ended.
func (f *forwarder) cut(t *testing.T) {
	t.Helper()
	require.Positive(t, f.open(), "a session is kept")
	f.closeAll()
	require.Eventually(t, func() bool { return f.open() == 0 }, 10*time.Second, 10*time.Millisecond)
}
