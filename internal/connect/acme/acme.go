// Package acme is the connector for authorities that issue certificates over ACME (RFC 8555).
//
// A steward is an account there: its key signs every request, and no secret goes to the
// authority. A certificate is ordered for names; the authority asks for each that it does not
// know already that we answer for it (section 8.3, over HTTP), and signs then what a request is
// about. The private half of what it certifies never leaves us.
//
// The protocol itself is spoken by the client of golang.org/x/crypto. What is here is what a
// connector adds: that nobody is followed elsewhere, that a busy authority is waited for a
// little and no more, and that what it says is told in its own words.
package acme

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
)

// Kind of system.
const Kind estate.Kind = "certificate-authority"

// Connector implements connect.Connector for authorities.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// Options.
const (
	optionDirectory = "directory"
	optionRegister  = "register"
)

const usualDirectory = "/directory"

var description = connect.Description{
	Kind: Kind, Class: estate.ClassOther, Title: "certificate authority", Port: 443,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPrivateKey},
	Options: []connect.Option{
		{Name: optionDirectory, Type: connect.OptionText, Default: usualDirectory, Help: "path of the directory of its services (RFC 8555, section 7.1.1)"},
		{Name: optionRegister, Type: connect.OptionChoice, Choices: []string{"on", "off"}, Default: "off", Help: "on: the first order makes an account of the steward's key where it has none, and agrees to the authority's terms"},
	},
	Scopes: []string{connect.ScopeAccounts},
	Acts:   []connect.Act{connect.ActVisit, connect.ActRehearse, connect.ActCertify},
	Verbs:  []string{}, Ends: []expiry.Possible{},
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

const (
	callTime = 20 * time.Second
	patience = 30 * time.Second // that a server may ask us to wait
	tries    = 3                // of one request
	nonces   = 8                // that may be refused: who gave one may have forgotten it
)

// session is a client that knows where everything is.
type session struct {
	target connect.Target
	client *acme.Client
	facts  connect.Facts
	terms  string
	revoke bool // it takes certificates back
	trace  connect.Trace
}

// base is where an authority is, as URLs name it.
func base(target connect.Target) string {
	port := target.Port
	if port == 0 {
		port = description.Port
	}
	if port == description.Port { // as it writes itself (RFC 9110, section 4.2.3)
		return "https://" + bracketed(target.Address)
	}
	return "https://" + net.JoinHostPort(target.Address, strconv.Itoa(port))
}

func bracketed(address string) string {
	if strings.Contains(address, ":") {
		return "[" + address + "]"
	}
	return address
}

// only lets requests go nowhere else: what we sign there would prove us to others.
type only struct {
	host  string
	next  http.RoundTripper
	trace connect.Trace
}

func (o only) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Scheme != "https" || r.URL.Host != o.host {
		if r.Body != nil {
			_ = r.Body.Close() // as a RoundTripper must
		}
		return nil, elsewhere(r.URL.Scheme + "://" + r.URL.Host)
	}
	begun := time.Now()
	response, err := o.next.RoundTrip(r)
	o.trace.Tell(connect.Ended("http", r.Method+" "+r.URL.Path, begun, err, nil))
	return response, err
}

type elsewhere string

func (e elsewhere) Error() string {
	return fmt.Sprintf("it sends us to %q, which is not followed", string(e))
}

