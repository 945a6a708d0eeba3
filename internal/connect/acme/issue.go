package acme

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/crypto/acme"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/keys"
)

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, is, failure := signIn(ctx, target, watch, false)
	if failure != nil {
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer s.close()
	watch.OK(connect.StagePermitted, "its account is "+is.Status)
	watch.OK(connect.StageRead, "it takes orders")
	return connect.CheckReport{Stages: watch.Stages(), Facts: s.facts}
}

// Visit implements connect.Visitor. An authority tells nobody what else it has.
func (Connector) Visit(ctx context.Context, target connect.Target, _ connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	s, is, failure := signIn(ctx, target, watch, false)
	if failure != nil {
		return coverage.Fail(watch, failure, connect.ScopeAccounts)
	}
	defer s.close()
	coverage.Facts = s.facts
	at, err := url.Parse(is.URI)
	if err != nil || at.Path == "" {
		return coverage.Fail(watch, target.Fail(connect.StageRead, connect.CodeProtocol, fmt.Sprintf("it names our account %q", line(is.URI)), "", err), connect.ScopeAccounts)
	}
	account := estate.Account{StableID: at.RequestURI(), Name: target.Steward.Account, Description: "orders certificates", Enabled: estate.Known(is.Status == acme.StatusValid), Locked: estate.No, NeverExpire: true}
	if err := emit(connect.Batch{Facts: &coverage.Facts, Accounts: []estate.Account{account}}); err != nil {
		return coverage, err
	}
	coverage.Complete[connect.ScopeAccounts], coverage.Counts[connect.ScopeAccounts] = true, 1
	watch.OK(connect.StageRead, "the account by which certificates are ordered")
	coverage.Stages = watch.Stages()
	return coverage, nil
}

// token is what an authority names a challenge by (RFC 8555, section 8.3): it becomes a part of
// a path.
var token = regexp.MustCompile(`^[A-Za-z0-9_-]{16,256}$`)

// mostNames of one certificate are ordered.
const mostNames = 100

// Order implements connect.Certifier.
func (Connector) Order(ctx context.Context, target connect.Target, names []string) (connect.Order, error) {
	var out connect.Order
	if len(names) == 0 || len(names) > mostNames {
		return out, target.Fail(connect.StageChange, connect.CodeFailed, fmt.Sprintf("a certificate about %d names is not ordered: one to %d", len(names), mostNames), "", nil)
	}
	s, _, failure := signIn(ctx, target, connect.NewStopwatch(), true)
	if failure != nil {
		return out, failure
	}
	defer s.close()
	made, err := s.client.AuthorizeOrder(ctx, identifiers(names))
	if err != nil {
		return out, s.failed(connect.StageChange, err, true)
	}
	out.URL = made.URI
	err = s.each(ctx, made, func(a *acme.Authorization, c *acme.Challenge) error {
		answer, err := s.client.HTTP01ChallengeResponse(c.Token)
		if err == nil && !token.MatchString(c.Token) {
			err = fmt.Errorf("it names a challenge %q", line(c.Token))
		}
		out.Challenges = append(out.Challenges, connect.Challenge{Name: a.Identifier.Value, Token: c.Token, Answer: answer})
		return err
	})
	if err != nil {
		return connect.Order{}, s.failed(connect.StageChange, err, false)
	}
	return out, nil
}

func identifiers(names []string) []acme.AuthzID {
	out := make([]acme.AuthzID, len(names))
	for i, name := range names {
		out[i] = acme.AuthzID{Type: "dns", Value: strings.ToLower(strings.TrimSuffix(name, "."))}
		if _, err := netip.ParseAddr(name); err == nil { // RFC 8738
			out[i] = acme.AuthzID{Type: "ip", Value: name}
		}
	}
	return out
}

// each goes through what an order still needs of us.
func (s *session) each(ctx context.Context, order *acme.Order, do func(*acme.Authorization, *acme.Challenge) error) error {
	for _, at := range order.AuthzURLs {
		a, err := s.client.GetAuthorization(ctx, at)
		if err != nil {
			return err
		}
		if a.Status != acme.StatusPending {
			continue // known before, or refused: the order says so
		}
		i := slices.IndexFunc(a.Challenges, func(c *acme.Challenge) bool { return c.Type == "http-01" })
		if i < 0 {
			return fmt.Errorf("for %s it offers no challenge over HTTP (http-01): let the account order for it without one, or order by hand", line(a.Identifier.Value))
		}
		if err := do(a, a.Challenges[i]); err != nil {
			return err
		}
	}
	return nil
}

