package connections

import (
	"bytes"
	"errors"
	"net"
	"sync"
)

// Forgetful is a connection that can overwrite what was read from it: buffers
// are used again, and keep what nobody has written over. Below TLS it is the
// buffer in which a record is decrypted, above it the server's.
type Forgetful struct {
	net.Conn
	lock    sync.Mutex
	buffers [][]byte // buffers that were filled, the latest last
}

// keptBuffers is how many of a connection are remembered: one is used at a
// time, and a larger one may take its place.
const keptBuffers = 4

// Read implements net.Conn.
func (c *Forgetful) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if cap(b) == 0 {
		return n, err
	}
	b = b[:cap(b)]
	c.lock.Lock()
	defer c.lock.Unlock()
	for i, known := range c.buffers {
		if &known[len(known)-1] == &b[len(b)-1] { // another part of the same buffer
			if len(b) > len(known) {
				c.buffers[i] = b
			}
			return n, err
		}
	}
	if len(c.buffers) == keptBuffers {
		c.buffers = c.buffers[1:]
	}
	c.buffers = append(c.buffers, b)
	return n, err
}

// Forget overwrites values in the buffers. It is called while the request that
// came through them is answered, when nobody reads.
func (c *Forgetful) Forget(values [][]byte) {
	if inner, ok := c.Conn.(interface{ NetConn() net.Conn }); ok {
		if below, ours := inner.NetConn().(*Forgetful); ours {
			below.Forget(values)
		}
	}
	c.lock.Lock()
	defer c.lock.Unlock()
	for _, buffer := range c.buffers {
		for _, value := range values {
			overwrite(buffer, value)
		}
	}
}

func overwrite(buffer, value []byte) {
	for len(value) > 0 {
		at := bytes.Index(buffer, value)
		if at < 0 {
			return
		}
		clear(buffer[at : at+len(value)])
		buffer = buffer[at+len(value):]
	}
}

// CloseWrite ends what is written, where the connection can.
func (c *Forgetful) CloseWrite() error {
	if half, able := c.Conn.(interface{ CloseWrite() error }); able {
		return half.CloseWrite()
	}
	return errors.ErrUnsupported
}

// Forgetting makes connections forgetful.
type Forgetting struct{ net.Listener }

// Accept implements net.Listener.
func (l Forgetting) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &Forgetful{Conn: conn}, nil
}