// open connects, secures, and reads where its services are.
func open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	key, failure := accountKey(target)
	if failure != nil {
		watch.Fail(failure)
		return nil, failure
	}
	next := func(error) string {
		return "is it the authority's own certificate? Give the CA that signed it with --ca"
	}
	conn, config, facts, failure := connect.Secure(ctx, target, description.Port, watch, next)
	if failure != nil {
		return nil, failure
	}
	transport := connect.Transport(target, description.Port, conn, config, 2, callTime)
	at, trace := base(target), connect.TraceOf(ctx)
	directory := target.Options[optionDirectory]
	if directory == "" {
		directory = usualDirectory
	}
	s := &session{target: target, facts: facts, trace: trace, client: &acme.Client{
		Key: key, DirectoryURL: at + "/" + strings.TrimPrefix(directory, "/"), UserAgent: "moss-ledger", RetryBackoff: again,
		HTTPClient: &http.Client{Timeout: callTime, Transport: only{strings.TrimPrefix(at, "https://"), transport, trace}, CheckRedirect: func(*http.Request, []*http.Request) error {
			return elsewhere("another place")
		}},
	}}
	known, err := s.client.Discover(ctx)
	if err == nil && (known.OrderURL == "" || known.RegURL == "" || known.NonceURL == "") {
		err = errors.New("its directory has no newAccount, newNonce or newOrder (RFC 8555, section 7.1.1)")
	}
	if err != nil {
		s.close()
		f := s.failed(connect.StageSecure, err, false)
		if f.Code == connect.CodeFailed {
			f.Code, f.Next = connect.CodeProtocol, "does this port speak for an authority, and is the option "+optionDirectory+" the path of its directory?"
		}
		watch.Fail(f)
		return nil, f
	}
	s.terms, s.revoke = known.Terms, known.RevokeURL != ""
	return s, nil
}

func (s *session) close() { s.client.HTTPClient.CloseIdleConnections() }

// accountKey is the steward's key, of a kind that ACME takes (RFC 8555, section 6.2).
func accountKey(target connect.Target) (crypto.Signer, *connect.Failure) {
	wrong := func(words string) *connect.Failure {
		return target.Fail(connect.StageSignIn, connect.CodeStewardRefused, words, "give the steward the key of an account of the authority, RSA or of the curve P-256, P-384 or P-521", nil)
	}
	if target.Steward.PrivateKey.Empty() {
		return nil, wrong("the steward has no private key")
	}
	raw, err := ssh.ParseRawPrivateKey(target.Steward.PrivateKey.Reveal())
	if err != nil {
		return nil, wrong("the steward's private key cannot be read")
	}
	switch k := raw.(type) {
	case *rsa.PrivateKey:
		return k, nil
	case *ecdsa.PrivateKey:
		return k, nil
	}
	return nil, wrong(fmt.Sprintf("a key of the type %T signs no requests there", raw))
}

// again is how long a request waits that may be made once more: one that came with a used
// nonce at once, others as the authority asks.
func again(n int, _ *http.Request, response *http.Response) time.Duration {
	switch {
	case response == nil:
		return -1
	case response.StatusCode == http.StatusBadRequest && n <= nonces: // badNonce alone is asked about
		return time.Millisecond
	case n >= tries:
		return -1
	case response.StatusCode != http.StatusTooManyRequests && response.StatusCode != http.StatusServiceUnavailable:
		return -1
	}
	said := response.Header.Get("Retry-After")
	pause := time.Second
	if seconds, err := strconv.Atoi(said); err == nil {
		pause = time.Duration(seconds) * time.Second
	} else if at, err := http.ParseTime(said); err == nil {
		pause = time.Until(at)
	}
	if pause > patience {
		return -1
	}
	return max(pause, time.Millisecond)
}

// failed is what went wrong, in the authority's own words where it said any.
func (s *session) failed(stage connect.Stage, err error, sent bool) *connect.Failure {
	var inner *connect.Failure
	if errors.As(err, &inner) {
		return inner
	}
	f := s.target.Fail(stage, connect.CodeFailed, plain(err), "", err)
	var said *acme.Error
	var name *acme.AuthorizationError
	var order *acme.OrderError
	var away elsewhere
	var lost *url.Error
	switch {
	case errors.Is(err, acme.ErrNoAccount):
		f.Code, f.Words = connect.CodeStewardRefused, "it has no account of the steward's key"
		f.Next = "register the key there, or set the option " + optionRegister + "=on, which agrees to its terms"
	case errors.As(err, &away):
		f.Code, f.Words, f.Next = connect.CodeUntrusted, away.Error(), "find out why: nothing was sent there"
	case errors.As(err, &name):
		f.Words = words(name)
		f.Next = "see that http://NAME/.well-known/acme-challenge/ of each name leads to this service, from where the authority is"
	case errors.As(err, &order) && order.Problem != nil:
		f.Words = order.Problem.Detail
	case errors.As(err, &said):
		s.refused(f, said)
	case errors.As(err, &lost), connect.IsTimeout(err), errors.Is(err, context.Canceled):
		f.Code, f.Next, f.Unclear = connect.CodeUnreachable, "the connection was lost", sent
		if connect.IsTimeout(err) {
			f.Code, f.Words = connect.CodeTimeout, fmt.Sprintf("no answer within %s", callTime)
		} else if lost != nil {
			f.Words = lost.Err.Error()
		}
	}
	return f
}

