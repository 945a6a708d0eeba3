// Package acme is a stand-in for an authority that issues certificates over ACME (RFC 8555).
//
// It enforces what a real one does: every request is signed by an account's key, for its own
// URL and with a nonce that was given once; who is no account orders nothing; a name is
// certified only for whom it is known to belong to, or who answers for it over HTTP, which is
// really asked; a request must be about just the names that were ordered; who did not order a
// certificate cannot take it back.
package acme

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"mossledger.example/moss/internal/standin"
)

// Fault makes the server misbehave; the zero Fault does not.
type Fault struct {
	Busy    int           // so many requests are told to come again later (429)
	Nonces  int           // so many requests are told that their nonce is not good
	Down    bool          // every request is answered with 503
	Lose    bool          // certificates are issued, and the connection ends
	Other   string        // names that are certified in place of those ordered
	Ended   bool          // what is issued has ended
	Away    string        // its directory names this place for orders
	Lasts   time.Duration // of certificates; 90 days when 0
	Garbage bool
	Stuck   bool // it never comes to know whose a name is
}

type account struct {
	url, status string
	key         jose.JSONWebKey
	knows       []string // names that are known to be its own
}

type authorization struct {
	url, name, status, token, why string
	of                            *account
}

type order struct {
	url, status string
	of          *account
	names       []string
	needs       []*authorization
	certificate string // PEM
}

// Server is a running stand-in.
type Server struct {
	config    *tls.Config
	authority *standin.Authority
	reach     func(name string) string

	lock     sync.Mutex
	nonces   map[string]bool
	accounts map[string]*account // by URL
	orders   map[string]*order
	asks     map[string]*authorization
	revoked  []string // leaf certificates, in base64
	issued   int
	asked    int // answers that were looked for over HTTP
	fault    Fault
	open     bool // accounts are made for whoever asks

	base   string
	server *http.Server
	served chan struct{}
	client *http.Client
}

// New makes one that signs with an authority. config has its own certificate; reach says where
// the host of a name is asked over HTTP.
func New(config *tls.Config, authority *standin.Authority, reach func(name string) string) *Server {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	s := &Server{config: config, authority: authority, reach: reach, nonces: map[string]bool{}, accounts: map[string]*account{}, orders: map[string]*order{}, asks: map[string]*authorization{}}
	s.client = &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			if host, port, err := net.SplitHostPort(address); err == nil && port == "80" {
				if address = s.reach(host); address == "" {
					return nil, fmt.Errorf("no such host: %s", host)
				}
			}
			return dialer.DialContext(ctx, network, address)
		},
	}}
	return s
}

// Register makes an account of a public key, and says which names are known to be its own.
func (s *Server) Register(public crypto.PublicKey, names ...string) error {
	s.lock.Lock()
	defer s.lock.Unlock()
	key := jose.JSONWebKey{Key: public}
	if !key.Valid() {
		return errors.New("no key that signs")
	}
	s.add(key, names)
	return nil
}

func (s *Server) add(key jose.JSONWebKey, names []string) *account {
	a := &account{url: s.base + "/account/" + fresh(), status: "valid", key: key, knows: names}
	s.accounts[a.url] = a
	return a
}

// Open has accounts made for whoever asks and agrees to the terms.
func (s *Server) Open() { s.lock.Lock(); s.open = true; s.lock.Unlock() }

// Suspend ends every account.
func (s *Server) Suspend() {
	s.lock.Lock()
	defer s.lock.Unlock()
	for _, a := range s.accounts {
		a.status = "revoked"
	}
}

// SetFault has it misbehave from now on.
func (s *Server) SetFault(f Fault) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.fault = f
}

// Counts are how many certificates were issued and taken back, and how often an answer was
// looked for over HTTP.
func (s *Server) Counts() (issued, revoked, asked int) {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.issued, len(s.revoked), s.asked
}

func fresh() string {
	raw := make([]byte, 16)
	_, _ = rand.Read(raw) // it does not fail
	return base64.RawURLEncoding.EncodeToString(raw)
}

// Serve listens. It returns its address.
func (s *Server) Serve(address string) (string, error) {
	listener, err := (&net.ListenConfig{}).Listen(context.Background(), "tcp", address)
	if err != nil {
		return "", err
	}
	s.base = "https://" + listener.Addr().String()
	s.server = &http.Server{Handler: s.routes(), TLSConfig: s.config, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	s.served = make(chan struct{})
	go func() { // ends with Close
		defer close(s.served)
		_ = s.server.ServeTLS(listener, "", "")
	}()
	return listener.Addr().String(), nil
}

// Close ends it, with every connection.
func (s *Server) Close() error {
	if s.server == nil {
		return nil
	}
	err := s.server.Close()
	<-s.served
	s.client.CloseIdleConnections()
	return err
}

// believes asks over HTTP whether who has an account answers for a name (section 8.3).
func (s *Server) believes(ctx context.Context, a *authorization) error {
	sum, err := a.of.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	at := "http://" + a.name + "/.well-known/acme-challenge/" + a.token
	if strings.Contains(a.name, ":") {
		at = "http://[" + a.name + "]/.well-known/acme-challenge/" + a.token
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return err
	}
	response, err := s.client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(response.Body, 1000))
	if err != nil {
		return err
	}
	wanted := a.token + "." + base64.RawURLEncoding.EncodeToString(sum)
	if response.StatusCode != http.StatusOK || strings.TrimRight(string(raw), " \r\n\t") != wanted {
		return fmt.Errorf("%s answered %d and not what was asked for", at, response.StatusCode)
	}
	return nil
}

func (s *Server) known(a *account, name string) bool {
	return slices.ContainsFunc(a.knows, func(n string) bool { return strings.EqualFold(n, name) })
}
