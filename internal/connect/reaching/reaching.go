// Package reaching asks ports: it connects from wherever its Dialer does, speaks as much of
// TLS, HTTP and SSH as is needed to tell what answers, and says what stands in between.
//
// What an answer has in it is compared here and not told: a probe is no way to read pages
// that one may not see.
package reaching

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"mossledger.example/moss/internal/core/reach"
)

// Dialer connects from somewhere. Connections may have no deadlines: they are closed instead.
type Dialer func(ctx context.Context, address string) (net.Conn, error)

// Times of the stages.
const (
	ConnectTime = 5 * time.Second
	AnswerTime  = 8 * time.Second
)

// mostBody is how much of an answer is looked at.
const mostBody = 256 << 10

// Direct connects from this machine. Names are looked up here, so that what they stand for
// is looked at before it is connected.
func Direct(ctx context.Context, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, err
	}
	var last error
	for _, a := range addresses {
		if last = reach.AllowedAddress(a); last != nil {
			continue
		}
		var d net.Dialer
		conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(a.Unmap().String(), port))
		if err == nil {
			return conn, nil
		}
		last = err
	}
	return nil, last
}

// Probe asks. It takes no longer than its stages, or ctx.
func Probe(ctx context.Context, dial Dialer, ask reach.Ask) reach.Result {
	p := &probe{ask: ask, dial: dial, out: reach.Result{Steps: []reach.ProbeStep{}}}
	place, err := reach.Parse(ask.Target)
	if err != nil {
		return reach.Result{Outcome: reach.Unprobed, Words: err.Error(), Steps: []reach.ProbeStep{}}
	}
	p.place = place
	p.run(ctx)
	return p.out
}

type probe struct {
	ask   reach.Ask
	place reach.Place
	dial  Dialer
	out   reach.Result
	begun time.Time
}

func (p *probe) step(stage, format string, args ...any) {
	p.out.Steps = append(p.out.Steps, reach.ProbeStep{Stage: stage, Words: fmt.Sprintf(format, args...), Milli: time.Since(p.begun).Milliseconds()})
	p.begun = time.Now()
}

func (p *probe) end(outcome reach.Outcome, next, format string, args ...any) {
	p.out.Outcome, p.out.Words, p.out.Next = outcome, fmt.Sprintf(format, args...), next
}

func (p *probe) run(ctx context.Context) {
	p.begun = time.Now()
	proxy, err := p.proxy()
	if err != nil {
		p.end(reach.Unprobed, "", "%s", err.Error())
		return
	}
	address := p.place.Address()
	if proxy != nil {
		p.out.Between = "the proxy " + proxy.Host
		address = proxy.Host
	}
	dialing, stop := context.WithTimeout(ctx, ConnectTime)
	conn, err := p.dial(dialing, address)
	late := dialing.Err() != nil
	stop()
	if err != nil {
		p.unconnected(address, err, late)
		return
	}
	defer conn.Close()
	p.step("connect", "%s is open", address)
	answering, stop := context.WithTimeout(ctx, AnswerTime)
	defer stop()
	ended := context.AfterFunc(answering, func() { _ = conn.Close() })
	defer ended()
	if proxy != nil {
		if conn = p.tunnel(answering, conn); conn == nil {
			return
		}
	}
	switch p.place.Scheme {
	case "tcp":
		if p.ask.Contains == "" {
			p.end(reach.Open, "", "it is open")
			return
		}
		p.banner(answering, conn, p.ask.Contains)
	case "ssh":
		p.banner(answering, conn, "SSH-")
	case "http":
		p.http(answering, conn)
	case "tls", "https":
		secured := p.secure(answering, conn)
		if secured == nil {
			return
		}
		if p.place.Scheme == "tls" {
			p.end(reach.Open, "", "it is open, and its certificate is good")
			return
		}
		p.http(answering, secured)
	}
}

// proxy is the one to ask through, nil for none.
func (p *probe) proxy() (*url.URL, error) {
	switch p.ask.Proxy {
	case "":
		return nil, nil
	case "environment":
		scheme := "https"
		if p.place.Scheme == "http" {
			scheme = "http"
		}
		return http.ProxyFromEnvironment(&http.Request{URL: &url.URL{Scheme: scheme, Host: p.place.Address()}})
	}
	u, err := url.Parse(p.ask.Proxy)
	if err != nil || u.Scheme != "http" || u.Port() == "" || u.User != nil {
		return nil, errors.New("a proxy is named http://HOST:PORT, with no user in it")
	}
	return u, reach.Allowed(u.Hostname())
}

