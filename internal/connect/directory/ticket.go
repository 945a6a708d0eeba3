package directory

import (
	"cmp"
	"context"
	"net"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/ticket"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/secret"
)

// A directory of the windows schema may refuse a bind for reasons that are not the value:
// the kind of sign-in, the machine, a group whose members may not be bound. Its key
// distribution center may still give a ticket (RFC 4120, section 3.1). Then the value is
// right: the answer is encrypted with a key that was made of it, and nobody who does not
// have it can write one. A refusal proves nothing: it is not authenticated, and whoever
// answers in the center's place could send one.

// centerPort is that of key distribution centers.
const centerPort = "88"

// byTicket tries a value that a bind said nothing of. failure is what the bind said, with
// what the center said where it gave no ticket either.
func byTicket(ctx context.Context, t connect.Target, account connect.AccountRef, value secret.Value, failure *connect.Failure) (connect.Verdict, *connect.Failure) {
	s, f := signIn(ctx, t, connect.NewStopwatch())
	if f != nil {
		return connect.Verdict{}, failure
	}
	entry, f := s.locate(account, append([]string{"sAMAccountName"}, counted...)...)
	if f == nil {
		// The bind may have counted as a wrong password, and a ticket that is refused is
		// one more.
		f = s.spared(entry, account.Name)
	}
	s.End()
	if f != nil || entry.GetAttributeValue("sAMAccountName") == "" {
		return connect.Verdict{}, failure
	}
	host := cmp.Or(connect.PinOf(ctx, t), t.Address, t.Name)
	if err := ticket.Ask(ctx, net.JoinHostPort(host, centerPort), values.DNSOf(entry.DN), entry.GetAttributeValue("sAMAccountName"), value); err != nil {
		failure.Words += "; and no ticket was given: " + secret.Scrub(err.Error(), value)
		return connect.Verdict{}, failure
	}
	return connect.Verdict{Accepted: true, Ticket: true, Words: "a ticket was given for it, although a bind is refused: " + failure.Words}, nil
}
