// Package tell sends messages to where people are told: a webhook (HTTP with TLS, signed as
// RFC 9421 says), a receiver of system logs (RFC 5424 over TLS, RFC 5425), or a mail server
// (SMTP with STARTTLS, RFC 3207, or TLS from the beginning, RFC 8314).
//
// Nothing is ever sent in clear: messages name accounts and systems. The other side is
// proven by its certificate, and a secret goes only there. Whoever gets a message twice, since
// we were cut off before we heard that it had arrived, knows it by its identifier.
package tell

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"time"

	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/secret"
)

// Kinds of place.
const (
	Webhook = "webhook"
	Syslog  = "syslog"
	Mail    = "mail"
)

// Kinds are all of them.
func Kinds() []string { return []string{Mail, Syslog, Webhook} }

// Place is where messages are sent to.
type Place struct {
	Name      string // of the recipient
	Kind      string
	Address   string       // of a webhook an https address, of others host:port
	TrustedCA string       // PEM; those of this machine when it is empty
	Secret    secret.Value // of a webhook what messages are signed with, of mail the password
	User      string       // of mail: who signs in; nobody when it is empty
	From      string       // of mail
	To        []string     // of mail
}

// Message is what is sent at once.
type Message struct {
	ID     string // the same each time it is sent
	Made   time.Time
	Sent   time.Time // this time
	Host   string    // where we run
	Events []notice.Event
}

// Refusal is that the other side was reached and will not have it: trying again is of no
// use until somebody has done something.
type Refusal struct{ Words string }

func (r *Refusal) Error() string { return r.Words }

// Deadline is how long one sending may take.
const Deadline = 30 * time.Second

// Send sends a message and returns what the other side said. An error that is no *Refusal
// is worth another try; then the message may have arrived all the same.
func Send(ctx context.Context, p Place, m Message) (said string, err error) {
	ctx, cancel := context.WithTimeout(ctx, Deadline)
	defer cancel()
	if len(m.Events) == 0 {
		return "", errors.New("nothing to send")
	}
	switch p.Kind {
	case Webhook:
		said, err = p.webhook(ctx, m)
	case Syslog:
		said, err = p.syslog(ctx, m)
	case Mail:
		said, err = p.mail(ctx, m)
	default:
		return "", fmt.Errorf("recipients of the kind %q are not known", p.Kind)
	}
	if err != nil {
		var untrusted *tls.CertificateVerificationError
		if errors.As(err, &untrusted) {
			return "", fmt.Errorf("%s does not prove that it is %s: %w", p.Name, p.Address, untrusted.Err)
		}
		return "", fmt.Errorf("%s at %s: %w", p.Name, p.Address, err)
	}
	return said, nil
}

// secured are the terms on which we speak to a host.
func (p Place) secured(host string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if p.TrustedCA != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM([]byte(p.TrustedCA)) {
			return nil, errors.New("its trusted authority is not a certificate in PEM")
		}
	}
	return c, nil
}

// CheckAuthority reports whether a text has certificates in PEM.
func CheckAuthority(pem string) error {
	_, err := Place{TrustedCA: pem}.secured("")
	return err
}

func (p Place) dial(ctx context.Context) (*tls.Conn, error) {
	host, _, err := net.SplitHostPort(p.Address)
	if err != nil {
		return nil, err
	}
	config, err := p.secured(host)
	if err != nil {
		return nil, err
	}
	raw, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", p.Address)
	if err != nil {
		return nil, err
	}
	conn, is := raw.(*tls.Conn)
	if !is {
		return nil, errors.Join(errors.New("not a connection with TLS"), raw.Close())
	}
	if end, has := ctx.Deadline(); has {
		if err := conn.SetDeadline(end); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
	}
	return conn, nil
}
