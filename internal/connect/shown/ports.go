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
// Of these only those are asked that begins has, in words of their own.
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
		if !s.Listens || slices.Contains(plain, s.LocalPort) && begins[s.LocalPort] == nil {
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

// Seen is what the ports of a host showed.
type Seen struct {
	Batch   connect.Batch
	Unasked int // ports of which the connection was not let
	LeftOut int // names that ports were not asked for: there are too many
}

// Ports asks the ports of a host that listen, and those that speak TLS also for names that they
// may have other certificates for. prohibited says of an error that the connection was not let.
func Ports(ctx context.Context, dial Dialer, sockets []estate.Socket, names []string, prohibited func(error) bool) (seen Seen) {
	list := toAsk(sockets)
	list = list[:min(len(list), MostPorts)]
	questions := make([]Question, len(list))
	for i, p := range list {
		questions[i].Address = p.address
	}
	names = askable(names)
	if len(names) > mostNames {
		seen.LeftOut, names = len(names)-mostNames, names[:mostNames]
	}
	var more []Question
	var of []port
	answers := AskAll(ctx, dial, questions)
	for i, a := range answers {
		if a.Words == "" {
			seen.take(list[i], "", a, prohibited)
		}
		for _, name := range names {
			switch {
			case a.Err != nil || len(a.Chain) == 0 && a.Words == "" || len(a.Chain) > 0 && covers(a.Chain[0], name):
			case len(more) == MostPorts:
				seen.LeftOut++
			default:
				more, of = append(more, Question{list[i].address, name}), append(of, list[i])
			}
		}
	}
	shown := map[string]bool{}
	for i, a := range answers {
		if len(a.Chain) > 0 {
			shown[list[i].place+" "+mark(a.Chain[0])] = true
		}
	}
	for i, a := range AskAll(ctx, dial, more) {
		// What is shown to everybody, or was shown for a name before, is no other one; and a
		// port that knows no such name says so, or shows another's.
		if len(a.Chain) == 0 || shown[of[i].place+" "+mark(a.Chain[0])] || !covers(a.Chain[0], more[i].Name) {
			continue
		}
		shown[of[i].place+" "+mark(a.Chain[0])], shown[of[i].place] = true, true
		seen.take(of[i], more[i].Name, a, prohibited)
	}
	for i, a := range answers { // one that shows nothing without a name may for one
		if a.Words != "" && !shown[list[i].place] {
			seen.take(list[i], "", a, prohibited)
		}
	}
	return seen
}

// mark tells certificates apart that one port shows.
func mark(c keys.Certificate) string {
	return fmt.Sprint(c.Fingerprint, c.Subject, c.Issuer, c.NotBefore.Unix(), c.NotAfter.Unix(), c.Names)
}

// take keeps an answer.
func (s *Seen) take(p port, name string, a Answer, prohibited func(error) bool) {
	place := placeOf(p.place, name)
	switch {
	case a.Err != nil && prohibited(a.Err):
		s.Unasked++
	case a.Words != "":
		s.Batch.Problems = append(s.Batch.Problems, connect.Unread{Stage: connect.StageRead, Place: "port " + place, What: "it speaks TLS and shows no certificate that can be read: " + a.Words, Next: "look at it with another client: when it ends is not known"})
	case len(a.Chain) > 0:
		key := Key(a.Chain[0])
		words := fmt.Sprintf("%s, a chain of %d", a.Version, len(a.Chain))
		if name != "" {
			words += ", to who asks for " + name
		}
		d := estate.Dependent{Kind: estate.DependentShown, Place: place, Name: a.Chain[0].Subject, Description: words, Key: &key}
		if p.socket.Unit != "" {
			d.Requires = []string{p.socket.Unit}
		}
		s.Batch.Dependents = append(s.Batch.Dependents, d)
	}
}
