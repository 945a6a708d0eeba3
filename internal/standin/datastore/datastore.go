// Package datastore holds stand-ins for a PostgreSQL and a Redis server. They
// speak the real protocols as far as the connectors use them, and enforce what
// the real ones enforce: passwords (kept as verifiers and digests only), roles
// that may change others, end dates, several passwords at once. They ship for
// the demonstration; tests use the real servers.
package datastore

import (
	"net"
	"sort"
	"sync"
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Account of a data store.
type Account struct {
	Name, Password string
	Description    string
	MemberOf       []string
	Owns           int       // objects that it owns or was granted itself
	Manages        bool      // may read and change the others
	Until          time.Time // when its password ends
	Settings       []string  // of PostgreSQL, name=value
	Rests          bool      // it may not sign in
	id             int64
	verifier       string          // of PostgreSQL
	digests        map[string]bool // of Redis
}

// server is what both have.
type server struct {
	lock     sync.Mutex
	accounts map[string]*Account
	grants   []Grant // of PostgreSQL
	sessions func() []estate.Session
	listener net.Listener
	conns    map[net.Conn]bool
	done     sync.WaitGroup
	closed   bool
	began    time.Time
}

func newServer() server {
	return server{accounts: map[string]*Account{}, conns: map[net.Conn]bool{}, began: time.Now().Add(-41 * 24 * time.Hour).UTC().Truncate(time.Second)}
}

// Change changes an account as somebody with all rights would.
func (s *server) Change(name string, change func(*Account)) {
	s.lock.Lock()
	defer s.lock.Unlock()
	change(s.accounts[name])
}

// SetSessions says who is signed in, whenever somebody asks.
func (s *server) SetSessions(list func() []estate.Session) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.sessions = list
}

func (s *server) signedIn() []estate.Session {
	s.lock.Lock()
	list := s.sessions
	s.lock.Unlock()
	if list == nil {
		return nil
	}
	return list()
}

func (s *server) names() []string {
	var out []string
	for name := range s.accounts {
		out = append(out, name)
	}
	sort.Strings(out)
	return out
}

// serve accepts connections and gives each to talk.
func (s *server) serve(address string, talk func(net.Conn)) (string, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	s.listener = listener
	s.done.Add(1)
	go func() {
		defer s.done.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			s.lock.Lock()
			if s.closed {
				s.lock.Unlock()
				_ = conn.Close()
				return
			}
			s.conns[conn] = true
			s.done.Add(1)
			s.lock.Unlock()
			go func() {
				defer s.done.Done()
				defer func() {
					_ = conn.Close()
					s.lock.Lock()
					delete(s.conns, conn)
					s.lock.Unlock()
				}()
				talk(conn)
			}()
		}
	}()
	return listener.Addr().String(), nil
}

// Close ends it with all connections.
func (s *server) Close() error {
	s.lock.Lock()
	s.closed = true
	for conn := range s.conns {
		_ = conn.Close()
	}
	s.lock.Unlock()
	if s.listener == nil {
		return nil
	}
	err := s.listener.Close()
	s.done.Wait()
	return err
}
