// Package api talks to the service over its HTTP API, for the command line: a
// sign-in that is kept between commands, requests that are sent again when that
// is harmless, event streams that are resumed, and refusals as exit codes.
package api

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// Exit codes of the command line.
const (
	ExitOK       = 0 // done
	ExitFailed   = 1 // it did not work; the message says why
	ExitUsage    = 2 // the command line is wrong
	ExitNegative = 3 // it worked, and the answer is no: a check failed, drift, a rotation that did not end well, a ledger that does not hold
	ExitSignIn   = 4 // not signed in, or no right to do this
)

// ExitError carries an exit code.
type ExitError struct {
	Code int
	Err  error
}

func (e *ExitError) Error() string { return e.Err.Error() }
func (e *ExitError) Unwrap() error { return e.Err }

// Exit makes an error with an exit code.
func Exit(code int, err error) error { return &ExitError{code, err} }

// Negative is the answer no to a question that a command asked.
func Negative(format string, args ...any) error {
	return &ExitError{ExitNegative, fmt.Errorf(format, args...)}
}

// Session is what 'moss login' keeps between commands.
type Session struct {
	Server string `json:"server"`
	Token  string `json:"token"`
	Name   string `json:"name"`
	CA     string `json:"ca,omitempty"`
	Device string `json:"device,omitempty"` // tells the service that this device signed in before
}

func sessionFile() (string, error) {
	folder := os.Getenv("MOSS_CONFIG")
	if folder == "" {
		base, err := os.UserConfigDir()
		if err != nil {
			return "", fmt.Errorf("no folder for the sign-in (set MOSS_CONFIG): %w", err)
		}
		folder = filepath.Join(base, "moss")
	}
	return filepath.Join(folder, "session.json"), nil
}

// LoadSession reads it.
func LoadSession() (Session, error) {
	file, err := sessionFile()
	if err != nil {
		return Session{}, err
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return Session{}, &ExitError{ExitSignIn, errors.New("not signed in: run 'moss login --server URL'")}
	}
	var s Session
	if err := json.Unmarshal(raw, &s); err != nil {
		return s, &ExitError{ExitSignIn, fmt.Errorf("%s cannot be read: run 'moss login' again", file)}
	}
	return s, nil
}

// Save writes it, for its owner only.
func (s Session) Save() error {
	file, err := sessionFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(raw, '\n'), 0o600)
}

// Client calls the API.
type Client struct {
	Session
	http *http.Client
}

// NewClient makes a Client for a sign-in.
func NewClient(s Session) (*Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone() //nolint:forcetypeassert // nothing here replaces it
	transport.Proxy = nil                                        // the service is named directly
	if s.CA != "" {
		pem, err := os.ReadFile(s.CA)
		if err != nil {
			return nil, fmt.Errorf("CA of the service: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", s.CA)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &Client{Session: s, http: &http.Client{Transport: transport}}, nil
}

// Connected makes a Client for the sign-in that is kept.
func Connected() (*Client, error) {
	s, err := LoadSession()
	if err != nil {
		return nil, err
	}
	if s.Token == "" {
		return nil, &ExitError{ExitSignIn, errors.New("not signed in: run 'moss login'")}
	}
	return NewClient(s)
}

// Problem is an error answer (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "; " + e.Message
		if e.Location != "" {
			text += " (" + e.Location + ")"
		}
	}
	return text
}

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body []byte
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = raw
	}
	raw := make([]byte, 16)
	if _, err := rand.Read(raw); err != nil {
		return nil, err
	}
	key := hex.EncodeToString(raw)
	response, err := c.send(ctx, method, path, body, key)
	if err != nil && ctx.Err() == nil && sentAgain(method, path) {
		// The answer was lost, perhaps not the request: with the same key it
		// is not done twice.
		response, err = c.send(ctx, method, path, body, key)
	}
	if err != nil {
		return nil, fmt.Errorf("the service at %s does not answer: %w", c.Server, err)
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	return nil, c.refusal(response)
}

// refusal is what an answer other than success says.
func (c *Client) refusal(response *http.Response) error {
	answered, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return fmt.Errorf("the service at %s broke off its answer: %w", c.Server, err)
	}
	p := &Problem{}
	if json.Unmarshal(answered, p) != nil || p.Status == 0 {
		p = &Problem{Status: response.StatusCode, Detail: fmt.Sprintf("%s answers %s: is this Moss Ledger?", c.Server, response.Status)}
	}
	switch p.Status {
	case http.StatusUnauthorized, http.StatusForbidden:
		return &ExitError{ExitSignIn, p}
	case http.StatusBadRequest, http.StatusUnprocessableEntity:
		return &ExitError{ExitUsage, p}
	}
	return p
}

