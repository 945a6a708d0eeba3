package unixhost

import (
	"context"
	"net"
	"sync"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/reaching"
	"mossledger.example/moss/internal/core/reach"
)

// probesAtOnce is how many ports are asked from one host at the same time.
const probesAtOnce = 4

// Reach implements connect.Reacher: the host's SSH server connects (RFC 4254, section 7.2), so
// nothing has to be installed there and no command is run.
func (Connector) Reach(ctx context.Context, target connect.Target, asks []reach.Ask) ([]reach.Result, error) {
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return nil, failure
	}
	defer s.Close()
	dial := func(ctx context.Context, address string) (net.Conn, error) {
		return s.Client.DialContext(ctx, "tcp", address)
	}
	out := make([]reach.Result, len(asks))
	places := make(chan struct{}, probesAtOnce)
	var all sync.WaitGroup
	for i, ask := range asks {
		places <- struct{}{}
		all.Add(1)
		go func() {
			defer all.Done()
			defer func() { <-places }()
			if ask.Proxy == "environment" {
				out[i] = reach.Result{Outcome: reach.Unprobed, Words: "the environment of programs there is not known: name the proxy", Steps: []reach.ProbeStep{}}
				return
			}
			out[i] = reaching.Probe(ctx, dial, ask)
		}()
	}
	all.Wait()
	return out, nil
}
