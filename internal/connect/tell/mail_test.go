package tell_test

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/secret"
)

// office is a mail server of others; what it was given.
type office struct {
	lock     sync.Mutex
	from     string
	to       []string
	letters  [][]byte
	signedIn []string // user and password
	clear    bool     // somebody signed in without TLS
	answer   error    // to a letter
}

type clerk struct {
	office *office
	secure bool
}

func (o *office) NewSession(c *smtp.Conn) (smtp.Session, error) {
	_, secure := c.TLSConnectionState()
	return &clerk{o, secure}, nil
}
func (c *clerk) AuthMechanisms() []string { return []string{sasl.Plain} }

func (c *clerk) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		c.office.lock.Lock()
		defer c.office.lock.Unlock()
		c.office.signedIn, c.office.clear = append(c.office.signedIn, user+" "+password), c.office.clear || !c.secure
		if password != "fog-over-the-quay" {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}

func (c *clerk) Mail(from string, _ *smtp.MailOptions) error {
	c.office.lock.Lock()
	defer c.office.lock.Unlock()
	c.office.from = from
	return nil
}

func (c *clerk) Rcpt(to string, _ *smtp.RcptOptions) error {
	c.office.lock.Lock()
	defer c.office.lock.Unlock()
	c.office.to = append(c.office.to, to)
	return nil
}

func (c *clerk) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	c.office.lock.Lock()
	defer c.office.lock.Unlock()
	c.office.letters = append(c.office.letters, raw)
	if err == nil {
		err = c.office.answer
	}
	return err
}
func (c *clerk) Reset()        {}
func (c *clerk) Logout() error { return nil }

// mailServer serves one; startTLS: it offers TLS.
func mailServer(t *testing.T, startTLS bool) (tell.Place, *office) {
	t.Helper()
	certificate, trusted, _ := certificate(t)
	o := &office{}
	server := smtp.NewServer(o)
	server.Domain, server.AllowInsecureAuth = "mail.larkmoor.example", true
	if startTLS {
		server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}}
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	return tell.Place{Name: "team", Kind: tell.Mail, Address: listener.Addr().String(), TrustedCA: string(trusted), From: "moss@larkmoor.example", To: []string{"ines@larkmoor.example", "ferries@larkmoor.example"}, User: "moss", Secret: secret.New("fog-over-the-quay")}, o
}

// A server and a reader that others wrote take what we send, and see what we meant.
func TestOthersReadOurMail(t *testing.T) {
	p, o := mailServer(t, true)
	m := several()
	m.Events[0].Text = "An end\r\nBcc: eve@larkmoor.example\r\n\r\nand a <script>"
	for i := range m.Events {
		m.Events[i] = m.Events[i].Clean()
	}
	said, err := tell.Send(t.Context(), p, m)
	require.NoError(t, err)
	assert.Equal(t, "the mail server took it for 2", said)
	assert.Equal(t, []string{"moss fog-over-the-quay"}, o.signedIn)
	assert.False(t, o.clear)
	assert.Equal(t, "moss@larkmoor.example", o.from)
	assert.Equal(t, p.To, o.to, "nobody else gets it")
	require.Len(t, o.letters, 1)
	assert.NotContains(t, string(o.letters[0]), "fog-over-the-quay")

	r, err := mail.CreateReader(bytes.NewReader(o.letters[0]))
	require.NoError(t, err)
	subject, err := r.Header.Subject()
	require.NoError(t, err)
	assert.Equal(t, "Moss Ledger, error: "+m.Events[0].Text+" (and 1 more)", subject)
	id, err := r.Header.MessageID()
	require.NoError(t, err)
	assert.Equal(t, m.ID+"@larkmoor.example", id, "the same each time it is sent")
	date, err := r.Header.Date()
	require.NoError(t, err)
	assert.WithinDuration(t, m.Made, date, 1e9)
	assert.Equal(t, "auto-generated", r.Header.Get("Auto-Submitted"))
	assert.Empty(t, r.Header.Get("Bcc"))
	parts := map[string]string{}
	for {
		part, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		header, is := part.Header.(*mail.InlineHeader)
		require.True(t, is)
		kind, _, err := header.ContentType()
		require.NoError(t, err)
		raw, err := io.ReadAll(part.Body)
		require.NoError(t, err)
		parts[kind] = string(raw)
	}
	require.Len(t, parts, 2)
	for _, words := range []string{m.Events[0].Text, `Finding drift about "svc-møss" on quay1: ] " \ <b>bold</b>`, "What to do: reset it", "Entry of the ledger: 4711", "2026-11-28 22:04:05 UTC"} {
		assert.Contains(t, parts["text/plain"], words)
	}
	assert.NotContains(t, parts["text/html"], "<script>")
	assert.NotContains(t, parts["text/html"], "<b>")
	assert.Contains(t, parts["text/html"], "&lt;b&gt;bold")
}

func TestMailServersThatWillNot(t *testing.T) {
	var refusal *tell.Refusal
	p, o := mailServer(t, false)
	_, err := tell.Send(t.Context(), p, several())
	require.Error(t, err, "without TLS nothing is sent")
	assert.Empty(t, o.signedIn)
	assert.Empty(t, o.letters)

	p, o = mailServer(t, true)
	_, stranger, _ := certificate(t)
	p.TrustedCA = string(stranger)
	_, err = tell.Send(t.Context(), p, several())
	require.ErrorContains(t, err, "does not prove that it is")
	assert.Empty(t, o.signedIn, "the password goes to nobody else")

	p, o = mailServer(t, true)
	p.Secret = secret.New("fog-over-the-ferry")
	_, err = tell.Send(t.Context(), p, several())
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "fog-over-the-ferry")
	assert.Empty(t, o.letters)

	p, o = mailServer(t, true)
	o.answer = &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "not from you"}
	_, err = tell.Send(t.Context(), p, several())
	require.ErrorAs(t, err, &refusal)
	assert.Contains(t, err.Error(), "not from you")

	p, o = mailServer(t, true)
	o.answer = &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "come back"}
	_, err = tell.Send(t.Context(), p, several())
	require.Error(t, err)
	assert.NotErrorAs(t, err, &refusal, "later it may")

	p, o = mailServer(t, true)
	p.User, p.Secret = "", secret.Value{}
	_, err = tell.Send(t.Context(), p, several())
	require.NoError(t, err)
	assert.Empty(t, o.signedIn)
}

// Many events are one letter, and long lines stay within what mail allows (RFC 5322, section
// 2.1.1).
func TestLongLetters(t *testing.T) {
	p, o := mailServer(t, true)
	m := several()
	for len(m.Events) < 100 {
		m.Events = append(m.Events, notice.Event{Event: "finding.raised", Severity: notice.Warning, Time: moment, Text: strings.Repeat("ebb and flood ", 40), Detail: strings.Repeat("ø", 1900)})
	}
	_, err := tell.Send(t.Context(), p, m)
	require.NoError(t, err)
	for line := range strings.Lines(string(o.letters[0])) {
		require.LessOrEqual(t, len(line), 1000)
	}
}
