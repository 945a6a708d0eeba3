package shown

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sort"
	"strconv"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
)

// plain are ports of protocols that do not begin with TLS, and of which some write down, or
// print, whatever they are sent: file transfer, SSH, mail, names, files, data stores, printers.
// What they show after they were asked for TLS in words of their own is not told.
var plain = []int{20, 21, 22, 23, 25, 53, 67, 69, 79, 80, 88, 110, 111, 119, 123, 135, 137, 138, 139, 143, 161, 179, 389, 445, 464, 512, 513, 514, 515, 548, 587, 631, 873, 1433, 1521, 2049, 3306, 3389, 5060, 5432, 6379, 9100, 11211, 27017}

// Everywhere: it listens on every address of its host.
func Everywhere(s estate.Socket) bool {
	address, err := netip.ParseAddr(s.Local)
	return err != nil || address.IsUnspecified()
}

// port is one to ask, and who listens there.
type port struct {
	address string // to ask
	place   string
	socket  estate.Socket
}

// toAsk picks the ports that may speak TLS, one for each that is reached in the same way.
func toAsk(sockets []estate.Socket) []port {
	at := map[string]port{}
	for _, s := range sockets {
		if !s.Listens || slices.Contains(plain, s.LocalPort) {
			continue
		}
		host, number := s.Local, strconv.Itoa(s.LocalPort)
		key := net.JoinHostPort(s.Local, number)
		if Everywhere(s) {
			host = "127.0.0.1"
			if s.Local == "::" {
				host = "::1"
			}
			// Both families are one port mostly; what listens on one address alone may be
			// another program.
			key = ":" + number + " " + s.Unit
		}
		p := port{net.JoinHostPort(host, number), net.JoinHostPort(s.Local, number), s}
		if before, found := at[key]; !found || before.place > p.place {
			at[key] = p
		}
	}
	out := make([]port, 0, len(at))
	for _, p := range at {
		out = append(out, p)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].place < out[j].place })
	return out
}

// MostPorts of one host are asked.
const MostPorts = 4000

// Count is how many ports there are to ask.
func Count(sockets []estate.Socket) int { return len(toAsk(sockets)) }

// Key is what is told of a certificate.
func Key(c keys.Certificate) estate.Key {
	return estate.Key{Type: "x509", Subject: c.Subject, Comment: c.Issuer, Public: c.Public, Fingerprint: c.Fingerprint, Names: c.Names, Begins: c.NotBefore, Ends: c.NotAfter, Trouble: c.Trouble, Line: c.Line}
}

// Ports asks the ports of a host that listen, and returns those behind which a certificate is
// shown. unasked are those of which the connection was not let, by what prohibited says.
func Ports(ctx context.Context, dial Dialer, sockets []estate.Socket, prohibited func(error) bool) (batch connect.Batch, unasked int) {
	list := toAsk(sockets)
	list = list[:min(len(list), MostPorts)]
	addresses := make([]string, len(list))
	for i, p := range list {
		addresses[i] = p.address
	}
	for i, a := range AskAll(ctx, dial, addresses) {
		p := list[i]
		switch {
		case a.Err != nil && prohibited(a.Err):
			unasked++
		case a.Words != "":
			batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: "port " + p.place, What: "it speaks TLS and shows no certificate that can be read: " + a.Words, Next: "look at it with another client: when it ends is not known"})
		case len(a.Chain) > 0:
			key := Key(a.Chain[0])
			d := estate.Dependent{Kind: estate.DependentShown, Place: p.place, Name: a.Chain[0].Subject, Description: fmt.Sprintf("%s, a chain of %d", a.Version, len(a.Chain)), Key: &key}
			if p.socket.Unit != "" {
				d.Requires = []string{p.socket.Unit}
			}
			batch.Dependents = append(batch.Dependents, d)
		}
	}
	return batch, unasked
}
