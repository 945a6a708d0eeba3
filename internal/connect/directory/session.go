// Package directory is the connector for LDAP directories (RFC 4511): those
// with the Windows-domain schema and those with the plain RFC schema. Which
// one it is is read from the root entry, not configured.
//
// It always uses LDAP over TLS with a verified certificate. It never binds
// with an empty password: RFC 4513, section 5.1.2 makes that an anonymous bind
// that succeeds, which would prove a wrong value right.
package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/domain"
	"mossledger.example/moss/internal/connect/directory/ending"
	"mossledger.example/moss/internal/connect/directory/refusal"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
)

// Connector implements connect.Connector for directories.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

// description says what systems of this kind have and can do.
var description = connect.Description{
	Kind: estate.KindDirectory, Class: estate.ClassDirectory, Title: "directory", Port: 636,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
	Options: []connect.Option{
		{Name: OptionBase, Type: connect.OptionName, Default: "all naming contexts", Help: "subtree that is read", Reading: true},
		connect.RightsOption,
		{Name: OptionServers, Type: connect.OptionAddresses, Help: "further servers of the same directory, HOST or HOST:PORT, separated by ;: read from when the first is away, and waited for until a change has reached them"},
	},
	Scopes: []string{connect.ScopeAccounts},
	Acts:   []connect.Act{connect.ActVisit, connect.ActAsk, connect.ActVerify, connect.ActAccept, connect.ActTurns, connect.ActRules, connect.ActRehearse, connect.ActList, connect.ActRecords, connect.ActRights, connect.ActEnd, connect.ActAmend, connect.ActTry, connect.ActManaged, connect.ActSessions},
	Verbs:  descriptor.Verbs(),
	Ends:   ending.Possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

// Flavors of directory.
const (
	FlavorWindows = "windows-schema"
	FlavorRFC     = "rfc-schema"
)

// Options of a directory.
const (
	OptionBase    = "base"    // the subtree to read
	OptionServers = "servers" // further servers of it, HOST or HOST:PORT, separated by semicolons
)

// requestTime bounds one LDAP request; a page of entries is one request.
const requestTime = 30 * time.Second

type session struct {
	conn   *secured
	target connect.Target
	facts  connect.Facts
	root   *ldap.Entry
	leave  func() // what the call that has it does at its end

	contexts []string          // what the directory holds (RFC 4512, section 5.1)
	bases    []string          // what of it is read: the contexts, or the base that was given
	closed   map[string]string // contexts that cannot be read, and the directory's words

	clockOff time.Duration // the server's clock minus ours, where it shows its time
}

// now is by the server's clock: what it counts, it counts by that.
func (s *session) now() time.Time { return time.Now().Add(s.clockOff) }

func (s *session) close() { s.leave() }

// Resume implements connect.Session.
func (s *session) Resume(ctx context.Context) bool {
	if s.conn.IsClosing() {
		return false
	}
	s.conn.stop = context.AfterFunc(ctx, func() { _ = s.conn.Close() })
	return true
}

// Rest implements connect.Session. A question that was never answered says that
// the other side may be gone.
func (s *session) Rest() bool {
	return s.conn.stop() && !s.conn.IsClosing() && !s.conn.under.asked.Load()
}

// End implements connect.Session.
func (s *session) End() { s.conn.close() }

func (s *session) usedBy(ctx context.Context) *session {
	s.leave = func() { connect.LeaveSession(ctx, s.target, s) }
	return s
}

func (s *session) windows() bool { return s.facts.Flavor == FlavorWindows }

// secureRaw connects and does the TLS handshake.
func secureRaw(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*tls.Conn, connect.Facts, *connect.Failure) {
	conn, _, facts, failure := connect.Secure(ctx, target, description.Port, watch, secureNext)
	return conn, facts, failure
}

// secure makes an LDAP connection over TLS.
func secure(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*secured, *connect.Failure) {
	conn, facts, failure := secureRaw(ctx, target, watch)
	if failure != nil {
		return nil, failure
	}
	bounded := &boundedConn{Conn: conn}
	wrapped := ldap.NewConn(bounded, true)
	wrapped.SetTimeout(requestTime)
	wrapped.Start()
	stop := context.AfterFunc(ctx, func() { _ = wrapped.Close() })
	return &secured{Conn: wrapped, trace: connect.TraceOf(ctx), under: bounded, stop: stop, facts: facts}, nil
}

// secured is a connection over TLS that has not signed in.
type secured struct {
	*ldap.Conn
	trace connect.Trace
	under *boundedConn
	stop  func() bool
	facts connect.Facts
}

func (s *secured) close() {
	s.stop()
	_ = s.Conn.Close()
}

// boundedConn gives every read a deadline, so that a server that hangs ends
// the attempt instead of holding it.
type boundedConn struct {
	net.Conn
	asked atomic.Bool // something was sent, and nothing came since
}

func (c *boundedConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if n > 0 {
		c.asked.Store(false)
	}
	return n, err
}

func (c *boundedConn) Write(b []byte) (int, error) {
	c.asked.Store(true)
	_ = c.SetWriteDeadline(time.Now().Add(requestTime))
	return c.Conn.Write(b)
}

func secureNext(err error) string {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		return "the certificate is not signed by the given CA: give the CA that signed it (--ca-file)"
	case errors.As(err, &host):
		return "the certificate is for another name: use that name as the address"
	default:
		return "does this port speak LDAP over TLS?"
	}
}

