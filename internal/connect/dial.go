package connect

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"syscall"
	"time"
)

// Limits of reaching a system. The whole attempt is bounded by the context;
// these keep one stage from using all of it.
const (
	ResolveTime = 3 * time.Second
	ConnectTime = 5 * time.Second
)

// Clock measures stages. It is a variable of the attempt, not a global, so
// that a test can give another.
type stopwatch struct {
	stages []StageResult
	start  time.Time
}

// Stopwatch collects the stages of one attempt.
type Stopwatch struct{ stopwatch }

// NewStopwatch starts measuring.
func NewStopwatch() *Stopwatch { return &Stopwatch{stopwatch{start: time.Now()}} }

// OK ends a stage well.
func (w *Stopwatch) OK(stage Stage, detail string) {
	now := time.Now()
	w.stages = append(w.stages, StageResult{Stage: stage, OK: true, Took: now.Sub(w.start), Detail: detail})
	w.start = now
}

// Fail ends a stage with a failure.
func (w *Stopwatch) Fail(f *Failure) {
	now := time.Now()
	w.stages = append(w.stages, StageResult{Stage: f.Stage, Took: now.Sub(w.start), Detail: f.Words, Next: f.Next, Code: f.Code})
	w.start = now
}

// Take adds the stages of another attempt, which was the one that counts.
func (w *Stopwatch) Take(other *Stopwatch) {
	w.stages = append(w.stages, other.stages...)
	w.start = other.start
}

// Stages returns what was measured.
func (w *Stopwatch) Stages() []StageResult { return w.stages }

// Dial resolves and connects, each a stage of its own.
func Dial(ctx context.Context, target Target, defaultPort int, watch *Stopwatch) (net.Conn, *Failure) {
	port := target.Port
	if port == 0 {
		port = defaultPort
	}
	address := target.Address
	if address == "" {
		address = target.Name
	}
	ips, pin := []string{address}, PinOf(ctx, target)
	if pin != "" {
		ips = []string{pin}
	} else if net.ParseIP(address) == nil {
		resolve, cancel := context.WithTimeout(ctx, ResolveTime)
		found, err := net.DefaultResolver.LookupHost(resolve, address)
		cancel()
		if err != nil {
			// A name that is not known is one thing, a resolver that does not
			// answer another: that passes.
			code, next := CodeUnreachable, "see whether this machine's resolver is reachable, or give an address"
			if dns := (*net.DNSError)(nil); errors.As(err, &dns) && dns.IsNotFound {
				code, next = CodeUnknownName, "check the spelling, or give an address"
			}
			f := target.Fail(StageResolve, code, resolveWords(address, err), next, err)
			watch.Fail(f)
			return nil, f
		}
		ips = found
	}
	watch.OK(StageResolve, ips[0])
	var last error
	for _, ip := range ips {
		dialer := net.Dialer{Timeout: ConnectTime}
		conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(ip, strconv.Itoa(port)))
		if err == nil {
			watch.OK(StageConnect, conn.RemoteAddr().String())
			Pin(ctx, target, ip)
			return conn, nil
		}
		last = err
	}
	next := connectNext(last, port)
	if pin != "" {
		next += "; the work under way began with this server of " + address + ", and asks no other one, which may not know yet what was changed"
	}
	f := target.Fail(StageConnect, CodeUnreachable, last.Error(), next, last)
	if isTimeout(last) {
		f.Code = CodeTimeout
	}
	watch.Fail(f)
	return nil, f
}

// Silent reports whether a system lets the time to connect to it run out. Nothing is
// sent. One that refuses answers.
func Silent(ctx context.Context, target Target, defaultPort int) bool {
	conn, failure := Dial(ctx, target, defaultPort, NewStopwatch())
	if failure != nil {
		return failure.Code == CodeTimeout
	}
	_ = conn.Close()
	return false
}

func resolveWords(address string, err error) string {
	var dns *net.DNSError
	if errors.As(err, &dns) {
		if dns.IsNotFound {
			return "no such host: " + address
		}
		return "the name " + address + " cannot be resolved now: " + dns.Err
	}
	return err.Error()
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout()
}

