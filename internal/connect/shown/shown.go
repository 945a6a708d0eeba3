// Package shown asks ports which certificate they show.
//
// A certificate in a file is what a program will show after it has read the file again; the one
// behind its port is what clients see now. Ports are asked as any client would, with the
// beginning of a handshake (RFC 8446, section 4), and what they show is believed by nobody:
// nothing is sent after it.
package shown

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
)

const (
	// AtOnce is how many ports of one system are asked at the same time.
	AtOnce = 32
	// askTime bounds one handshake: what speaks another protocol often waits for more.
	askTime = 3 * time.Second
)

// Dialer connects from where the ports are asked.
type Dialer func(ctx context.Context, address string) (net.Conn, error)

// Answer is what a port showed.
type Answer struct {
	Address string // asked
	// Chain is in the order in which it was shown; empty where the port speaks no TLS.
	Chain   []keys.Certificate
	Version string // TLS 1.3
	Words   string // why none was shown, where the port does speak TLS
	Err     error  // it could not be asked
}

// Ask asks one port. A name is that by which the server is asked for; "" for none.
func Ask(ctx context.Context, dial Dialer, address, name string) (a Answer) {
	a.Address = address
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	conn, err := dial(ctx, address)
	if err != nil {
		a.Err = err
		return a
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // a forwarded connection knows no deadlines
	defer stop()
	if begin := beginOf(address); begin != nil && begin(conn) != nil {
		return a // it speaks no TLS, or another protocol
	}
	var list []*x509.Certificate
	config := &tls.Config{
		ServerName: name, MinVersion: tls.VersionTLS10, // what old servers show ends too
		// Nobody is trusted: only looked at.
		InsecureSkipVerify: true, //nolint:gosec // see above
		VerifyConnection: func(state tls.ConnectionState) error {
			list, a.Version = state.PeerCertificates, tls.VersionName(state.Version)
			return nil
		},
	}
	client := tls.Client(conn, config)
	if err = client.HandshakeContext(ctx); err == nil {
		_ = client.Close() // as a client says that it wants no more
	}
	var alert tls.AlertError
	var record tls.RecordHeaderError
	switch {
	case len(list) > 0:
		a.Chain = keys.Chain(list, nil)
	case err == nil || errors.As(err, &record) || errors.Is(err, io.EOF) || connect.IsTimeout(err) || errors.Is(err, net.ErrClosed) || ctx.Err() != nil:
		// Another protocol, or somebody who hangs up at once.
	case errors.As(err, &alert) || strings.HasPrefix(err.Error(), "tls: ") || strings.HasPrefix(err.Error(), "remote error: tls: "):
		a.Words = strings.TrimPrefix(err.Error(), "tls: ")
	}
	return a
}

// Question is what a port is asked.
type Question struct {
	Address string
	Name    string // that the server is asked for; "" for none
}

// AskAll asks many ports, a few at the same time. Answers come in the order of the questions.
func AskAll(ctx context.Context, dial Dialer, questions []Question) []Answer {
	out := make([]Answer, len(questions))
	slots := make(chan struct{}, AtOnce)
	var all sync.WaitGroup
	for i, q := range questions {
		slots <- struct{}{}
		all.Add(1)
		go func() {
			defer func() { <-slots; all.Done() }()
			out[i] = Ask(ctx, dial, q.Address, q.Name)
		}()
	}
	all.Wait()
	return out
}
