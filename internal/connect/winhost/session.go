// Package winhost is the connector for hosts of the Windows family, over
// WS-Management (package wsman). It reads services, scheduled tasks,
// application pools, local accounts and groups; replaces the log-on that they
// keep; stops and starts in dependency order and waits until states settle;
// and reads the event records that explain a failure.
//
// Three things decide how it works. Changing a service's password never
// checks it: only the next start does, so a log-on that was replaced counts as
// proven only by a start. Nobody can read a service's stored password: after
// an unclear outcome the log-on is read as far as it shows, and given again,
// which is harmless. A running service keeps the log-on that it was started
// with.
//
// What of the hosts' classes is not certain from the open specifications is
// kept in one place each, in shapes.go.
package winhost

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/rights"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for windows hosts.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindWindowsHost, Class: estate.ClassHost, Title: "windows host", Port: 5986,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
	Options: []connect.Option{
		{Name: OptionSignIn, Type: connect.OptionChoice, Choices: []string{"kerberos", "ntlm", "basic"}, Default: "ntlm, or kerberos when a key distribution center is given", Help: "how to sign in"},
		{Name: OptionRealm, Type: connect.OptionText, Default: "that of the steward's account", Help: "Kerberos realm"},
		{Name: OptionCenter, Type: connect.OptionText, Help: "key distribution centers, HOST:PORT, separated by ;"},
		{Name: OptionService, Type: connect.OptionText, Default: "HTTP/ and the address", Help: "service principal name of the host"},
		connect.RightsOption,
	},
	Scopes: []string{connect.ScopeServices, connect.ScopeTasks, connect.ScopePools, connect.ScopeAccounts},
	Acts:   []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActLogOns, connect.ActRestart, connect.ActRestartHost, connect.ActRehearse, connect.ActDiagnose, connect.ActRecords, connect.ActRights, connect.ActSessions},
	Verbs:  rights.Verbs(),
	Ends:   []expiry.Possible{},
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// Options of a system of this kind.
const (
	OptionSignIn  = "signin"  // kerberos, ntlm or basic; ntlm unless a center is given
	OptionRealm   = "realm"   // Kerberos realm; that of the log-on's account by default
	OptionCenter  = "kdc"     // key distribution centers, host:port, separated by ;
	OptionService = "service" // service principal; HTTP/ and the address by default
)

// requestTime is what the host is given for one request.
const requestTime = 50 * time.Second

// session is one sign-in to one host, used by one call of the contract at a time.
type session struct {
	*wsman.Client
	target connect.Target
	facts  connect.Facts
	name   string         // NetBIOS name of the host
	system *instance      // Win32_OperatingSystem
	broken atomic.Bool    // a request was not answered
	leave  func()         // what the call that has it does at its end
	logOns *rights.LogOns // of a rehearsal
}

type instance = wsman.Instance

func (s *session) close() { s.leave() }

// Resume implements connect.Session.
func (s *session) Resume(context.Context) bool { return true }

// Rest implements connect.Session.
func (s *session) Rest() bool { return !s.broken.Load() }

// End implements connect.Session.
func (s *session) End() { s.Client.Close() }

func (s *session) usedBy(ctx context.Context) *session {
	s.leave = func() { connect.LeaveSession(ctx, s.target, s) }
	return s
}

// open takes the session that an earlier call left, or makes one.
func open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	if s, kept := connect.TakeSession[*session](ctx, target); kept {
		return s.usedBy(ctx), nil
	}
	return anew(ctx, target, watch)
}

// anew connects, secures and makes a client ready. It has not signed in yet.
func anew(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	address := target.Address
	if address == "" {
		address = target.Name
	}
	signIn, failure := signInOf(target, address)
	if failure != nil {
		watch.Fail(failure)
		return nil, failure
	}
	conn, config, facts, failure := connect.Secure(ctx, target, description.Port, watch, secureNext)
	if failure != nil {
		return nil, failure
	}
	s := &session{target: target, facts: facts}
	ready := &readyConn{conn: conn, again: func(ctx context.Context) (net.Conn, error) {
		raw, failure := connect.Dial(ctx, target, description.Port, connect.NewStopwatch())
		if failure != nil {
			return nil, failure
		}
		return connect.Handshake(ctx, raw, config)
	}}
	port := target.Port
	if port == 0 {
		port = description.Port
	}
	var err error
	s.Client, err = wsman.New(wsman.Config{
		Trace:    traced(connect.TraceOf(ctx), target),
		Endpoint: fmt.Sprintf("https://%s/wsman", net.JoinHostPort(address, fmt.Sprint(port))), SignIn: signIn, Timeout: requestTime,
		// One connection: the sign-in belongs to it.
		Transport: &http.Transport{DialTLSContext: ready.dial, MaxConnsPerHost: 1, IdleConnTimeout: time.Minute},
	})
	if err != nil {
		_ = conn.Close()
		f := target.Fail(connect.StageConnect, connect.CodeProtocol, err.Error(), "", err)
		watch.Fail(f)
		return nil, f
	}
	return s.usedBy(ctx), nil
}

