// Package signedin remembers of each connection to a server who signed in over it: some
// ways to sign in are about a connection, not a request.
package signedin

import (
	"context"
	"net"
	"net/http"
	"sync"
)

// Connection is what a connection was signed in as.
type Connection struct {
	lock      sync.Mutex
	account   string
	audited   string // who was written into the log of security
	challenge []byte
}

type key struct{}

// WithConnection gives every connection of a server one.
func WithConnection(ctx context.Context, _ net.Conn) context.Context {
	return context.WithValue(ctx, key{}, &Connection{})
}

// Of is that of a request.
func Of(r *http.Request) *Connection {
	c, _ := r.Context().Value(key{}).(*Connection)
	if c == nil {
		c = &Connection{}
	}
	return c
}

// Who signed in; "" for nobody yet.
func (c *Connection) Who() string {
	c.lock.Lock()
	defer c.lock.Unlock()
	return c.account
}

// First reports whether nothing was asked over the connection as this account before.
func (c *Connection) First(account string) bool {
	c.lock.Lock()
	defer c.lock.Unlock()
	was := c.audited
	c.audited = account
	return was != account
}

// Set says who signed in.
func (c *Connection) Set(account string) {
	c.lock.Lock()
	defer c.lock.Unlock()
	c.account = account
}

// Challenge keeps what was asked of the client; Challenged returns it once.
func (c *Connection) Challenge(nonce []byte) {
	c.lock.Lock()
	defer c.lock.Unlock()
	c.challenge = nonce
}

// Challenged is what was asked; nil where nothing was, or it was answered already.
func (c *Connection) Challenged() []byte {
	c.lock.Lock()
	defer c.lock.Unlock()
	nonce := c.challenge
	c.challenge = nil
	return nonce
}
