package shown

import (
	"context"
	"errors"
	"net"
	"net/netip"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// Prohibited: a host's SSH server connects nobody, or not there.
func Prohibited(err error) bool {
	var closed *ssh.OpenChannelError
	return errors.As(err, &closed) && closed.Reason == ssh.Prohibited
}

// From connects from a host (RFC 4254, section 7.2), or from here where that is not let: then
// to the address alone by which the host is reached. What a host says of its addresses leads
// nowhere else. everywhere says of a port that it listens on all addresses, and so on that one.
func From(client *ssh.Client, reached string, everywhere func(port string) bool) Dialer {
	return func(ctx context.Context, address string) (net.Conn, error) {
		conn, err := client.DialContext(ctx, "tcp", address)
		if err == nil || !Prohibited(err) {
			return conn, err
		}
		host, port, wrong := net.SplitHostPort(address)
		if wrong != nil || host != reached && !everywhere(port) {
			return nil, err
		}
		outside, failed := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(reached, port))
		if failed != nil {
			return nil, err
		}
		return outside, nil
	}
}

// One asks the port at a place that a visit gave it, as the visit did.
func One(ctx context.Context, client *ssh.Client, target connect.Target, place string) (estate.Key, *connect.Failure) {
	at, name := portOf(place)
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return estate.Key{}, target.Fail(connect.StageProve, connect.CodeGone, place+" is no port", "run a survey of this host", err)
	}
	address, everywhere := at, false
	if at, err := netip.ParseAddr(host); err == nil && at.IsUnspecified() {
		everywhere = true
		if address = net.JoinHostPort("127.0.0.1", port); at.Is6() {
			address = net.JoinHostPort("::1", port)
		}
	}
	a := Ask(ctx, From(client, target.Address, func(string) bool { return everywhere }), address, name)
	switch {
	case len(a.Chain) > 0:
		return Key(a.Chain[0]), nil
	case a.Err != nil && ctx.Err() != nil:
		return estate.Key{}, target.Lost(connect.StageProve, a.Err, false)
	case a.Err != nil:
		return estate.Key{}, target.Fail(connect.StageProve, connect.CodeFailed, "port "+place+" cannot be asked: "+a.Err.Error(), "see whether what listens there runs", a.Err)
	case a.Words != "":
		return estate.Key{}, target.Fail(connect.StageProve, connect.CodeFailed, "port "+place+" shows no certificate that can be read: "+a.Words, "", nil)
	}
	return estate.Key{}, target.Fail(connect.StageProve, connect.CodeFailed, "port "+place+" shows no certificate", "see whether what listens there runs", nil)
}