// unconnected says why there is no connection.
func (p *probe) unconnected(address string, err error, late bool) {
	words := err.Error()
	p.step("connect", "%s: %s", address, words)
	var unnamed *net.DNSError
	switch {
	case errors.As(err, &unnamed) || strings.Contains(words, "no such host") || strings.Contains(words, "Name or service not known"):
		p.end(reach.Unnamed, "look at the spelling, and at the name servers where it was asked", "%s", words)
	case errors.Is(err, syscall.ECONNREFUSED) || strings.Contains(words, "refused"):
		p.end(reach.Refused, "the system is there, and nothing listens on that port, or a firewall says so", "%s", words)
	case errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH) || strings.Contains(words, "No route to host") || strings.Contains(words, "unreachable"):
		p.end(reach.Unroutable, "look at routes, and at whether the system is on", "%s", words)
	case strings.Contains(words, "administratively prohibited"):
		p.end(reach.Unprobed, "AllowTcpForwarding and PermitOpen of its SSH server say from where one may ask", "the host lets nobody connect through it: %s", words)
	case late, errors.Is(err, syscall.ETIMEDOUT), strings.Contains(words, "timed out"), strings.Contains(words, "timeout"):
		p.end(reach.Filtered, "something on the way drops it: a firewall, or an address where nothing is", "nothing came back within %s", ConnectTime)
	default:
		p.end(reach.Unprobed, "", "%s", words)
	}
}

// tunnel asks a proxy to connect (RFC 9110, section 9.3.6).
func (p *probe) tunnel(ctx context.Context, conn net.Conn) net.Conn {
	fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n\r\n", p.place.Address(), p.place.Address())
	reader := bufio.NewReader(io.LimitReader(conn, 64<<10))
	answer, err := http.ReadResponse(reader, &http.Request{Method: http.MethodConnect})
	if err != nil {
		p.silent(ctx, "proxy", err)
		return nil
	}
	_ = answer.Body.Close()
	p.step("proxy", "it says %s", answer.Status)
	if answer.StatusCode/100 != 2 {
		p.end(reach.ByProxy, "ask who runs the proxy to let this through", "the proxy does not connect it: %s", answer.Status)
		return nil
	}
	if reader.Buffered() > 0 {
		p.end(reach.ByProxy, "", "the proxy goes on talking after it has connected")
		return nil
	}
	return conn
}

// silent says that nothing answers, or that the connection was cut.
func (p *probe) silent(ctx context.Context, stage string, err error) {
	if ctx.Err() != nil {
		p.step(stage, "nothing within %s", AnswerTime)
		p.end(reach.Hangs, "the port is open, and what listens there is stuck, or waits for another protocol", "it is connected, and nothing answers within %s", AnswerTime)
		return
	}
	p.step(stage, "%s", err.Error())
	p.end(reach.WrongAnswer, "what listens there may speak another protocol", "it is connected, and the answer is none of %s: %s", p.place.Scheme, err.Error())
}

// banner reads what a server says by itself.
func (p *probe) banner(ctx context.Context, conn net.Conn, want string) {
	said := make([]byte, 0, 512)
	for len(said) < 512 && !bytes.Contains(said, []byte(want)) {
		part := make([]byte, 512-len(said))
		n, err := conn.Read(part)
		said = append(said, part[:n]...)
		if err != nil {
			if len(said) == 0 {
				p.silent(ctx, "answer", err)
				return
			}
			break
		}
	}
	if !bytes.Contains(said, []byte(want)) {
		p.step("answer", "%d bytes of something else", len(said))
		p.end(reach.WrongAnswer, "something else listens there", "what it says does not have %q in it", want)
		return
	}
	p.step("answer", "as expected")
	p.end(reach.Open, "", "it is open, and answers as expected")
}