// Issue implements connect.Certifier.
func (Connector) Issue(ctx context.Context, target connect.Target, order connect.Order, request []byte) (string, error) {
	s, _, failure := signIn(ctx, target, connect.NewStopwatch(), false)
	if failure != nil {
		return "", failure
	}
	defer s.close()
	is, err := s.client.GetOrder(ctx, order.URL)
	if err == nil {
		err = s.each(ctx, is, func(a *acme.Authorization, c *acme.Challenge) error {
			if _, err := s.client.Accept(ctx, c); err != nil {
				return err
			}
			_, err := s.client.WaitAuthorization(ctx, a.URI)
			return err
		})
	}
	if err == nil && is.Status == acme.StatusPending {
		is, err = s.client.WaitOrder(ctx, order.URL)
	}
	if err != nil {
		return "", s.failed(connect.StageChange, err, false)
	}
	var raw [][]byte
	if is.Status == acme.StatusValid && is.CertURL != "" {
		raw, err = s.client.FetchCert(ctx, is.CertURL, true)
	} else {
		is.URI = order.URL
		raw, _, err = s.client.CreateCertFromOrder(ctx, is, request, true)
	}
	if err != nil {
		return "", s.failed(connect.StageChange, err, true)
	}
	var list []*x509.Certificate
	for _, der := range raw {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return "", target.Fail(connect.StageChange, connect.CodeProtocol, "what it issued cannot be read: "+err.Error(), "", err)
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return "", target.Fail(connect.StageChange, connect.CodeProtocol, "it issued nothing", "", nil)
	}
	return keys.Joined(list), nil
}

// superseded is why a certificate is taken back (RFC 5280, section 5.3.1).
const superseded = acme.CRLReasonSuperseded

// Revoke implements connect.Certifier.
func (Connector) Revoke(ctx context.Context, target connect.Target, chain string) error {
	list, err := keys.ReadChain(chain)
	if err != nil {
		return target.Fail(connect.StageChange, connect.CodeFailed, err.Error(), "", err)
	}
	s, _, failure := signIn(ctx, target, connect.NewStopwatch(), false)
	if failure != nil {
		return failure
	}
	defer s.close()
	if !s.revoke {
		return target.Fail(connect.StageChange, connect.CodeCannot, "it takes no certificate back: its directory has no revokeCert", "", nil)
	}
	err = s.client.RevokeCert(ctx, nil, list[0].Raw, superseded)
	var said *acme.Error
	if err == nil || errors.As(err, &said) && strings.HasSuffix(said.ProblemType, ":alreadyRevoked") {
		return nil
	}
	return s.failed(connect.StageChange, err, true)
}

// Rehearse implements connect.Rehearser. Nothing is ordered: an order counts.
func (Connector) Rehearse(ctx context.Context, target connect.Target, list []connect.Intention) []connect.Checked {
	s, is, failure := signIn(ctx, target, connect.NewStopwatch(), false)
	first := connect.Checked{System: target.Name, What: "sign in to " + target.Name, Result: connect.CheckOK}
	if failure != nil && failure.Code == connect.CodeStewardRefused && errors.Is(failure.Err, acme.ErrNoAccount) && target.Options[optionRegister] == "on" {
		first.Result, first.Words = connect.CheckWarning, "it has no account of the steward's key yet: the order makes one, and agrees to the authority's terms"
	} else if failure != nil {
		first.Result, first.Words, first.Next = connect.CheckFailed, string(failure.Stage)+": "+failure.Words, failure.Next
	} else {
		defer s.close()
		first.Words = "the account " + is.URI + " is " + is.Status
	}
	out := []connect.Checked{first}
	for _, in := range list {
		if len(in.Certify) == 0 {
			out = append(out, connect.Checked{System: target.Name, What: "everything else on this authority", Result: connect.CheckUnchecked, Words: "it cannot be rehearsed"})
			continue
		}
		if first.Result == connect.CheckFailed {
			continue
		}
		out = append(out, connect.Checked{System: target.Name, What: "it issues a certificate about " + strings.Join(in.Certify, ", "), Result: connect.CheckUnchecked, Words: "that is known once it is ordered; until then nothing else is changed"})
	}
	return out
}

// Prepare implements connect.Preparer.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "the key of an account: give steward.key to 'moss steward add --key-file', and remove the file then. Register the account yourself where the authority wants to know whose it is, or set the option " + optionRegister + "=on", Where: "where you like, at a shell", Language: "sh", Text: "umask 077\nopenssl genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out steward.key\n"},
	}
}
