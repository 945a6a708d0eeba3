// Package nameserver is a name server for tests of what happens when a name has
// several addresses, or others than before (RFC 1035). It answers every name alike.
package nameserver

import (
	"context"
	"net"
	"sync"

	"golang.org/x/net/dns/dnsmessage"
)

// Server is a running one.
type Server struct {
	conn    net.PacketConn
	ended   chan struct{}
	lock    sync.Mutex
	answers [][4]byte
	servers []string
	asked   int
}

// Start begins to answer with these addresses, another one first each time, as name
// servers of directories with several controllers do.
func Start(answers ...[4]byte) (*Server, error) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{conn: conn, ended: make(chan struct{}), answers: answers}
	go s.serve()
	return s, nil
}

// Answer has it answer with other addresses from now on.
func (s *Server) Answer(answers ...[4]byte) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.answers = answers
}

// Servers has it answer questions for services (RFC 2782) with these hosts.
func (s *Server) Servers(hosts ...string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.servers = hosts
}

// Resolver asks it.
func (s *Server) Resolver() *net.Resolver {
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", s.conn.LocalAddr().String())
	}}
}

// Close ends it.
func (s *Server) Close() error {
	err := s.conn.Close()
	<-s.ended
	return err
}

func (s *Server) serve() {
	defer close(s.ended)
	buffer := make([]byte, 1500)
	for {
		n, from, err := s.conn.ReadFrom(buffer)
		if err != nil {
			return
		}
		var m dnsmessage.Message
		if m.Unpack(buffer[:n]) != nil || len(m.Questions) != 1 {
			continue
		}
		m.Response, m.Additionals = true, nil
		switch q := m.Questions[0]; q.Type {
		case dnsmessage.TypeSRV:
			s.lock.Lock()
			for _, host := range s.servers {
				if name, err := dnsmessage.NewName(host + "."); err == nil {
					m.Answers = append(m.Answers, dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}, Body: &dnsmessage.SRVResource{Priority: 0, Weight: 100, Port: 389, Target: name}})
				}
			}
			s.lock.Unlock()
		case dnsmessage.TypeA:
			for _, address := range s.next() {
				m.Answers = append(m.Answers, dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}, Body: &dnsmessage.AResource{A: address}})
			}
		}
		if out, err := m.Pack(); err == nil {
			_, _ = s.conn.WriteTo(out, from)
		}
	}
}

func (s *Server) next() [][4]byte {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.asked++
	out := make([][4]byte, len(s.answers))
	for i := range out {
		out[i] = s.answers[(s.asked+i)%len(s.answers)]
	}
	return out
}
