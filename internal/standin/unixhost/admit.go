package unixhost

import (
	"io"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// admits reads a user's entries as sshd does: a file or folder that others may
// write is not trusted (StrictModes), and from= admits only some addresses.
func (h *Host) admits(u *User, key ssh.PublicKey, peer net.Addr) bool {
	folder := path.Join(u.Home, ".ssh")
	for _, p := range []string{path.Join(folder, "authorized_keys"), path.Join(folder, "authorized_keys2")} {
		f := h.follow(p)
		if f == nil || f.Dir || f.Mode&0o022 != 0 || f.Owner != u.Name && f.Owner != "root" {
			continue
		}
		for line := range strings.Lines(string(f.Content)) {
			public, _, options, _, err := ssh.ParseAuthorizedKey([]byte(line))
			if err == nil && string(public.Marshal()) == string(key.Marshal()) && h.from(options, peer) && !entryEnded(options, time.Now()) {
				return true
			}
		}
	}
	return false
}

// from holds an address against the restriction of an entry (sshd(8), "from=").
func (h *Host) from(options []string, peer net.Addr) bool {
	i := slices.IndexFunc(options, func(o string) bool { return strings.HasPrefix(o, "from=") })
	if i < 0 {
		return true
	}
	tcp, ok := peer.(*net.TCPAddr)
	if !ok {
		return false
	}
	ip := tcp.IP
	if h.Seen != nil {
		ip = h.Seen(ip)
	}
	admitted := false
	for pattern := range strings.SplitSeq(strings.Trim(strings.TrimPrefix(options[i], "from="), `"`), ",") {
		name, not := strings.CutPrefix(pattern, "!")
		_, network, err := net.ParseCIDR(name)
		matches := err == nil && network.Contains(ip)
		if err != nil {
			matches, _ = path.Match(name, ip.String())
		}
		if matches && not {
			return false
		}
		admitted = admitted || matches
	}
	return admitted
}

// SetPort has what listens at a port of the host be reached at an address of this machine.
func (h *Host) SetPort(port int, address string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	if h.ports == nil {
		h.ports = map[int]string{}
	}
	h.ports[port] = address
}

// behind is where a port of the host's own really is, and whether something listens there.
func (h *Host) behind(host string, port int) (real string, known, listens bool) {
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return "", false, false
	}
	h.lock.Lock()
	real, known = h.ports[port]
	list := h.sockets
	h.lock.Unlock()
	if known || list == nil {
		return real, known, known
	}
	for _, s := range list() {
		listens = listens || s.Listens && s.LocalPort == port
	}
	return "", false, listens
}

// forward carries a connection on from here (RFC 4254, section 7.2).
func (h *Host) forward(incoming ssh.NewChannel) {
	var to struct {
		Host       string
		Port       uint32
		Originator string
		From       uint32
	}
	if ssh.Unmarshal(incoming.ExtraData(), &to) != nil {
		_ = incoming.Reject(ssh.ConnectionFailed, "not understood")
		return
	}
	if real, known, listens := h.behind(to.Host, int(to.Port)); known {
		host, port, _ := net.SplitHostPort(real)
		n, _ := strconv.Atoi(port)
		to.Host, to.Port = host, uint32(n)
	} else if listens { // a program of no protocol that is known
		if channel, requests, err := incoming.Accept(); err == nil {
			go ssh.DiscardRequests(requests) // ends with the channel
			_ = channel.Close()
		}
		return
	}
	dialer := net.Dialer{}
	if h.Outgoing != nil {
		dialer.LocalAddr = &net.TCPAddr{IP: h.Outgoing}
	}
	conn, err := dialer.Dial("tcp", net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
	if err != nil {
		_ = incoming.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	defer conn.Close()
	channel, requests, err := incoming.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go ssh.DiscardRequests(requests) // ends with the channel
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = io.Copy(channel, conn)
		_ = channel.Close()
	}()
	_, _ = io.Copy(conn, channel)
	_ = conn.Close()
	<-ended
}
