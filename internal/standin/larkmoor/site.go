package larkmoor

import (
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"mossledger.example/moss/internal/standin/unixhost"
)

// Files of the booking site's certificate.
const (
	SiteCertificate = "/etc/bookings-web/tls/site.pem"
	SiteKey         = "/etc/bookings-web/tls/site.key"
	SiteName        = "booking.larkmoor.example"
	SitePort        = 8443
)

// site is the booking site: it shows the certificate that it read as it started, whatever
// stands in the files by now.
type site struct {
	lock     sync.Mutex
	shows    *tls.Certificate // nil while it is down
	listener net.Listener

	plain     net.Listener // without TLS
	redirects *http.Server
	answers   string // where challenges are answered; "" for nowhere

	done sync.WaitGroup
}

var errDown = errors.New("the site is down")

// startSite listens; until its program is started nobody gets an answer.
func (e *Estate) startSite() error {
	listener, err := net.Listen("tcp", "127.0.0.1:0") //nolint:noctx // of a stand-in, ended by its Close
	if err != nil {
		return err
	}
	e.site = &site{listener: listener}
	if err := e.site.servePlain(); err != nil {
		return err
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		e.site.lock.Lock()
		defer e.site.lock.Unlock()
		if e.site.shows == nil {
			return nil, errDown
		}
		return e.site.shows, nil
	}}
	e.site.done.Add(1)
	go func() { // ends with the listener
		defer e.site.done.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			e.site.done.Add(1)
			go func() {
				defer e.site.done.Done()
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
				server := tls.Server(conn, config)
				if server.Handshake() == nil { //nolint:noctx // it has a deadline
					_, _ = server.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 9\r\nConnection: close\r\n\r\nbookings\n"))
				}
			}()
		}
	}()
	return nil
}

func (s *site) close() error {
	err := errors.Join(s.listener.Close(), s.redirects.Close())
	s.done.Wait()
	return err
}

// SiteFiles gives the booking site's files a certificate that was issued anew; the site shows
// it once it has read them.
func (e *Estate) SiteFiles(from, until time.Time) error {
	certificate, key, err := e.Authority.Issue(from, until, SiteName, "www."+SiteName)
	if err != nil {
		return err
	}
	h := e.Hosts["bookings1"]
	h.Write(SiteCertificate, unixhost.File{Mode: 0o644, Owner: "root", Group: "root", Content: []byte(certificate)})
	h.Write(SiteKey, unixhost.File{Mode: 0o600, Owner: "root", Group: "root", Content: []byte(key)})
	return nil
}

// siteProgram reads both files, as a web server does: one that does not fit the other keeps it
// from starting.
func (e *Estate) siteProgram(h *unixhost.Host) error {
	e.site.lock.Lock()
	e.site.shows = nil
	e.site.lock.Unlock()
	return e.siteReload(h)
}

// siteReload reads both files again; where they do not fit, it goes on with what it has.
func (e *Estate) siteReload(h *unixhost.Host) error {
	certificate, found := h.Read(SiteCertificate)
	key, also := h.Read(SiteKey)
	if !found || !also {
		return errors.New("the certificate or its key is not there")
	}
	pair, err := tls.X509KeyPair(certificate.Content, key.Content)
	if err != nil {
		return err
	}
	e.site.lock.Lock()
	defer e.site.lock.Unlock()
	e.site.shows = &pair
	return nil
}