// Numbered is an argument that is an item's number, ready for a path.
func Numbered(text, item, list string) (string, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err != nil || n < 1 {
		return "", &ExitError{ExitUsage, fmt.Errorf("%q is not the number of %s: see 'moss %s'", text, item, list)}
	}
	return text, nil
}

// Numbers are arguments that are items' numbers, from least to most of them.
func Numbers(least, most int, item, list string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return &ExitError{ExitUsage, fmt.Errorf("give the number of %s: see 'moss %s'", item, list)}
		case len(args) > most:
			return &ExitError{ExitUsage, fmt.Errorf("only %d of %d arguments are taken: see 'moss %s'", most, len(args), list)}
		}
		for _, text := range args {
			if _, err := Numbered(text, item, list); err != nil {
				return err
			}
		}
		return nil
	}
}

// sentAgain says whether a request whose answer was lost may be sent once more:
// it reads, or it starts something under an idempotency key.
func sentAgain(method, path string) bool {
	return method == http.MethodGet || method == http.MethodPost && (path == "/surveys" || strings.HasSuffix(path, "/rotations") || strings.HasSuffix(path, "/rotations/override"))
}

func (c *Client) send(ctx context.Context, method, path string, body []byte, key string) (*http.Response, error) {
	var reader io.Reader
	if body != nil {
		reader = bytes.NewReader(body)
	}
	request, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.Server, "/")+"/api/v1"+path, reader)
	if err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if method == http.MethodPost {
		request.Header.Set("Idempotency-Key", key)
	}
	if method == http.MethodPut {
		request.Header.Set("If-Match", "*")
	}
	return c.http.Do(request)
}

// Call sends in and reads the answer into out; either may be nil.
func (c *Client) Call(ctx context.Context, method, path string, in, out any) error {
	response, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil || response.StatusCode == http.StatusNoContent {
		return nil
	}
	decoder := json.NewDecoder(response.Body)
	decoder.UseNumber()
	if err := decoder.Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.Server, err)
	}
	return nil
}

// Event is one server-sent event.
type Event struct {
	ID   string
	Name string
	Data []byte
}

// ErrStreamEnd is returned by watchers that have seen enough.
var ErrStreamEnd = errors.New("end")