// refused is what the authority said as a problem (RFC 8555, section 6.7).
func (s *session) refused(f *connect.Failure, said *acme.Error) {
	kind := said.ProblemType[strings.LastIndexByte(said.ProblemType, ':')+1:]
	f.Words = strings.TrimSpace(kind + ": " + said.Detail)
	for _, p := range said.Subproblems {
		f.Words += "; " + p.Detail
	}
	f.Words, f.Next = line(f.Words), "ask the people of the authority, or order for names that it certifies"
	switch {
	case kind == "rateLimited" || said.StatusCode == http.StatusTooManyRequests || said.StatusCode >= 502 && said.StatusCode <= 504:
		f.Code, f.Next = connect.CodeUnreachable, "it takes no requests now"
	case kind == "unauthorized" || said.StatusCode == http.StatusForbidden:
		f.Code, f.Next = connect.CodeNotPermitted, "let the account of the steward order certificates for these names"
	case kind == "accountDoesNotExist":
		f.Code = connect.CodeStewardRefused
	}
}

// words are why an authority did not believe that a name is ours.
func words(e *acme.AuthorizationError) string {
	var all []string
	for _, one := range e.Errors {
		var said *acme.Error
		if errors.As(one, &said) {
			all = append(all, said.Detail)
		} else {
			all = append(all, one.Error())
		}
	}
	return line(fmt.Sprintf("it does not believe that %s is ours: %s", e.Identifier, strings.Join(all, "; ")))
}

func plain(err error) string { return line(strings.TrimPrefix(err.Error(), "acme: ")) }

// line is what somebody else wrote, as one line that is not too long.
func line(text string) string {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "\ufffd")), " ")
	if runes := []rune(text); len(runes) > 600 {
		return string(runes[:600]) + "…"
	}
	return text
}

// account finds that of the steward's key; with register it is made where there is none.
func (s *session) account(ctx context.Context, register bool) (*acme.Account, error) {
	is, err := s.client.GetReg(ctx, "")
	if errors.Is(err, acme.ErrNoAccount) && register {
		is, err = s.client.Register(ctx, &acme.Account{}, acme.AcceptTOS)
		if errors.Is(err, acme.ErrAccountAlreadyExists) { // made by somebody else a moment ago
			is, err = s.client.GetReg(ctx, "")
		}
	}
	if err == nil && is.Status != acme.StatusValid {
		err = &acme.Error{StatusCode: http.StatusForbidden, ProblemType: "unauthorized", Detail: "the account " + is.URI + " is " + is.Status}
	}
	if err == nil {
		s.client.KID = acme.KeyID(is.URI)
	}
	return is, err
}

// signIn opens a session in which the steward's account is known to be good.
func signIn(ctx context.Context, target connect.Target, watch *connect.Stopwatch, register bool) (*session, *acme.Account, *connect.Failure) {
	s, failure := open(ctx, target, watch)
	if failure != nil {
		return nil, nil, failure
	}
	is, err := s.account(ctx, register && target.Options[optionRegister] == "on")
	if err != nil {
		s.close()
		f := s.failed(connect.StageSignIn, err, false)
		watch.Fail(f)
		return nil, nil, f
	}
	watch.OK(connect.StageSignIn, is.URI)
	s.facts.Identity = s.client.DirectoryURL
	return s, is, nil
}
