// Package cloud is the connector for projects of clouds that give programs service identities:
// over HTTPS, with tokens that an assertion is exchanged for (RFC 7523).
//
// An identity is an account, and its keys are points at which it is let in: each has a number,
// the thumbprint of its public half (RFC 7638), an end, and a state. What the project keeps of
// a key is public; the private half is in files where programs read it, which surveys of hosts
// tie to the identity by that number. A steward is an identity itself, and signs in with a key.
package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// Kind of system.
const Kind estate.Kind = "cloud-project"

// Connector implements connect.Connector for cloud projects.
type Connector struct{ connect.Cannot }

func init() { connect.Register(Connector{}) }

// Describe implements connect.Connector.
func (Connector) Describe() connect.Description { return description }

var description = connect.Description{
	Kind: Kind, Class: estate.ClassOther, Title: "cloud project", Port: 443,
	Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPrivateKey},
	Options: []connect.Option{},
	Scopes:  []string{connect.ScopeAccounts, connect.ScopeKeys},
	Acts:    []connect.Act{connect.ActVisit, connect.ActAccept, connect.ActOverlap, connect.ActEntries, connect.ActRehearse, connect.ActEnd},
	Verbs:   []string{},
	Ends:    possible,
}

// A missing or mistyped method does not compile.
var _ connect.Connector = Connector{}

const (
	callTime = 20 * time.Second
	mostRead = 4 << 20          // bytes of one answer
	patience = 30 * time.Second // that a server may ask us to wait
	waits    = 3                // how often it may
)

// session is a signed-in client.
type session struct {
	target connect.Target
	client *http.Client
	base   string
	tokens string // where assertions are exchanged
	issuer string
	token  secret.Value
	behind time.Duration // the project's clock beside ours
	trace  connect.Trace
	facts  connect.Facts
}

// open connects, secures and finds out where tokens are given. It has not signed in yet.
func open(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	conn, config, facts, failure := connect.Secure(ctx, target, description.Port, watch, func(error) string {
		return "is it the project's certificate? Give the CA that signed it with --ca"
	})
	if failure != nil {
		return nil, failure
	}
	port := target.Port
	if port == 0 {
		port = description.Port
	}
	s := &session{target: target, facts: facts, base: "https://" + net.JoinHostPort(target.Address, strconv.Itoa(port)), trace: connect.TraceOf(ctx)}
	transport := connect.Transport(target, description.Port, conn, config, 4, callTime)
	// Nobody is followed elsewhere: what is sent proves who we are.
	s.client = &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("it sends us elsewhere, which is not followed")
	}}
	if failure := s.discover(ctx); failure != nil {
		s.close()
		watch.Fail(failure)
		return nil, failure
	}
	return s, nil
}

func (s *session) close() { s.client.CloseIdleConnections() }

// discover reads what the server says of itself (RFC 8414). Who says that they are somebody
// else, or that tokens are given elsewhere, is sent nothing.
func (s *session) discover(ctx context.Context) *connect.Failure {
	var said struct {
		Issuer string `json:"issuer"`
		Tokens string `json:"token_endpoint"`
	}
	if failure := s.call(ctx, connect.StageSecure, http.MethodGet, "/.well-known/oauth-authorization-server", nil, &said); failure != nil {
		return failure
	}
	own, err := url.Parse(s.base)
	if err != nil {
		return s.target.Fail(connect.StageSecure, connect.CodeFailed, err.Error(), "", err)
	}
	tokens, wrong := url.Parse(said.Tokens)
	switch {
	case strings.TrimSuffix(said.Issuer, "/") != s.base:
		return s.target.Fail(connect.StageSecure, connect.CodeUntrusted, fmt.Sprintf("it says that it is %q, and was asked as %s", said.Issuer, s.base), "give the address by which the project names itself", nil)
	case wrong != nil || tokens.Scheme != "https" || tokens.Host != own.Host:
		return s.target.Fail(connect.StageSecure, connect.CodeUntrusted, fmt.Sprintf("it gives tokens at %q, which is elsewhere: nothing is sent there", said.Tokens), "find out why: who proves us there could sign in as us", nil)
	}
	s.issuer, s.tokens = said.Issuer, tokens.RequestURI()
	return nil
}

// signIn opens a session as the steward.
func signIn(ctx context.Context, target connect.Target, watch *connect.Stopwatch) (*session, *connect.Failure) {
	s, failure := open(ctx, target, watch)
	if failure != nil {
		return nil, failure
	}
	given, failure := s.exchange(ctx, target.Steward.Account, target.Steward.PrivateKey)
	if failure == nil && given.refused != "" {
		failure = target.Fail(connect.StageSignIn, connect.CodeStewardRefused, given.refused, "check the steward "+target.Steward.Account+": its key, whether that has ended, and the clocks", nil)
	}
	if failure != nil {
		s.close()
		watch.Fail(failure)
		return nil, failure
	}
	s.token = given.token
	watch.OK(connect.StageSignIn, target.Steward.Account)
	return s, nil
}

// problem is a refusal as problem details (RFC 9457).
type problem struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

// call sends a request and reads its answer.
func (s *session) call(ctx context.Context, stage connect.Stage, method, path string, in, out any) *connect.Failure {
	var body []byte
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return s.target.Fail(stage, connect.CodeFailed, err.Error(), "", err)
		}
		body = raw
	}
	status, raw, failure := s.send(ctx, stage, method, path, "application/json", body)
	switch {
	case failure != nil:
		return failure
	case status >= 400:
		return s.refusal(stage, status, raw)
	case out == nil:
		return nil
	}
	if err := json.Unmarshal(raw, out); err != nil {
		f := s.target.Fail(stage, connect.CodeProtocol, "its answer to "+method+" "+path+" is not what was asked for: "+err.Error(), "does this port speak for a cloud project?", err)
		f.Unclear = method != http.MethodGet
		return f
	}
	return nil
}