// Watch follows an event stream and takes it up again where it broke off,
// until see returns errStreamEnd or another error.
func (c *Client) Watch(ctx context.Context, path string, see func(Event) error) error {
	last := ""
	for failures := 0; ; failures++ {
		err := c.watchOnce(ctx, path, &last, func(e Event) error {
			failures = 0
			return see(e)
		})
		if errors.Is(err, ErrStreamEnd) {
			return nil
		}
		var p *Problem
		var exit *ExitError
		if ctx.Err() != nil || errors.As(err, &p) && p.Status < http.StatusInternalServerError || errors.As(err, &exit) || failures > 60 {
			return err
		}
		select { // the service may be starting again
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (c *Client) watchOnce(ctx context.Context, path string, last *string, see func(Event) error) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimRight(c.Server, "/")+"/api/v1"+path, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+c.Token)
	if *last != "" {
		request.Header.Set("Last-Event-ID", *last)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return c.refusal(response)
	}
	var e Event
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 8<<20)
	for lines.Scan() {
		line := lines.Text()
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case line == "":
			if len(e.Data) > 0 {
				if e.ID != "" {
					*last = e.ID
				}
				if err := see(e); err != nil {
					return err
				}
			}
			e = Event{}
		case field == "id":
			e.ID = value
		case field == "event":
			e.Name = value
		case field == "data":
			if len(e.Data) > 0 {
				e.Data = append(e.Data, '\n')
			}
			e.Data = append(e.Data, value...)
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the event stream ended")
}

// Account takes any spelling to an account's number.
func (c *Client) Account(ctx context.Context, spelling string) (int64, error) {
	var r struct {
		State, Why string
		Near       []string
		Candidates []struct {
			ID           int64
			Name, System string
			DN           string
		}
	}
	if err := c.Call(ctx, http.MethodGet, "/resolve?name="+url.QueryEscape(spelling), nil, &r); err != nil {
		return 0, err
	}
	// A number is what lists print; where it is a user number as well, of another
	// account, nobody guesses.
	if number, err := strconv.ParseInt(spelling, 10, 64); err == nil {
		var v struct {
			Account struct {
				ID           int64
				Name, System string
			}
		}
		if err := c.Call(ctx, http.MethodGet, "/accounts/"+spelling, nil, &v); err == nil {
			for _, k := range r.Candidates {
				if k.ID != number {
					return 0, Exit(ExitUsage, fmt.Errorf("%s is the number of %s on %s, and the user number of %s on %s: write id:%s, or %s/%s", spelling, v.Account.Name, v.Account.System, k.Name, k.System, spelling, k.System, k.Name))
				}
			}
			return number, nil
		}
	}
	if r.State == "resolved" && len(r.Candidates) == 1 {
		return r.Candidates[0].ID, nil
	}
	text := fmt.Sprintf("%q is %s: %s", spelling, r.State, r.Why) + DidYouMean(r.Near)
	for _, k := range r.Candidates {
		text += fmt.Sprintf("\n  %s/%s (id:%d) %s", k.System, k.Name, k.ID, k.DN)
	}
	return 0, errors.New(text)
}

// DidYouMean asks whether one of some names was meant; "" for none.
func DidYouMean(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return "; did you mean " + strings.Join(names, " or ") + "?"
}

// CredentialRow is a credential as the service resolved it. The password of an
// account that nobody noted yet has the number 0.
type CredentialRow struct {
	ID        int64  `json:"id"`
	Kind      string `json:"kind"`
	Name      string `json:"name"`
	System    string `json:"system"`
	AccountID int64  `json:"account_id"`

	Fingerprint string `json:"fingerprint"`
}

// ResolveCredential takes a credential in any spelling: an account, whose password
// is meant, the fingerprint of a key (or its beginning) or its name, or
// credential:NUMBER.
func (c *Client) ResolveCredential(ctx context.Context, spelling string) (v CredentialRow, err error) {
	resolved := c.Call(ctx, http.MethodGet, "/resolve/credential?name="+url.QueryEscape(spelling), nil, &v)
	if _, err := strconv.ParseInt(spelling, 10, 64); err != nil {
		return v, resolved
	}
	// A number is what lists print, unless it means something else as well.
	var listed struct{ Credential CredentialRow }
	if err := c.Call(ctx, http.MethodGet, "/credentials/"+spelling, nil, &listed); err != nil {
		return v, resolved
	}
	if resolved == nil && v.ID != listed.Credential.ID {
		return v, Exit(ExitUsage, fmt.Errorf("%s is the number of the credential %s, and the user number of %s on %s: write credential:%s, or %s/%s", spelling, listed.Credential.Name, v.Name, v.System, spelling, v.System, v.Name))
	}
	return listed.Credential, nil
}

// Credential is the path of a credential in any spelling. One that nobody noted is
// noted.
func (c *Client) Credential(ctx context.Context, spelling string) (string, error) {
	v, err := c.ResolveCredential(ctx, spelling)
	if err == nil && v.ID == 0 {
		v, err = c.Noted(ctx, v.AccountID)
	}
	return fmt.Sprintf("/credentials/%d", v.ID), err
}

// Noted is what proves an account, as a credential: its password; of a service identity the
// key that is meant.
func (c *Client) Noted(ctx context.Context, account int64) (CredentialRow, error) {
	var v struct{ Credential CredentialRow }
	err := c.Call(ctx, http.MethodPost, "/credentials", map[string]any{"kind": "password", "account": account}, &v)
	return v.Credential, err
}

// KeysOf are the keys of a service identity.
func (c *Client) KeysOf(ctx context.Context, account int64) ([]CredentialRow, error) {
	var page struct{ Items []CredentialRow }
	err := c.Call(ctx, http.MethodGet, "/credentials?limit=100&filter=kind%3Dcloud-key&filter=account_id%3D"+strconv.FormatInt(account, 10), nil, &page)
	return page.Items, err
}

// Fetch copies what a path answers, whatever it is.
func (c *Client) Fetch(ctx context.Context, path string, out io.Writer) error {
	response, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(out, response.Body); err != nil {
		return fmt.Errorf("the answer of %s broke off: %w", c.Server, err)
	}
	return nil
}
