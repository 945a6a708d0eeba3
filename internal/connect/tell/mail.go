package tell

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"mossledger.example/moss/internal/core/notice"
)

// portOfTLS is where mail servers speak TLS from the beginning (RFC 8314, section 7.3).
const portOfTLS = 465

// page is a message for readers of mail who want more than text.
//
//go:embed mail.html
var pageText string

var page = template.Must(template.New("mail").Funcs(template.FuncMap{"time": stamp}).Parse(pageText))

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

// CheckMailAddress reports what is wrong with the address of a person.
func CheckMailAddress(address string) error {
	a, err := netmail.ParseAddress(address)
	if err != nil || a.Address != address {
		return fmt.Errorf("mail address %q: write it like duty@larkmoor.example", address)
	}
	return nil
}

// letter is a message as mail: text, and the same as a page.
func (p Place) letter(m Message) (*mail.Msg, error) {
	out := mail.NewMsg()
	if err := out.From(p.From); err != nil {
		return nil, err
	}
	if err := out.To(p.To...); err != nil {
		return nil, err
	}
	severity, subject := notice.Subject(m.Events)
	out.Subject(fmt.Sprintf("Moss Ledger, %s: %s", severity, subject))
	out.SetDateWithValue(m.Made)
	_, domain, _ := strings.Cut(p.From, "@")
	out.SetMessageIDWithValue(m.ID + "@" + domain)
	out.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, section 5: nobody's absence answers it
	out.SetBodyString(mail.TypeTextPlain, plain(m))
	var html bytes.Buffer
	if err := page.Execute(&html, m); err != nil {
		return nil, err
	}
	out.AddAlternativeString(mail.TypeTextHTML, html.String())
	return out, nil
}

func plain(m Message) string {
	var out strings.Builder
	for i, e := range m.Events {
		if i > 0 {
			out.WriteString("\r\n")
		}
		fmt.Fprintf(&out, "%s\r\n", e.Text)
		for _, v := range [][2]string{{"Severity", string(e.Severity)}, {"When", stamp(e.Time)}, {"Event", e.Event}, {"System", e.System}, {"By", e.By}, {"Result", e.Result}, {"Reason", e.Reason}, {"Detail", e.Detail}, {"What to do", e.Next}, {"Belongs to", e.Ref}, {"Entry of the ledger", number(e.Entry)}, {"Finding", number(e.Finding)}} {
			if v[1] != "" {
				fmt.Fprintf(&out, "  %s: %s\r\n", v[0], v[1])
			}
		}
	}
	fmt.Fprintf(&out, "\r\n-- \r\nMoss Ledger on %s, message %s\r\n", m.Host, m.ID)
	return out.String()
}

func (p Place) mail(ctx context.Context, m Message) (string, error) {
	letter, err := p.letter(m)
	if err != nil {
		return "", err
	}
	host, port, err := net.SplitHostPort(p.Address)
	if err != nil {
		return "", err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return "", err
	}
	config, err := p.secured(host)
	if err != nil {
		return "", err
	}
	patience := Deadline
	if end, has := ctx.Deadline(); has {
		patience = max(time.Until(end), time.Millisecond)
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTimeout(patience), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithTLSConfig(config), mail.WithoutNoop(), mail.WithoutRset()}
	if n == portOfTLS {
		options = append(options, mail.WithSSL())
	}
	if name := hostname(m.Host); name != "-" {
		options = append(options, mail.WithHELO(name))
	}
	if p.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(p.User), mail.WithPassword(p.Secret.RevealString()))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return "", err
	}
	if err := client.DialAndSendWithContext(ctx, letter); err != nil {
		var failed *mail.SendError
		if errors.As(err, &failed) && !failed.IsTemp() && failed.ErrorCode() >= 500 {
			return "", &Refusal{"the mail server refused it: " + failed.Error()}
		}
		return "", err
	}
	return fmt.Sprintf("the mail server took it for %d", len(p.To)), nil
}