// open takes the session that an earlier call left, or signs in.
func open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	if s, kept := connect.TakeSession[*session](ctx, target); kept {
		return s.usedBy(ctx), nil
	}
	return signIn(ctx, target, watch)
}

// signIn goes through all stages up to a signed-in session.
func signIn(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	conn, failure := secure(ctx, target, watch)
	if failure != nil {
		return nil, failure
	}
	s := &session{conn: conn, target: target, facts: conn.facts}
	if target.Steward.Account == "" || target.Steward.Password.Empty() {
		s.End()
		f := target.Fail(connect.StageSignIn, connect.CodeStewardRefused, "no steward with an account and a password is given", "add one with 'moss steward add' and name it in the system", nil)
		watch.Fail(f)
		return nil, f
	}
	if err := conn.Bind(target.Steward.Account, target.Steward.Password.RevealString()); err != nil {
		s.End()
		f := refusal.Failure(target, connect.StageSignIn, err, target.Steward.Password)
		if f.Code == connect.CodeFailed || f.Code == connect.CodePolicy {
			f.Code = connect.CodeStewardRefused
		}
		f.Next = "check the steward " + target.Steward.Account
		if refused := refusal.OfBind(err); refused != nil {
			f.Code, f.Words = connect.CodeStewardRefused, secret.Scrub(refused.Words, target.Steward.Password)
		}
		watch.Fail(f)
		return nil, f
	}
	watch.OK(connect.StageSignIn, target.Steward.Account)
	if f := s.readRoot(); f != nil {
		s.End()
		watch.Fail(f)
		return nil, f
	}
	watch.OK(connect.StagePermitted, s.facts.Flavor+", base "+strings.Join(s.bases, " and "))
	return s.usedBy(ctx), nil
}

// Capabilities and extensions that tell the flavors apart.
const (
	capabilityWindows = "1.2.840.113556.1.4.800"
	// capabilityReadOnly is that of a controller with a part of the secrets only
	// ([MS-ADTS], section 3.1.1.3.4.3): it takes no change.
	capabilityReadOnly = "1.2.840.113556.1.4.1920"
	extensionPassword  = "1.3.6.1.4.1.4203.1.11.1" // RFC 3062
)

