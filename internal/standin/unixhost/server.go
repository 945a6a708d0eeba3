package unixhost

import (
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"time"

	"golang.org/x/crypto/ssh"
	"mvdan.cc/sh/v3/shell"
)

// Serve listens on address until Close and returns the address.
func (h *Host) Serve(address string) (string, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return "", err
	}
	h.listener, h.address = listener, listener.Addr().String()
	h.done.Add(1)
	go func() {
		defer h.done.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			h.lock.Lock()
			if h.closed || h.fault.Down {
				h.lock.Unlock()
				_ = conn.Close()
				continue
			}
			h.conns[conn] = true
			h.done.Add(1)
			h.lock.Unlock()
			go func() {
				defer h.done.Done()
				h.serve(conn)
				_ = conn.Close()
				h.lock.Lock()
				delete(h.conns, conn)
				h.lock.Unlock()
			}()
		}
	}()
	return h.address, nil
}

// Address is where it listens.
func (h *Host) Address() string { return h.address }

// Close ends the host and its connections.
func (h *Host) Close() error {
	h.lock.Lock()
	if !h.closed {
		close(h.closing)
	}
	h.closed = true
	for conn := range h.conns {
		_ = conn.Close()
	}
	h.lock.Unlock()
	var err error
	if h.listener != nil {
		err = h.listener.Close()
	}
	h.done.Wait()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

func (h *Host) serve(conn net.Conn) {
	if h.faultNow().Hang {
		_, _ = io.Copy(io.Discard, conn) // until the other side gives up
		return
	}
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-OpenSSH_9.2 standin",
		MaxAuthTries:  3,
		PasswordCallback: func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			h.lock.Lock()
			defer h.lock.Unlock()
			u := h.user(meta.User())
			if u == nil || u.Password == "" || u.Locked || subtle.ConstantTimeCompare([]byte(u.Password), password) != 1 {
				return nil, errors.New("refused")
			}
			return u.admitted(time.Now())
		},
		PublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			h.lock.Lock()
			defer h.lock.Unlock()
			u := h.user(meta.User())
			own := u != nil && u.Key != nil && string(u.Key.Marshal()) == string(key.Marshal())
			if !own && (u == nil || !h.admits(u, key, meta.RemoteAddr())) {
				return nil, errors.New("refused")
			}
			return u.admitted(time.Now())
		},
	}
	h.lock.Lock()
	config.AddHostKey(h.signer)
	h.lock.Unlock()
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	go ssh.DiscardRequests(requests) // ends with the connection
	for incoming := range channels {
		if incoming.ChannelType() == "direct-tcpip" {
			h.done.Add(1)
			go func() {
				defer h.done.Done()
				h.forward(incoming)
			}()
			continue
		}
		if incoming.ChannelType() != "session" {
			_ = incoming.Reject(ssh.UnknownChannelType, "only sessions and forwarded connections are offered")
			continue
		}
		channel, requests, err := incoming.Accept()
		if err != nil {
			return
		}
		h.done.Add(1)
		go func() {
			defer h.done.Done()
			h.session(server, channel, requests)
		}()
	}
}

func (h *Host) session(conn *ssh.ServerConn, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for request := range requests {
		if request.Type != "exec" || len(request.Payload) < 4 {
			_ = request.Reply(false, nil)
			continue
		}
		n := binary.BigEndian.Uint32(request.Payload)
		if int(n) > len(request.Payload)-4 {
			_ = request.Reply(false, nil)
			continue
		}
		_ = request.Reply(true, nil)
		argv, err := shell.Fields(string(request.Payload[4:4+n]), func(string) string { return "" })
		exit := 127
		if err == nil && len(argv) > 0 {
			fault := h.faultNow()
			if fault.Latency > 0 {
				select {
				case <-time.After(fault.Latency):
				case <-h.closing:
				}
			}
			if fault.Flood {
				flood(channel)
				return
			}
			argv, plain := plainly(argv)
			exit = h.execute(conn.User(), argv, plain, channel)
			if fault.Cut != nil && fault.Cut(argv) {
				_ = conn.Close()
				return
			}
		}
		_, _ = channel.SendRequest("exit-status", false, binary.BigEndian.AppendUint32(nil, uint32(exit)))
		return
	}
}

// plainly takes off what has a command speak the language of programmers. Without it
// the host speaks that of its people.
func plainly(argv []string) (rest []string, plain bool) {
	if len(argv) > 2 && argv[0] == "/usr/bin/env" && argv[1] == "LC_ALL=C" {
		return argv[2:], true
	}
	return argv, false
}

func flood(w io.Writer) {
	block := make([]byte, 32<<10)
	for i := range block {
		block[i] = 'x'
	}
	for {
		if _, err := w.Write(block); err != nil {
			return
		}
	}
}