// readyConn gives the first connection, which was made stage by stage, to the
// transport, and makes further ones.
type readyConn struct {
	lock  sync.Mutex
	conn  net.Conn
	again func(context.Context) (net.Conn, error)
}

func (r *readyConn) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	r.lock.Lock()
	conn := r.conn
	r.conn = nil
	r.lock.Unlock()
	if conn != nil {
		return conn, nil
	}
	return r.again(ctx)
}

func secureNext(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var bad x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &record):
		return "this port does not speak TLS: 5986 is the usual port of WS-Management over HTTPS, 5985 is the one without"
	case errors.As(err, &unknown):
		return "give the CA certificate that signed the host's certificate (--ca FILE)"
	case errors.As(err, &name):
		return "the certificate is for another name: use the name that stands in it as the address"
	case errors.As(err, &bad) && bad.Reason == x509.Expired:
		return "the certificate has ended: renew it on the host"
	}
	return "is this the port of WS-Management over HTTPS (5986)?"
}

func signInOf(target connect.Target, address string) (wsman.SignIn, *connect.Failure) {
	way := strings.ToLower(target.Options[OptionSignIn])
	if way == "" {
		way = "ntlm"
		if target.Options[OptionCenter] != "" {
			way = "kerberos"
		}
	}
	switch way {
	case "basic":
		return wsman.Basic(target.Steward.Account, target.Steward.Password), nil
	case "ntlm":
		return wsman.NTLM(target.Steward.Account, target.Steward.Password), nil
	case "kerberos":
		service := target.Options[OptionService]
		if service == "" {
			service = "HTTP/" + address
		}
		var centers []string
		for _, c := range strings.Split(target.Options[OptionCenter], ";") {
			if c = strings.TrimSpace(c); c != "" {
				centers = append(centers, c)
			}
		}
		signIn, err := wsman.Kerberos(wsman.KerberosConfig{Account: target.Steward.Account, Realm: target.Options[OptionRealm], Centers: centers, Service: service, Password: target.Steward.Password})
		if err == nil {
			return signIn, nil
		}
		return nil, target.Fail(connect.StageSignIn, connect.CodeStewardRefused, err.Error(), "set the options kdc and realm, or write the account as name@REALM", err)
	}
	return nil, target.Fail(connect.StageSignIn, connect.CodeStewardRefused, fmt.Sprintf("unknown way to sign in %q", way), "option signin: kerberos, ntlm or basic", nil)
}

// failure turns a client's error into a Failure. act says that the request
// would have changed something.
func (s *session) failure(stage connect.Stage, err error, act bool, hide ...secret.Value) *connect.Failure {
	if err == nil {
		return nil
	}
	var done *connect.Failure
	if errors.As(err, &done) {
		return done
	}
	var fault *wsman.Fault
	var status *wsman.StatusError
	var sign *wsman.SignInError
	var transport *wsman.TransportError
	var protocol *wsman.ProtocolError
	hide = append(hide, s.target.Steward.Password)
	if !errors.As(err, &fault) {
		s.broken.Store(true)
	}
	f := s.target.Fail(stage, connect.CodeFailed, secret.Scrub(err.Error(), hide...), "", err)
	f.Unclear = act && wsman.MayHaveHappened(err)
	switch {
	case errors.As(err, &fault):
		switch {
		case fault.Subcode == wsman.AccessDenied || fault.Number == wsman.NumberAccessDenied || fault.Number == "2147942405":
			f.Stage, f.Code, f.Next = connect.StagePermitted, connect.CodeNotPermitted, "the log-on must be a member of the host's Administrators, or have rights on WS-Management and on the name space: see docs/windows.md"
		case fault.Number == wsman.NumberNotFound || fault.Number == wsman.NumberObjectGone || fault.Number == "2147942402":
			f.Code, f.Next = connect.CodeGone, "run a survey of this host"
		case fault.Subcode == wsman.TimedOut:
			f.Code, f.Next = connect.CodeTimeout, "the host did not answer in time: is it under load?"
		}
	case errors.As(err, &sign):
		f.Stage, f.Code, f.Unclear = connect.StageSignIn, connect.CodeUnreachable, false
		f.Next = "can the key distribution center be reached, and is the service principal name right?"
		if sign.Refused {
			f.Code, f.Next = connect.CodeStewardRefused, "check the steward's account and password, and the way to sign in"
		}
	case errors.As(err, &status):
		if status.Status == http.StatusUnauthorized {
			f.Stage, f.Code, f.Unclear = connect.StageSignIn, connect.CodeStewardRefused, false
			f.Next = "check the steward; the host offers " + strings.Join(status.Offers, ", ") + " (option signin)"
			if strings.EqualFold(s.target.Options[OptionSignIn], "basic") && strings.ContainsAny(s.target.Steward.Account, `\@`) {
				f.Next = "Basic is for accounts of the host itself: for one of a domain set option signin=ntlm or kerberos, or check the steward"
			}
		} else {
			f.Code, f.Next = connect.CodeProtocol, "something else than WS-Management answers there: a proxy, or another service on that port"
		}
	case errors.As(err, &protocol):
		f.Code = connect.CodeProtocol
	case errors.As(err, &transport):
		f.Code, f.Next = connect.CodeUnreachable, "the connection was lost"
		if connect.IsTimeout(err) {
			f.Code, f.Next = connect.CodeTimeout, "the host did not answer in time"
		}
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		f.Code = connect.CodeTimeout
	}
	return f
}