// IsTimeout reports whether an error is about time running out.
func IsTimeout(err error) bool { return isTimeout(err) }

// IsInterrupted reports whether a connection ended without an answer: the other
// side went away, or something in between did. It says nothing about what was
// sent before.
func IsInterrupted(err error) bool {
	for _, interruption := range []error{io.EOF, io.ErrUnexpectedEOF, io.ErrClosedPipe, net.ErrClosed, syscall.ECONNRESET, syscall.ECONNREFUSED, syscall.ECONNABORTED, syscall.EPIPE, syscall.EHOSTUNREACH, syscall.ENETUNREACH} {
		if errors.Is(err, interruption) {
			return true
		}
	}
	return false
}

// interruptedNext is what to do about a connection that ended too early.
const interruptedNext = "the connection was accepted and ended at once: is the service behind that port up?"

// Reclassify makes a failure of establishing a connection one of reaching the
// system, when that is what its error says. A service that is starting, or
// down behind a forwarder, looks like one that speaks another protocol.
func (f *Failure) Reclassify() *Failure {
	switch {
	case f.Err == nil:
	case IsTimeout(f.Err):
		f.Code = CodeTimeout
	case IsInterrupted(f.Err):
		f.Code, f.Next = CodeUnreachable, interruptedNext
	}
	return f
}

func connectNext(err error, port int) string {
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the host answers, but nothing listens on port " + strconv.Itoa(port) + ": is the service running?"
	case isTimeout(err):
		return "no answer: is the host up, and does a filter let port " + strconv.Itoa(port) + " through?"
	default:
		return "is the network between here and the host in order?"
	}
}

// TLS is how a target's certificate is verified: by the machine's trusted
// authorities, or by the one that the target names.
func TLS(target Target) (*tls.Config, *Failure) {
	config := &tls.Config{ServerName: target.Address, MinVersion: tls.VersionTLS12}
	if config.ServerName == "" {
		config.ServerName = target.Name
	}
	if target.TrustedCA != "" {
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM([]byte(target.TrustedCA)) {
			return nil, target.Fail(StageSecure, CodeUntrusted, "the given CA certificate is not PEM", "give the CA certificate that signed the system's again", nil)
		}
	}
	return config, nil
}

// OptionTLS is "off" for data stores that speak no TLS. Their sign-ins do not
// show the password, but what is read and changed travels in clear.
const OptionTLS = "tls"

// Secure connects and makes a TLS connection with a verified certificate: that
// of the machine's trusted authorities, or of the one that the target names.
// next says what to do about a handshake that failed. The configuration is for
// further connections of the same kind.
func Secure(ctx context.Context, target Target, defaultPort int, watch *Stopwatch, next func(error) string) (*tls.Conn, *tls.Config, Facts, *Failure) {
	config, failure := TLS(target)
	if failure != nil {
		watch.Fail(failure)
		return nil, nil, Facts{}, failure
	}
	raw, failure := Dial(ctx, target, defaultPort, watch)
	if failure != nil {
		return nil, nil, Facts{}, failure
	}
	conn, err := Handshake(ctx, raw, config)
	if err != nil {
		f := target.Fail(StageSecure, CodeUntrusted, err.Error(), next(err), err).Reclassify()
		watch.Fail(f)
		return nil, nil, Facts{}, f
	}
	cert := conn.ConnectionState().PeerCertificates[0]
	facts := Facts{Certificate: fmt.Sprintf("%s, issued by %s, ends %s", cert.Subject, cert.Issuer, cert.NotAfter.UTC().Format(time.DateOnly))}
	watch.OK(StageSecure, facts.Certificate)
	return conn, config, facts, nil
}

// Handshake does the TLS handshake in its time. It closes the connection when
// it fails.
func Handshake(ctx context.Context, raw net.Conn, config *tls.Config) (*tls.Conn, error) {
	conn := tls.Client(raw, config)
	limited, cancel := context.WithTimeout(ctx, ConnectTime)
	defer cancel()
	if err := conn.HandshakeContext(limited); err != nil {
		_ = raw.Close()
		return nil, err
	}
	return conn, nil
}

// Wait waits, unless the context ends first.
func Wait(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
