package directory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/krberror"
	"github.com/jcmturner/gokrb5/v8/messages"

	"mossledger.example/moss/internal/connect"
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

// strongKeys are the types of keys that are asked for: no answer may have the value tried
// in a form that is quickly guessed (RFC 3962).
const strongKeys = "aes256-cts-hmac-sha1-96 aes128-cts-hmac-sha1-96"

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
	if err := ticket(net.JoinHostPort(host, centerPort), entry, value); err != nil {
		failure.Words += "; and no ticket was given: " + secret.Scrub(err.Error(), value)
		return connect.Verdict{}, failure
	}
	return connect.Verdict{Accepted: true, Ticket: true, Words: "a ticket was given for it, although a bind is refused: " + failure.Words}, nil
}

// ticket asks a center for one. Each try is bounded by some seconds.
func ticket(center string, entry *ldap.Entry, value secret.Value) error {
	realm := strings.ToUpper(dnsOf(entry.DN))
	if realm == "" || strings.ContainsAny(realm, "{}=\n ") {
		return errors.New("its name says nothing of its domain")
	}
	settings, err := config.NewFromString(fmt.Sprintf("[libdefaults]\n default_realm = %[1]s\n dns_lookup_kdc = false\n dns_lookup_realm = false\n udp_preference_limit = 1\n"+
		" default_tkt_enctypes = %[2]s\n default_tgs_enctypes = %[2]s\n permitted_enctypes = %[2]s\n[realms]\n %[1]s = {\n  kdc = %[3]s\n }\n", realm, strongKeys, center))
	if err != nil {
		return err
	}
	c := client.NewWithPassword(entry.GetAttributeValue("sAMAccountName"), realm, value.RevealString(), settings, client.DisablePAFXFAST(true))
	defer c.Destroy()
	err = c.Login()
	var said messages.KRBError
	var wrapped krberror.Krberror
	switch {
	case errors.As(err, &said):
		return errors.New(said.Error())
	case errors.As(err, &wrapped) && len(wrapped.EText) > 0:
		return errors.New(wrapped.EText[0])
	}
	return err
}