// describe reads the host itself: the first request, which signs in.
func (s *session) describe(ctx context.Context) *connect.Failure {
	err := s.all(ctx, spaceCIM, "Win32_OperatingSystem", "", func(i *instance) error { s.system = i; return nil })
	if err == nil && s.system == nil {
		err = errors.New("the host describes no operating system")
	}
	if failure := s.failure(connect.StageRead, err, false); failure != nil {
		return failure
	}
	s.facts.Flavor, s.facts.Version = s.system.Text("Caption"), s.system.Text("Version")
	s.facts.Booted = s.system.Time("LastBootUpTime")
	s.name = s.system.Text("CSName")
	if own := s.system.Time("LocalDateTime"); !own.IsZero() {
		if off := time.Until(own).Round(time.Second); off > 2*time.Minute || off < -2*time.Minute {
			s.facts.ClockOff = off
		}
	}
	return nil
}

// all hands over the instances of a class, or those that a condition chooses.
func (s *session) all(ctx context.Context, space, class, where string, each func(*instance) error) error {
	q := wsman.Query{URI: resourceBase + space + "/" + class}
	if where != "" {
		q = wsman.Query{URI: resourceBase + space + "/*", WQL: "select * from " + class + " where " + where}
	}
	seen := 0
	count := func(i *instance) error { seen++; return each(i) }
	err := s.Enumerate(ctx, q, count)
	if wsman.Is(err, wsman.ExpiredContext) && seen == 0 {
		err = s.Enumerate(ctx, q, count)
	}
	return err
}

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, failure := anew(ctx, target, watch) // its stages are the question
	if failure != nil {
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer s.close()
	report := func(failure *connect.Failure) connect.CheckReport {
		if failure != nil {
			watch.Fail(failure)
		}
		return connect.CheckReport{Stages: watch.Stages(), Facts: s.facts}
	}
	id, err := s.Identify(ctx)
	if failure := s.failure(connect.StageSecure, err, false); failure != nil {
		return report(failure)
	}
	if failure := s.describe(ctx); failure != nil {
		if failure.Stage == connect.StageRead {
			watch.OK(connect.StageSignIn, "as "+target.Steward.Account)
		} else if failure.Stage == connect.StagePermitted {
			watch.OK(connect.StageSignIn, "as "+target.Steward.Account)
		}
		return report(failure)
	}
	watch.OK(connect.StageSignIn, "as "+target.Steward.Account)
	if failure := s.failure(connect.StagePermitted, s.allowed(ctx), false); failure != nil {
		failure.Stage = connect.StagePermitted
		return report(failure)
	}
	permitted := "services can be read one by one"
	if err := s.seesAll(ctx); err != nil {
		permitted += "; " + err.Error()
	}
	watch.OK(connect.StagePermitted, permitted)
	detail := s.facts.Flavor + " " + s.facts.Version + ", " + strings.TrimSpace(id.Vendor+" "+id.Version)
	if s.facts.ClockOff != 0 {
		detail += fmt.Sprintf("; its clock is off by %s", s.facts.ClockOff)
	}
	watch.OK(connect.StageRead, detail)
	return report(nil)
}

// allowed reads one service by its name, as every act does.
func (s *session) allowed(ctx context.Context) error {
	_, err := s.Get(ctx, serviceResource("WinRM"))
	if wsman.Is(err, wsman.NumberNotFound) {
		return nil
	}
	return err
}
