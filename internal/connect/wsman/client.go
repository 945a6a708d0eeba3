// Package wsman is a client for WS-Management (DMTF DSP0226) as hosts of the
// Windows family speak it: SOAP 1.2 over HTTPS, WS-Addressing, WS-Transfer
// (Get, Put), WS-Enumeration with WQL filters and optimised enumeration, and
// method calls of the CIM binding (DSP0227, DSP0230). It knows the protocol
// and nothing of what the instances mean.
//
// Replies are decoded as they arrive: Enumerate hands each instance over and
// forgets it, so that memory does not grow with what a host has. Every limit
// that keeps a hostile or broken server from hurting the caller is in Limits.
//
// What came back decides the type of an error: *Fault when the server said
// what is wrong, *StatusError when something else answered or the sign-in was
// refused, *ProtocolError when the answer was no proper answer, and
// *TransportError when there was none. MayHaveHappened tells whether the act
// behind an error may have taken effect. Only reading is ever sent twice.
//
// Plain HTTP is refused: without message protection it would show passwords
// to the network, and this client protects by TLS only.
package wsman

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Config is what a Client is made of.
type Config struct {
	Endpoint string // https://host:5986/wsman
	// Transport does the HTTP; it holds the TLS configuration. The Client owns
	// it and closes its idle connections with Close.
	Transport *http.Transport
	SignIn    SignIn
	Timeout   time.Duration // OperationTimeout of one request; 0 for 60 s, the most that hosts take by default
	Limits    Limits
	NewID     func() string // of messages; nil for random UUIDs
	// Trace is told each message that was sent, when, and what came of it; nil for nobody.
	Trace func(text string, begun time.Time, err error)
}

// Limits bound what a server can make the client hold or wait for.
type Limits struct {
	Envelope int // bytes that the server is told to stay under; 0 for 500 kB, the default of hosts
	Token    int // bytes of one tag or text; 0 for 4 MB
	Depth    int // nesting of elements; 0 for 64
	Reply    int64
	Batch    int // instances asked for at a time; 0 for 500
}

func (l *Limits) fill() {
	set := func(v *int, to int) {
		if *v == 0 {
			*v = to
		}
	}
	set(&l.Envelope, 512000)
	set(&l.Token, 4<<20)
	set(&l.Depth, 64)
	set(&l.Batch, 500)
	if l.Reply == 0 {
		l.Reply = 2 << 30
	}
}

// Client speaks to one endpoint. It may be used by many goroutines.
type Client struct {
	config Config
	http   http.RoundTripper
}

// ErrPlainHTTP refuses an endpoint without TLS.
var ErrPlainHTTP = errors.New("plain HTTP is refused: it carries no message protection; use HTTPS")

// New makes a Client.
func New(config Config) (*Client, error) {
	at, err := url.Parse(config.Endpoint)
	if err != nil {
		return nil, fmt.Errorf("endpoint: %w", err)
	}
	if at.Scheme != "https" {
		return nil, ErrPlainHTTP
	}
	config.Limits.fill()
	if config.Timeout == 0 {
		config.Timeout = time.Minute
	}
	if config.NewID == nil {
		config.NewID = func() string { return "uuid:" + strings.ToUpper(uuid.NewString()) }
	}
	c := &Client{config: config, http: config.Transport}
	if config.SignIn != nil {
		c.http = config.SignIn.wrap(config.Transport)
	}
	return c, nil
}

// Close lets go of connections.
func (c *Client) Close() { c.config.Transport.CloseIdleConnections() }

// Resource names a class, or with selectors one instance of it.
type Resource struct {
	URI       string
	Selectors []Pair
}

// Pair is a name with a value: a selector, or a parameter of a method.
type Pair struct{ Name, Value string }

// Embedded is a parameter that is an instance of its own (DSP0230, section 7.2.5).
type Embedded struct {
	Name     string
	Instance *Node
}

// Identity is the answer of Identify (DSP0226, section 11).
type Identity struct{ Vendor, Version, Protocol string }

// Identify asks who answers.
func (c *Client) Identify(ctx context.Context) (Identity, error) {
	var id Identity
	body := `<s:Envelope xmlns:s="` + nsSOAP + `" xmlns:i="` + nsIdentify + `"><s:Header/><s:Body><i:Identify/></s:Body></s:Envelope>`
	err := c.exchange(ctx, message{text: body, safe: true, answer: "IdentifyResponse", answerSpace: nsIdentify}, func(d *decoder, start *Node) error {
		n, err := d.tree(start, 0)
		if err == nil {
			id = Identity{Vendor: n.Text("ProductVendor"), Version: n.Text("ProductVersion"), Protocol: n.Text("ProtocolVersion")}
		}
		return err
	})
	return id, err
}

// Get reads one instance.
func (c *Client) Get(ctx context.Context, r Resource) (*Instance, error) {
	return c.one(ctx, request{action: nsTransfer + "/Get", resource: r}, true, "")
}

