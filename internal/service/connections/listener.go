// Package connections is what a server's connections need before anything is
// spoken on them: a bound on how many there are, in all and from one address, and
// buffers that can forget what came through them.
package connections

import (
	"errors"
	"io"
	"log/slog"
	"net"
	"sync"
	"syscall"
	"time"
)

// mostConnections are held at the same time, and mostFromOne of them by one
// address; more wait in the system's own queue.
const (
	mostConnections = 1024
	MostFromOne     = 256
)

// guarded is a listener that a shortage does not end: without descriptors it
// waits and goes on, and it takes no more connections than the process can hold
// beside its own work.
type guarded struct {
	net.Listener
	log    *slog.Logger
	places chan struct{}
	most   int // from one address
	closed chan struct{}
	once   sync.Once

	lock sync.Mutex
	from map[string]int
}

// NewGuarded guards a listener: most connections in all, fromOne from one address.
func NewGuarded(inner net.Listener, most, fromOne int, log *slog.Logger) net.Listener {
	return &guarded{Listener: inner, log: log, places: make(chan struct{}, most), most: fromOne, closed: make(chan struct{}), from: map[string]int{}}
}

// RoomForConnections leaves half of the descriptors to databases and surveys.
func RoomForConnections() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return mostConnections
	}
	return int(max(8, min(mostConnections, limit.Cur/2)))
}

// Accept implements net.Listener.
func (g *guarded) Accept() (net.Conn, error) {
	for pause := 5 * time.Millisecond; ; {
		select {
		case g.places <- struct{}{}:
		case <-g.closed:
			return nil, net.ErrClosed
		}
		conn, err := g.Listener.Accept()
		if err != nil {
			<-g.places
			if !shortage(err) {
				return nil, err
			}
			g.log.Warn("no connection can be taken now", "error", err, "again in", pause)
			timer := time.NewTimer(pause)
			select {
			case <-timer.C:
			case <-g.closed:
				timer.Stop()
				return nil, net.ErrClosed
			}
			pause = min(2*pause, time.Second)
			continue
		}
		pause = 5 * time.Millisecond
		host := hostOf(conn)
		if !g.admit(host) {
			_ = conn.Close()
			<-g.places
			continue
		}
		return &held{Conn: conn, stopping: g.closed, leave: func() { g.leave(host) }}, nil
	}
}

// shortage tells what passes from what ends a listener.
func shortage(err error) bool {
	for _, passing := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.ECONNABORTED, syscall.ECONNRESET, syscall.EPERM} {
		if errors.Is(err, passing) {
			return true
		}
	}
	return false
}

func hostOf(conn net.Conn) string {
	host, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	if err != nil {
		return conn.RemoteAddr().String()
	}
	return host
}

func (g *guarded) admit(host string) bool {
	g.lock.Lock()
	defer g.lock.Unlock()
	if g.from[host] >= g.most {
		return false
	}
	g.from[host]++
	return true
}

func (g *guarded) leave(host string) {
	g.lock.Lock()
	if g.from[host]--; g.from[host] <= 0 {
		delete(g.from, host)
	}
	g.lock.Unlock()
	<-g.places
}

// Close implements net.Listener.
func (g *guarded) Close() error {
	g.once.Do(func() { close(g.closed) })
	return g.Listener.Close()
}

// held gives its place back when it is closed.
type held struct {
	net.Conn
	once     sync.Once
	stopping <-chan struct{}
	leave    func()
}

// lingerTime and lingerBytes bound what is still read, and dropped, of who was
// answered before all was sent: closing at once would reset the connection, and
// the answer that says why (413) would be lost.
const (
	lingerTime  = time.Second
	lingerBytes = 16 << 20
)

// Close implements net.Conn.
func (c *held) Close() (err error) {
	c.once.Do(func() {
		defer c.leave()
		half, able := c.Conn.(interface{ CloseWrite() error })
		select {
		case <-c.stopping:
			able = false
		default:
		}
		if able && half.CloseWrite() == nil && c.SetReadDeadline(time.Now().Add(lingerTime)) == nil {
			_, _ = io.CopyN(io.Discard, c.Conn, lingerBytes)
		}
		err = c.Conn.Close()
	})
	return err
}
