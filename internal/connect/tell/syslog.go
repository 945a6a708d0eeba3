package tell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"
)

// facility is "log audit" (RFC 5424, section 6.2.1).
const facility = 13

// element is what our data of a message are called. The number is the one that stands for
// a made-up enterprise (RFC 5612): there is no other until one is registered.
const element = "moss@32473"

// lineOf is an event as RFC 5424 writes it.
func lineOf(m Message, n int) (string, error) {
	e := m.Events[n]
	message := &rfc5424.SyslogMessage{}
	message.SetPriority(uint8(facility*8 + e.Severity.Number()))
	message.SetVersion(1)
	message.SetTimestamp(e.Time.UTC().Format("2006-01-02T15:04:05.000Z"))
	message.SetHostname(hostname(m.Host))
	message.SetAppname("moss-ledger")
	message.SetMsgID(e.Event)
	for _, v := range [][2]string{
		{"id", m.ID + "/" + strconv.Itoa(n+1)},
		{"severity", string(e.Severity)},
		{"subject", e.Subject},
		{"system", e.System},
		{"by", e.By},
		{"result", e.Result},
		{"reason", e.Reason},
		{"detail", e.Detail},
		{"next", e.Next},
		{"ref", e.Ref},
		{"kind", e.Kind},
		{"entry", number(e.Entry)},
		{"finding", number(e.Finding)},
	} {
		if v[1] != "" {
			message.SetParameter(element, v[0], escaped(v[1]))
		}
	}
	text := e.Text
	if strings.ContainsFunc(text, func(r rune) bool { return r > 126 }) {
		text = "\ufeff" + text // section 6.4: what follows is UTF-8
	}
	message.SetMessage(text)
	return message.String()
}

// escaped is a value as section 6.3.3 writes it.
func escaped(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(text)
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// hostname is a name as section 6.2.4 takes it: printable, without spaces.
func hostname(name string) string {
	name = strings.Map(func(r rune) rune {
		if r > 32 && r < 127 {
			return r
		}
		return -1
	}, name)
	if name == "" {
		return "-"
	}
	return name[:min(len(name), 255)]
}

// parting is how long we wait for the other side to end a connection that we ended.
const parting = 3 * time.Second

// syslog writes each event with its length before it (RFC 5425, section 4.3). Receivers of
// system logs acknowledge nothing: that it was taken is told by their ending the connection
// in good order, if they do.
func (p Place) syslog(ctx context.Context, m Message) (string, error) {
	var frames strings.Builder
	for i := range m.Events {
		line, err := lineOf(m, i)
		if err != nil {
			return "", fmt.Errorf("event %s cannot be written: %w", m.Events[i].Event, err)
		}
		fmt.Fprintf(&frames, "%d %s", len(line), line)
	}
	conn, err := p.dial(ctx)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, frames.String()); err != nil {
		return "", err
	}
	if err := conn.CloseWrite(); err != nil {
		return "", err
	}
	end := time.Now().Add(parting)
	if limit, has := ctx.Deadline(); has && limit.Before(end) {
		end = limit
	}
	if err := conn.SetReadDeadline(end); err != nil {
		return "", err
	}
	said := fmt.Sprintf("%d lines written", len(m.Events))
	switch _, err = io.Copy(io.Discard, io.LimitReader(conn, 4096)); {
	case err == nil:
		return said + ", and the connection ended in good order", nil
	case errors.Is(err, os.ErrDeadlineExceeded):
		return said + "; nothing was said to them, as is usual", nil
	case errors.Is(err, io.ErrUnexpectedEOF):
		return said + ", and the connection was ended", nil
	}
	return "", err
}

// CheckPort reports what is wrong with an address of a host and a port.
func CheckPort(address, example string) error {
	host, port, err := net.SplitHostPort(address)
	if n, bad := strconv.Atoi(port); err != nil || host == "" || bad != nil || n < 1 || n > 65535 || strings.ContainsAny(host, "/@ ") {
		return fmt.Errorf("address %q: write it like %s", address, example)
	}
	return nil
}