func (s *session) readRoot() *connect.Failure {
	res, err := s.conn.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		[]string{"supportedCapabilities", "supportedExtension", "namingContexts", "defaultNamingContext", "configurationNamingContext", "dnsHostName", "vendorVersion", "currentTime"}, nil))
	if err != nil {
		return s.fail(connect.StagePermitted, err)
	}
	if len(res.Entries) != 1 {
		return s.target.Fail(connect.StagePermitted, connect.CodeProtocol, "the directory shows no root entry", "is this an LDAP version 3 directory?", nil)
	}
	root := res.Entries[0]
	s.root = root
	s.facts.Version = root.GetAttributeValue("vendorVersion")
	if own := values.GeneralizedTime(root.GetAttributeValue("currentTime")); !own.IsZero() {
		s.clockOff = time.Until(own)
	}
	switch {
	case slices.Contains(root.GetAttributeValues("supportedCapabilities"), capabilityWindows):
		s.facts.Flavor = FlavorWindows
		s.facts.BaseDN = root.GetAttributeValue("defaultNamingContext")
		s.contexts = []string{s.facts.BaseDN}
		domain.Read(s.conn, root, &s.facts)
	case slices.Contains(root.GetAttributeValues("supportedExtension"), extensionPassword):
		s.facts.Flavor = FlavorRFC
		if f := s.readContexts(); f != nil {
			return f
		}
	default:
		return s.target.Fail(connect.StagePermitted, connect.CodeProtocol, "it offers neither the Windows-domain schema nor the password modify operation (RFC 3062)", "this directory's passwords cannot be changed from here", nil)
	}
	s.bases = s.contexts
	if base := s.target.Options[OptionBase]; base != "" {
		s.facts.BaseDN, s.bases = base, []string{base}
	}
	if s.facts.BaseDN == "" {
		return s.target.Fail(connect.StagePermitted, connect.CodeNotPermitted, "it names no base to read", "give one with --option base=DN", nil)
	}
	return nil
}

// maxContexts is how many naming contexts of a directory are looked at.
const maxContexts = 100

// readContexts looks at the naming contexts. Those that hold a log of changes
// (auditContainer) have no accounts. The id of the topmost entry is the same on
// all servers of a directory, and so it tells which directory this is.
func (s *session) readContexts() *connect.Failure {
	s.closed = map[string]string{}
	// In an order of its own: servers need not tell them in the same.
	contexts := slices.Sorted(slices.Values(s.root.GetAttributeValues("namingContexts")))
	if len(contexts) > maxContexts {
		return s.target.Fail(connect.StagePermitted, connect.CodeProtocol, fmt.Sprintf("it has %d naming contexts, at most %d are read", len(contexts), maxContexts), "give one with --option base=DN", nil)
	}
	for _, dn := range contexts {
		if dn == "" {
			continue
		}
		entry, words, f := s.base(dn, "objectClass", "entryUUID")
		if f != nil {
			return f
		}
		if entry == nil {
			s.closed[dn] = words
		} else if slices.ContainsFunc(entry.GetAttributeValues("objectClass"), func(class string) bool { return strings.EqualFold(class, "auditContainer") }) {
			continue
		} else if s.facts.Identity == "" {
			s.facts.Identity = entry.GetAttributeValue("entryUUID")
		}
		s.contexts = append(s.contexts, dn)
		if domain := values.DNSOf(dn); domain != "" && !slices.Contains(s.facts.Domains, domain) {
			s.facts.Domains = append(s.facts.Domains, domain)
		}
	}
	if len(s.contexts) > 0 {
		s.facts.BaseDN = s.contexts[0]
	}
	return nil
}

// base reads one entry; nil and the directory's words when it cannot be seen.
// A failure means that the directory did not answer.
func (s *session) base(dn string, attributes ...string) (*ldap.Entry, string, *connect.Failure) {
	res, err := s.conn.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", attributes, nil))
	if err != nil {
		f := s.fail(connect.StageRead, err)
		if f.Unclear || f.Code == connect.CodeUnreachable {
			f.Unclear = false // nothing but reading was tried
			return nil, "", f
		}
		return nil, f.Words, nil
	}
	if len(res.Entries) != 1 {
		return nil, "it is not shown", nil
	}
	return res.Entries[0], "", nil
}

// find searches all that is read. What is closed is passed over: the caller
// asks for single entries, or for all that is shown.
func (s *session) find(bases []string, limit int, filter string, attributes ...string) ([]*ldap.Entry, *connect.Failure) {
	var out []*ldap.Entry
	for _, base := range bases {
		if s.closed[base] != "" {
			continue
		}
		res, err := s.conn.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, limit, 0, false, filter, attributes, nil))
		if err != nil {
			f := s.fail(connect.StageRead, err)
			f.Unclear = false // nothing but reading was tried
			if len(bases) > 1 && (f.Code == connect.CodeGone || f.Code == connect.CodeNotPermitted) {
				continue
			}
			return out, f
		}
		out = append(out, res.Entries...)
	}
	return out, nil
}

func (s *session) fail(stage connect.Stage, err error) *connect.Failure {
	return refusal.Failure(s.target, stage, err, s.target.Steward.Password)
}
