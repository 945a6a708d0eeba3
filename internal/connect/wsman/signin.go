package wsman

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/Azure/go-ntlmssp"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/krberror"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"

	"mossledger.example/moss/internal/core/secret"
)

// SignIn proves who asks. The three ways are Basic, NTLM and Kerberos.
type SignIn interface {
	// Name is the way in a word.
	Name() string
	wrap(http.RoundTripper) http.RoundTripper
}

type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

type basic struct {
	account  string
	password secret.Value
}

// Basic signs in with name and password in each request (RFC 7617), which
// only TLS makes acceptable.
func Basic(account string, password secret.Value) SignIn { return basic{account, password} }

func (basic) Name() string { return "basic" }

func (b basic) wrap(next http.RoundTripper) http.RoundTripper {
	return roundTrip(func(r *http.Request) (*http.Response, error) {
		r = r.Clone(r.Context())
		r.SetBasicAuth(b.account, b.password.RevealString())
		return next.RoundTrip(r)
	})
}

type ntlm struct {
	account  string
	password secret.Value
}

// NTLM signs in by challenge and response (RFC 4559 carries it), once for
// each connection. The transport must keep to one connection.
func NTLM(account string, password secret.Value) SignIn { return ntlm{account, password} }

func (ntlm) Name() string { return "ntlm" }

// wrap sends a request as it is, which succeeds on a connection that is
// signed in. Otherwise the handshake is made without the request's body, and
// the request goes with its last message: it is sent once to a server that
// knows who asks, and an answer that is lost is never taken for a refusal.
func (n ntlm) wrap(next http.RoundTripper) http.RoundTripper {
	var lock sync.Mutex // the handshake belongs to the connection
	return roundTrip(func(r *http.Request) (*http.Response, error) {
		lock.Lock()
		defer lock.Unlock()
		reply, err := next.RoundTrip(again(r, ""))
		if err != nil || reply.StatusCode != http.StatusUnauthorized {
			return reply, err
		}
		scheme := ""
		for _, offer := range reply.Header.Values("WWW-Authenticate") {
			word, _, _ := strings.Cut(offer, " ")
			if strings.EqualFold(word, "Negotiate") || strings.EqualFold(word, "NTLM") && scheme == "" {
				scheme = word
			}
		}
		if scheme == "" {
			return reply, nil
		}
		drain(reply)
		hello, err := ntlmssp.NewNegotiateMessage("", "")
		if err != nil {
			return nil, &SignInError{Err: err}
		}
		opening := again(r, scheme+" "+base64.StdEncoding.EncodeToString(hello))
		opening.Body, opening.ContentLength = http.NoBody, 0
		if reply, err = next.RoundTrip(opening); err != nil {
			return nil, &SignInError{Err: fmt.Errorf("the NTLM handshake broke off: %w", err)}
		}
		drain(reply)
		var challenge []byte
		for _, offer := range reply.Header.Values("WWW-Authenticate") {
			if word, token, found := strings.Cut(offer, " "); found && strings.EqualFold(word, scheme) {
				challenge, _ = base64.StdEncoding.DecodeString(strings.TrimSpace(token))
			}
		}
		if len(challenge) == 0 {
			return nil, &SignInError{Refused: true, Err: fmt.Errorf("the host gave no NTLM challenge (status %d): NTLM may be switched off there", reply.StatusCode)}
		}
		proof, err := ntlmssp.NewAuthenticateMessage(challenge, n.account, n.password.RevealString(), nil)
		if err != nil {
			return nil, &SignInError{Err: fmt.Errorf("the host's NTLM challenge makes no sense: %w", err)}
		}
		return next.RoundTrip(again(r, scheme+" "+base64.StdEncoding.EncodeToString(proof)))
	})
}

func drain(reply *http.Response) {
	_, _ = io.CopyN(io.Discard, reply.Body, 64<<10)
	_ = reply.Body.Close()
}

// again copies a request with a fresh body and the given authorization.
func again(r *http.Request, authorization string) *http.Request {
	out := r.Clone(r.Context())
	if r.GetBody != nil {
		out.Body, _ = r.GetBody() // of a string: it cannot fail
	}
	if authorization != "" {
		out.Header.Set("Authorization", authorization)
	}
	return out
}

// KerberosConfig says where tickets come from.
type KerberosConfig struct {
	Account  string // name or name@REALM
	Realm    string // upper case; taken from Account when empty
	Centers  []string
	Service  string // HTTP/host.domain, the host's service principal name
	Password secret.Value
}

type kerberos struct {
	KerberosConfig
	lock   sync.Mutex
	client *client.Client
}

// Kerberos signs in with a ticket (RFC 4120, RFC 4178, RFC 4559).
func Kerberos(c KerberosConfig) (SignIn, error) {
	if name, realm, found := strings.Cut(c.Account, "@"); found {
		c.Account = name
		if c.Realm == "" {
			c.Realm = realm
		}
	}
	c.Realm = strings.ToUpper(c.Realm)
	if c.Realm == "" || len(c.Centers) == 0 || c.Service == "" {
		return nil, errors.New("Kerberos needs a realm, a key distribution center and the host's service principal name")
	}
	return &kerberos{KerberosConfig: c}, nil
}

func (*kerberos) Name() string { return "kerberos" }

// ticket makes the header of one request.
func (k *kerberos) ticket(r *http.Request) (err error) {
	k.lock.Lock()
	defer k.lock.Unlock()
	defer func() { // the library trusts what a center tells it
		if p := recover(); p != nil {
			err = &SignInError{Err: fmt.Errorf("the key distribution center's answer makes no sense: %v", p)}
		}
	}()
	if k.client == nil {
		var text bytes.Buffer
		fmt.Fprintf(&text, "[libdefaults]\n default_realm = %s\n dns_lookup_kdc = false\n dns_lookup_realm = false\n udp_preference_limit = 1\n[realms]\n %s = {\n", k.Realm, k.Realm)
		for _, center := range k.Centers {
			fmt.Fprintf(&text, "  kdc = %s\n", center)
		}
		text.WriteString(" }\n")
		settings, err := config.NewFromReader(&text)
		if err != nil {
			return &SignInError{Err: fmt.Errorf("Kerberos settings: %w", err)}
		}
		made := client.NewWithPassword(k.Account, k.Realm, k.Password.RevealString(), settings, client.DisablePAFXFAST(true))
		if err := made.Login(); err != nil {
			return kerberosError(err)
		}
		k.client = made
	}
	if err := spnego.SetSPNEGOHeader(k.client, r, k.Service); err != nil {
		return kerberosError(err)
	}
	return nil
}

func kerberosError(err error) error {
	out := &SignInError{Err: fmt.Errorf("no Kerberos ticket: %w", err)}
	var said messages.KRBError
	var wrapped krberror.Krberror
	if errors.As(err, &said) {
		out.Refused = said.ErrorCode != errorcode.KRB_AP_ERR_SKEW
	} else if errors.As(err, &wrapped) {
		out.Refused = wrapped.RootCause == krberror.KDCError && !strings.Contains(err.Error(), "CLOCK")
	}
	if strings.Contains(err.Error(), "KRB_AP_ERR_SKEW") {
		out.Err = fmt.Errorf("the clocks differ by more than Kerberos allows (five minutes by default): %w", err)
	}
	return out
}

func (k *kerberos) wrap(next http.RoundTripper) http.RoundTripper {
	return roundTrip(func(r *http.Request) (*http.Response, error) {
		r = r.Clone(r.Context())
		if err := k.ticket(r); err != nil {
			return nil, err
		}
		return next.RoundTrip(r)
	})
}
