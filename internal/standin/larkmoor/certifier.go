package larkmoor

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net"
	"net/http"
	"strings"
	"time"

	"mossledger.example/moss/internal/standin/acme"
)

// CertifierAccount is how the account is called by which certificates are ordered.
const CertifierAccount = "ledger"

// challengePath is where authorities ask who answers for a name (RFC 8555, section 8.3).
const challengePath = "/.well-known/acme-challenge/"

// startCertifier starts the company's own authority. It knows nobody's names: who orders a
// certificate about one must answer for it there.
func (e *Estate) startCertifier(config *tls.Config) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	e.CertifierKey = string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
	e.Certifier = acme.New(config, e.Authority, func(name string) string {
		if name == SiteName || name == "www."+SiteName {
			return e.site.plain.Addr().String()
		}
		return ""
	})
	address, err := e.Certifier.Serve("127.0.0.1:0")
	if err != nil {
		return err
	}
	e.Stores["larkmoor-ca"] = address
	return e.Certifier.Register(&key.PublicKey)
}

// AnswersAt has the booking site send who asks for challenges to a place that answers them, as
// its people have set it up; "" for nowhere.
func (e *Estate) AnswersAt(place string) {
	e.site.lock.Lock()
	defer e.site.lock.Unlock()
	e.site.answers = strings.TrimSuffix(place, "/")
}

// servePlain is the site without TLS: it sends everybody on.
func (s *site) servePlain() error {
	var err error
	if s.plain, err = net.Listen("tcp", "127.0.0.1:0"); err != nil { //nolint:noctx // of a stand-in, ended by its Close
		return err
	}
	s.redirects = &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.lock.Lock()
		answers := s.answers
		s.lock.Unlock()
		switch {
		case strings.HasPrefix(r.URL.Path, challengePath) && answers != "":
			http.Redirect(w, r, answers+r.URL.Path, http.StatusFound)
		case strings.HasPrefix(r.URL.Path, challengePath):
			http.NotFound(w, r)
		default:
			http.Redirect(w, r, "https://"+SiteName+r.URL.Path, http.StatusMovedPermanently)
		}
	})}
	s.done.Add(1)
	go func() { // ends with the listener
		defer s.done.Done()
		_ = s.redirects.Serve(s.plain)
	}()
	return nil
}

// SiteAddress is where clients of the booking site reach it.
func (e *Estate) SiteAddress() string { return e.site.listener.Addr().String() }