// Put writes one instance. Whether the server shows it afterwards is up to the server:
// an empty body is success (WS-Transfer, section 3.2). Who wants to know reads it.
func (c *Client) Put(ctx context.Context, r Resource, instance *Instance) error {
	m := c.message(request{action: nsTransfer + "/Put", resource: r, body: instance.write(r.URI)}, false, "", "")
	m.mayBeEmpty = true
	return c.exchange(ctx, m, func(d *decoder, start *Node) error {
		_, err := d.tree(start, 0)
		return err
	})
}

// Invoke calls a method and returns its output. Parameters are written in the
// order given, in the resource's name space; one with the same name again
// makes an array.
func (c *Client) Invoke(ctx context.Context, r Resource, method string, input []Pair, embedded ...Embedded) (*Instance, error) {
	var body bytes.Buffer
	body.WriteString(`<p:` + method + `_INPUT xmlns:p="` + escape(r.URI) + `">`)
	for _, p := range input {
		body.WriteString("<p:" + p.Name + ">" + escape(p.Value) + "</p:" + p.Name + ">")
	}
	for _, e := range embedded {
		node := *e.Instance
		node.Space, node.Local = r.URI, e.Name
		body.WriteString(node.write(r.URI))
	}
	body.WriteString(`</p:` + method + `_INPUT>`)
	return c.one(ctx, request{action: r.URI + "/" + method, resource: r, body: body.String()}, false, method+"_OUTPUT")
}

func (c *Client) one(ctx context.Context, r request, safe bool, answer string) (*Instance, error) {
	var out *Instance
	err := c.exchange(ctx, c.message(r, safe, answer, ""), func(d *decoder, start *Node) error {
		var err error
		out, err = d.tree(start, 0)
		return err
	})
	return out, err
}

// message is a request made ready, and what may answer it.
type message struct {
	text        string
	id          string // its MessageID; "" for Identify, which has none
	action      string
	safe        bool   // may be sent again
	answer      string // local name of the body's element; "" for any
	answerSpace string
	mayBeEmpty  bool // an answer without content is one
}

// safeAttempts is how often reading is tried when the connection breaks.
const safeAttempts = 3

// exchange sends a message and lets take read the body's first element. A
// safe message is sent again when the connection broke before take began.
func (c *Client) exchange(ctx context.Context, m message, take func(*decoder, *Node) error) error {
	for attempt := 1; ; attempt++ {
		begun := false
		err := c.once(ctx, m, func(d *decoder, n *Node) error {
			begun = true
			return take(d, n)
		})
		var broken *TransportError
		if err == nil || begun || !m.safe || attempt == safeAttempts || ctx.Err() != nil || !errors.As(err, &broken) || !broken.Sent {
			return err
		}
	}
}

func (c *Client) once(ctx context.Context, m message, take func(*decoder, *Node) error) (err error) {
	if c.config.Trace != nil {
		begun := time.Now()
		defer func() { c.config.Trace(m.text, begun, err) }()
	}
	// The server gives up by itself first; this is for one that does not.
	ctx, cancel := context.WithTimeout(ctx, c.config.Timeout+10*time.Second)
	defer cancel()
	sent := false
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { sent = true }})
	post, err := http.NewRequestWithContext(ctx, http.MethodPost, c.config.Endpoint, strings.NewReader(m.text))
	if err != nil {
		return err
	}
	post.Header.Set("Content-Type", "application/soap+xml;charset=UTF-8")
	if m.id == "" {
		post.Header.Set("WSMANIDENTIFY", "unauthenticated")
	}
	reply, err := c.http.RoundTrip(post)
	if err != nil {
		var refused *SignInError
		if errors.As(err, &refused) {
			return err
		}
		return &TransportError{Sent: sent, Err: err}
	}
	defer func() {
		// A rest that fits in a buffer is read, so that the connection is kept.
		_, _ = io.CopyN(io.Discard, reply.Body, 64<<10)
		_ = reply.Body.Close()
	}()
	kind, parameters, _ := mime.ParseMediaType(reply.Header.Get("Content-Type"))
	if reply.StatusCode != http.StatusOK && reply.StatusCode != http.StatusInternalServerError || kind != "application/soap+xml" && kind != "text/xml" {
		failed := statusError(reply, kind)
		if c.config.SignIn != nil && m.id != "" {
			failed.Tried = c.config.SignIn.Name()
		}
		return failed
	}
	d := newDecoder(reply.Body, parameters["charset"], c.config.Limits)
	if err := d.envelope(m, take); err != nil {
		var read *readError
		if errors.As(err, &read) {
			return &TransportError{Sent: true, Err: read.err}
		}
		return err
	}
	return nil
}

func statusError(reply *http.Response, kind string) *StatusError {
	e := &StatusError{Status: reply.StatusCode, ContentType: kind, Server: reply.Header.Get("Server")}
	for _, challenge := range reply.Header.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(challenge, " ")
		e.Offers = append(e.Offers, scheme)
	}
	start, _ := io.ReadAll(io.LimitReader(reply.Body, 200))
	if text := strings.TrimSpace(string(start)); kind != "text/html" && text != "" {
		e.Start = text
	}
	return e
}