// secure makes TLS of a connection, and looks at the certificate.
func (p *probe) secure(ctx context.Context, conn net.Conn) net.Conn {
	roots, err := x509.SystemCertPool()
	if p.ask.CA != "" || err != nil {
		roots = x509.NewCertPool()
		if !roots.AppendCertsFromPEM([]byte(p.ask.CA)) {
			p.end(reach.Unprobed, "", "the certificates to trust are none in PEM")
			return nil
		}
	}
	var seen *x509.Certificate
	c := tls.Client(conn, &tls.Config{ServerName: p.place.Host, RootCAs: roots, MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, //nolint:gosec // it is verified below, so that the certificate can be told
		VerifyConnection: func(state tls.ConnectionState) error {
			between := x509.NewCertPool()
			for i, cert := range state.PeerCertificates {
				if i == 0 {
					seen = cert
				} else {
					between.AddCert(cert)
				}
			}
			if seen == nil {
				return errors.New("it shows no certificate")
			}
			_, err := seen.Verify(x509.VerifyOptions{DNSName: p.place.Host, Roots: roots, Intermediates: between})
			return err
		}})
	err = c.HandshakeContext(ctx)
	switch {
	case err == nil:
		p.step("secure", "certificate of %s, until %s", seen.Subject.CommonName, seen.NotAfter.UTC().Format(time.DateOnly))
		return c
	case seen != nil:
		p.step("secure", "%s", err.Error())
		p.end(reach.BadCert, "renew it, or trust who issued it; a proxy that opens connections shows one of its own", "%s (issued by %s)", strings.TrimPrefix(err.Error(), "tls: failed to verify certificate: "), issuer(seen))
	default:
		p.silent(ctx, "secure", err)
	}
	return nil
}

func issuer(c *x509.Certificate) string {
	if name := c.Issuer.CommonName; name != "" {
		return name
	}
	return c.Issuer.String()
}

// http asks for a page, and follows no redirect: where one leads is another target.
func (p *probe) http(ctx context.Context, conn net.Conn) {
	request := &http.Request{Method: http.MethodGet, URL: &url.URL{Path: "/"}, Host: p.place.Host, Header: http.Header{"User-Agent": {"moss-probe"}, "Connection": {"close"}}, ProtoMajor: 1, ProtoMinor: 1, Close: true}
	if u, err := url.ParseRequestURI(p.place.Path); err == nil {
		request.URL = u
	}
	if (p.place.Scheme == "http" && p.place.Port != "80") || (p.place.Scheme == "https" && p.place.Port != "443") {
		request.Host = p.place.Address()
	}
	if err := request.Write(conn); err != nil {
		p.silent(ctx, "answer", err)
		return
	}
	answer, err := http.ReadResponse(bufio.NewReader(conn), request)
	if err != nil {
		p.silent(ctx, "answer", err)
		return
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, mostBody))
	if via := answer.Header.Get("Via"); via != "" && p.out.Between == "" {
		p.out.Between = "a proxy that nobody named (Via: " + printable(via) + ")"
	}
	p.step("answer", "%s, %s, %d bytes", printable(answer.Status), printable(answer.Header.Get("Content-Type")), len(body))
	want := p.ask.Status
	switch {
	case answer.StatusCode == http.StatusProxyAuthRequired:
		p.end(reach.ByProxy, "ask who runs the proxy", "a proxy asks for a sign-in: %s", printable(answer.Status))
	case want != 0 && answer.StatusCode != want, want == 0 && answer.StatusCode >= 400:
		next := "something else may answer in its place"
		if to := answer.Header.Get("Location"); to != "" {
			next = "it leads to " + printable(to)
		}
		p.end(reach.WrongAnswer, next, "it answers with %s", printable(answer.Status))
	case p.ask.Contains != "" && !bytes.Contains(body, []byte(p.ask.Contains)):
		if err != nil && ctx.Err() != nil {
			p.end(reach.Hangs, "", "the answer begins and does not end within %s", AnswerTime)
			return
		}
		p.end(reach.WrongAnswer, "another page came: look at it where you may", "it answers with %s, and what was expected is not in its %d bytes", printable(answer.Status), len(body))
	default:
		p.end(reach.Open, "", "it is open, and answers as expected: %s", printable(answer.Status))
	}
}

// printable keeps what another's header may show.
func printable(text string) string {
	text = strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return -1
		}
		return c
	}, text)
	return text[:min(len(text), 120)]
}

// Intercepted reports whether something takes connections to an address where nothing can
// be (RFC 5737): a proxy in between that nobody named.
func Intercepted(ctx context.Context, dial Dialer, port string) bool {
	dialing, stop := context.WithTimeout(ctx, time.Second)
	defer stop()
	conn, err := dial(dialing, netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, 77}), 0).Addr().String()+":"+port)
	if err != nil {
		return false
	}
	_ = conn.Close()
	return true
}