func (s *session) refusal(stage connect.Stage, status int, raw []byte) *connect.Failure {
	var p problem
	words := strconv.Itoa(status) + " " + http.StatusText(status)
	if json.Unmarshal(raw, &p) == nil && p.Detail != "" {
		words += ": " + p.Detail
	}
	f := s.target.Fail(stage, connect.CodeFailed, secret.Scrub(words, s.token), "", nil)
	switch status {
	case http.StatusUnauthorized:
		f.Code = connect.CodeStewardRefused
	case http.StatusForbidden:
		f.Code, f.Next = connect.CodeNotPermitted, "let "+s.target.Steward.Account+" manage the identities of the project"
	case http.StatusNotFound:
		f.Code, f.Next = connect.CodeGone, "run a survey of "+s.target.Name
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		f.Code, f.Next = connect.CodeUnreachable, "the project does not take requests now"
	}
	f.Unclear = status >= 500 && stage == connect.StageChange
	return f
}

// send sends one request. A server that asks us to come again later is waited for, a little.
func (s *session) send(ctx context.Context, stage connect.Stage, method, path, contentType string, body []byte) (int, []byte, *connect.Failure) {
	for try := 1; ; try++ {
		status, header, raw, failure := s.once(ctx, stage, method, path, contentType, body)
		if failure != nil || status != http.StatusTooManyRequests || try == waits {
			return status, raw, failure
		}
		pause := later(header.Get("Retry-After"))
		if waited := pause >= 0 && pause <= patience && connect.Wait(ctx, pause) == nil; !waited {
			return status, raw, nil
		}
	}
}

// later is how long a server wants to be left alone: seconds, or a moment (RFC 9110, section
// 10.2.3). It is below 0 if that is not said.
func later(said string) time.Duration {
	if seconds, err := strconv.Atoi(said); err == nil {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(said); err == nil {
		return max(time.Until(at), 0)
	}
	return -1
}

func (s *session) once(ctx context.Context, stage connect.Stage, method, path, contentType string, body []byte) (int, http.Header, []byte, *connect.Failure) {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	begun := time.Now()
	request, err := http.NewRequestWithContext(ctx, method, s.base+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, nil, s.target.Fail(stage, connect.CodeFailed, err.Error(), "", err)
	}
	request.Header.Set("Accept", "application/json")
	if body != nil {
		request.Header.Set("Content-Type", contentType)
	}
	if !s.token.Empty() {
		request.Header.Set("Authorization", "Bearer "+s.token.RevealString())
	}
	response, err := s.client.Do(request)
	s.trace.Tell(connect.Ended("http", method+" "+path, begun, err, nil))
	if err != nil {
		return 0, nil, nil, s.lost(stage, method, err)
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(response.Body, mostRead+1))
	if err != nil {
		return 0, nil, nil, s.lost(stage, method, err)
	}
	if len(raw) > mostRead {
		return 0, nil, nil, s.target.Fail(stage, connect.CodeProtocol, fmt.Sprintf("its answer has more than %d bytes", mostRead), "", nil)
	}
	if at, err := http.ParseTime(response.Header.Get("Date")); err == nil {
		s.behind = at.Sub(time.Now().Truncate(time.Second))
	}
	return response.StatusCode, response.Header, raw, nil
}

// lost is a request that was not answered.
func (s *session) lost(stage connect.Stage, method string, err error) *connect.Failure {
	var failed *connect.Failure
	if errors.As(err, &failed) {
		return failed
	}
	words := err.Error()
	var inner *url.Error
	if errors.As(err, &inner) {
		words = inner.Err.Error()
	}
	f := s.target.Fail(stage, connect.CodeUnreachable, words, "the connection was lost", err)
	switch {
	case connect.IsTimeout(err):
		f.Code, f.Words = connect.CodeTimeout, fmt.Sprintf("no answer within %s", callTime)
	case strings.Contains(words, "which is not followed"):
		f.Code, f.Next = connect.CodeUntrusted, "find out why: nothing was sent there"
	}
	f.Unclear = method != http.MethodGet && stage == connect.StageChange
	return f
}

// now is the project's clock.
func (s *session) now() time.Time { return time.Now().Add(s.behind) }

// Check implements connect.Connector.
func (Connector) Check(ctx context.Context, target connect.Target) connect.CheckReport {
	watch := connect.NewStopwatch()
	s, failure := signIn(ctx, target, watch)
	if failure != nil {
		return connect.CheckReport{Stages: watch.Stages()}
	}
	defer s.close()
	var page identities
	if failure := s.call(ctx, connect.StagePermitted, http.MethodGet, "/identities", nil, &page); failure != nil {
		watch.Fail(failure)
		return connect.CheckReport{Stages: watch.Stages(), Facts: s.known()}
	}
	watch.OK(connect.StagePermitted, "it may read the identities of the project")
	watch.OK(connect.StageRead, fmt.Sprintf("%d identities on the first page", len(page.List)))
	return connect.CheckReport{Stages: watch.Stages(), Facts: s.known()}
}

func (s *session) known() connect.Facts {
	s.facts.Identity, s.facts.ClockOff = s.issuer, s.behind
	return s.facts
}
