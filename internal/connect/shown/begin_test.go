package shown

import (
	"bufio"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// noMail is a server for mail that takes none.
type noMail struct{ smtp.Session }

func (noMail) NewSession(*smtp.Conn) (smtp.Session, error) { return noMail{}, nil }
func (noMail) Reset()                                      {}
func (noMail) Logout() error                               { return nil }

// to has a connection to a number of the trade lead to another port.
func to(address string) Dialer {
	return func(ctx context.Context, _ string) (net.Conn, error) { return direct(ctx, address) }
}

// talks is a server that greets, answers lines, and speaks TLS after the last of them.
func talks(t *testing.T, config *tls.Config, greeting string, answers ...string) string {
	t.Helper()
	return serve(t, func(conn net.Conn) {
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.WriteString(conn, greeting); err != nil {
			return
		}
		for _, answer := range answers {
			line, err := bufio.NewReaderSize(io.LimitReader(conn, 1<<16), 16).ReadString('\n')
			if err != nil || line == "" {
				return
			}
			_, _ = io.WriteString(conn, answer)
		}
		_ = tls.Server(conn, config).HandshakeContext(context.Background())
	})
}

// Mail, files and directories begin without TLS: their ports are asked for it in their own
// words, and show their certificate. A server for mail that others wrote is among them.
func TestCertificatesAfterWords(t *testing.T) {
	now := time.Now().Truncate(time.Second).UTC()
	own := sign(t, "mail.larkmoor.example", false, now.Add(-time.Hour), now.AddDate(0, 0, 9), nil)
	config := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{{Certificate: [][]byte{own.raw}, PrivateKey: own.key}}}
	server := smtp.NewServer(noMail{})
	server.Domain, server.TLSConfig = "mail.larkmoor.example", config
	listener, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	t.Cleanup(func() {
		_ = server.Close()
		<-served
	})
	for number, address := range map[string]string{
		"25":  listener.Addr().String(),
		"587": talks(t, config, "220-mail.larkmoor.example\r\n220 ready\r\n", "250-mail\r\n250-SIZE 1000\r\n250 STARTTLS\r\n", "220 2.0.0 go ahead\r\n"),
		"143": talks(t, config, "* OK [CAPABILITY IMAP4rev2 STARTTLS] ready\r\n", "* CAPABILITY IMAP4rev2\r\nm1 OK begin\r\n"),
		"110": talks(t, config, "+OK POP3\r\n", "+OK begin\r\n"),
		"21":  talks(t, config, "220-files of the ferries\r\n220 ready\r\n", "234 AUTH TLS\r\n"),
	} {
		a := Ask(t.Context(), to(address), "127.0.0.1:"+number, "")
		require.NoError(t, a.Err, number)
		require.Len(t, a.Chain, 1, "%s: %s", number, a.Words)
		assert.Equal(t, own.is.NotAfter, a.Chain[0].NotAfter, number)
	}
}

// What greets otherwise, does not offer TLS, never ends a line or never ends its lines is left
// alone, and nothing is made of it.
func TestWordsThatLeadNowhere(t *testing.T) {
	for name, c := range map[string]struct{ number, address string }{
		"another protocol": {"25", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "SSH-2.0-x\r\n") })},
		"no TLS":           {"25", talks(t, nil, "220 a\r\n", "250 a\r\n", "502 5.5.1 no\r\n")},
		"refused":          {"143", talks(t, nil, "* OK\r\n", "m1 BAD no\r\n")},
		"no line end":      {"110", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, strings.Repeat("+", 1<<20)) })},
		"no end of lines":  {"21", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, strings.Repeat("220-x\r\n", 1<<17)) })},
		"no TLS at a store": {"5432", serve(t, func(conn net.Conn) {
			_, _ = io.ReadFull(conn, make([]byte, 8))
			_, _ = io.WriteString(conn, "N")
		})},
		"no directory":       {"389", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "HTTP/1.1 400\r\n\r\n") })},
		"a long answer":      {"389", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, "\x30\x84\x7f\xff\xff\xff") })},
		"an answer of depth": {"389", serve(t, func(conn net.Conn) { _, _ = io.WriteString(conn, strings.Repeat("\x30\x80", 1<<12)) })},
		"hangs up":           {"5432", serve(t, func(net.Conn) {})},
	} {
		a := Ask(t.Context(), to(c.address), "127.0.0.1:"+c.number, "")
		assert.NoError(t, a.Err, name)
		assert.Empty(t, a.Chain, name)
		assert.Empty(t, a.Words, name)
	}
}

func FuzzHear(f *testing.F) {
	f.Add([]byte("220-a\r\n220 b\r\n"), "220")
	f.Add([]byte("* x\r\nm1 OK\r\n"), "m1 OK")
	f.Fuzz(func(t *testing.T, said []byte, want string) {
		left := mostGreeting
		if hear(strings.NewReader(string(said)), want, &left) == nil {
			read := said[:mostGreeting-left]
			lines := strings.Split(strings.TrimSuffix(string(read), "\n"), "\n")
			assert.True(t, strings.HasPrefix(lines[len(lines)-1], want), "%q", read)
		}
	})
}
