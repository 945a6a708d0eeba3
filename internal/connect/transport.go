package connect

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// Transport speaks HTTP with a target over a connection that was secured with it, and over
// further ones that are secured in the same way: whatever a URL names, it goes to no other
// place. An answer must begin within a time.
func Transport(target Target, defaultPort int, conn *tls.Conn, config *tls.Config, most int, within time.Duration) *http.Transport {
	first := atomic.Pointer[net.Conn]{}
	ready := net.Conn(conn)
	first.Store(&ready)
	return &http.Transport{
		TLSClientConfig: config, MaxConnsPerHost: most, ResponseHeaderTimeout: within, MaxResponseHeaderBytes: 64 << 10,
		DialTLSContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			if c := first.Swap(nil); c != nil {
				return *c, nil
			}
			again, _, _, failure := Secure(ctx, target, defaultPort, NewStopwatch(), func(error) string { return "" })
			if failure != nil {
				return nil, failure
			}
			return again, nil
		},
	}
}
