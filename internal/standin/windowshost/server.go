package windowshost

import (
	"crypto/tls"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/jcmturner/goidentity/v6"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/service"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"golang.org/x/text/encoding/unicode"

	"mossledger.example/moss/internal/standin/windowshost/ntlm"
	"mossledger.example/moss/internal/standin/windowshost/signedin"
	"mossledger.example/moss/internal/standin/windowshost/soap"
)

// Serve listens and answers until Close.
func (h *Host) Serve(address string) (string, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return "", fmt.Errorf("stand-in host %s: %w", h.Name, err)
	}
	h.listener, h.address = listener, listener.Addr().String()
	h.server = &http.Server{
		Handler: http.HandlerFunc(h.handle), TLSConfig: h.TLS, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		ConnContext: signedin.WithConnection,
	}
	h.done.Add(1)
	go func() {
		defer h.done.Done()
		_ = h.server.Serve(tls.NewListener(&gate{listener, h}, h.TLS)) // ends with Close
	}()
	return h.address, nil
}

// Address is where it listens.
func (h *Host) Address() string { return h.address }

// Close ends it.
func (h *Host) Close() error {
	if h.server == nil {
		return nil
	}
	err := h.server.Close()
	h.done.Wait()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// gate drops connections while the host is down.
type gate struct {
	net.Listener
	host *Host
}

func (g *gate) Accept() (net.Conn, error) {
	for {
		conn, err := g.Listener.Accept()
		if err != nil || !g.host.faultNow().Down {
			return conn, err
		}
		_ = conn.Close()
	}
}

// handle answers one HTTP request.
func (h *Host) handle(w http.ResponseWriter, r *http.Request) {
	fault := h.faultNow()
	if fault.Latency > 0 {
		select {
		case <-time.After(fault.Latency):
		case <-r.Context().Done():
			return
		}
	}
	if fault.Down {
		panic(http.ErrAbortHandler)
	}
	if r.URL.Path != "/wsman" || r.Method != http.MethodPost {
		http.NotFound(w, r)
		return
	}
	identify := r.Header.Get("WSMANIDENTIFY") == "unauthenticated"
	who := ""
	if !identify {
		var ok bool
		if who, ok = h.authenticate(w, r); !ok {
			return
		}
		h.audited(who, r)
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return
	}
	if len(raw) > 1 && (raw[0] == 0xff && raw[1] == 0xfe || raw[0] == 0xfe && raw[1] == 0xff || strings.Contains(strings.ToLower(r.Header.Get("Content-Type")), "utf-16")) {
		if raw, err = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(raw); err != nil {
			http.Error(w, "bad encoding", http.StatusBadRequest)
			return
		}
		raw = []byte(strings.Replace(string(raw), `encoding="utf-16"`, "", 1))
	}
	w.Header().Set("Content-Type", "application/soap+xml;charset=UTF-8")
	if identify && !isIdentify(raw) {
		h.challenge(w)
		return
	}
	partly := who != "" && !h.memberOf("Administrators", who)
	if partly && !h.memberOf(Operators, who) {
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, h.faulted(messageID(raw), &faultDenied))
		return
	}
	if fault.Reply != nil {
		if status, body, take := fault.Reply(actionOf(raw)); take {
			w.WriteHeader(status)
			_, _ = io.WriteString(w, strings.ReplaceAll(body, "{id}", messageID(raw)))
			return
		}
	}
	status, action, body := h.exchange(raw, who, partly)
	if fault.Drop != nil && fault.Drop(action) {
		panic(http.ErrAbortHandler)
	}
	if fault.Cut != nil && fault.Cut(action) {
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body[:len(body)/2])
		panic(http.ErrAbortHandler)
	}
	w.WriteHeader(status)
	_, _ = io.WriteString(w, body)
}

// isIdentify: the body is the one question that is answered to anybody
// (DSP0226, section 11), and nothing else.
func isIdentify(raw []byte) bool {
	var envelope soap.Element
	if err := xml.Unmarshal(raw, &envelope); err != nil || envelope.XMLName.Local != "Envelope" || envelope.XMLName.Space != soap.SOAP {
		return false
	}
	content := envelope.Child("Body")
	return content != nil && len(content.Children) == 1 && content.Children[0].XMLName == xml.Name{Space: soap.Identify, Local: "Identify"}
}

var faultDenied = fault{code: "Sender", subcode: "w:AccessDenied", reason: "Access is denied.", number: "5"}

// messageID and actionOf look without parsing: what they serve may be broken.
func messageID(raw []byte) string { return between(string(raw), "MessageID") }
func actionOf(raw []byte) string  { return between(string(raw), "Action") }

func between(text, name string) string {
	i := strings.Index(text, ":"+name)
	if i < 0 {
		return ""
	}
	rest := text[i:]
	start := strings.IndexByte(rest, '>')
	end := strings.IndexByte(rest, '<')
	if start < 0 || end < start {
		return ""
	}
	return rest[start+1 : end]
}

// memberOf: the account is a member of a local group.
func (h *Host) memberOf(group, account string) bool {
	h.lock.Lock()
	defer h.lock.Unlock()
	for _, g := range h.groups {
		for _, m := range g.Members {
			if g.Name == group && h.canonical(m) == h.canonical(account) {
				return true
			}
		}
	}
	return false
}

func (h *Host) challenge(w http.ResponseWriter) {
	w.Header().Add("WWW-Authenticate", "Negotiate")
	if h.Keytab != nil {
		w.Header().Add("WWW-Authenticate", "Kerberos")
	}
	if h.Basic {
		w.Header().Add("WWW-Authenticate", `Basic realm="WSMAN"`)
	}
	w.Header().Set("Content-Length", "0")
	w.WriteHeader(http.StatusUnauthorized)
}

// authenticate finds out who asks, or answers with a challenge.
func (h *Host) authenticate(w http.ResponseWriter, r *http.Request) (string, bool) {
	state := signedin.Of(r)
	authorization := r.Header.Get("Authorization")
	scheme, token, _ := strings.Cut(authorization, " ")
	switch {
	case authorization == "" && state.Who() != "":
		return state.Who(), true
	case strings.EqualFold(scheme, "Basic") && h.Basic:
		if account, password, ok := r.BasicAuth(); ok && password != "" {
			h.lock.Lock()
			answer := Wrong
			if h.local(account) != nil { // of others it never takes a password in clear
				answer = h.signIn(account, password)
			}
			h.lock.Unlock()
			if answer == Accepted {
				return account, true
			}
		}
	case strings.EqualFold(scheme, "Negotiate"), strings.EqualFold(scheme, "Kerberos"):
		raw, err := base64.StdEncoding.DecodeString(token)
		if err != nil {
			break
		}
		if strings.HasPrefix(string(raw), ntlm.Signature) {
			return h.ntlm(w, raw, scheme, state)
		}
		if account, ok := h.kerberos(w, r); ok {
			state.Set(account)
			return account, true
		}
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, 1<<20))
	h.challenge(w)
	return "", false
}

// kerberos checks a ticket with the key tab.
func (h *Host) kerberos(w http.ResponseWriter, r *http.Request) (string, bool) {
	if h.Keytab == nil {
		return "", false
	}
	keys := keytab.New()
	if err := keys.Unmarshal(h.Keytab); err != nil {
		return "", false
	}
	account := ""
	quiet := discard{header: http.Header{}}
	inner := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if id := goidentity.FromHTTPRequestContext(r); id != nil && id.Authenticated() {
			account = id.UserName() + "@" + id.Domain()
		}
	})
	spnego.SPNEGOKRB5Authenticate(inner, keys, service.DecodePAC(false), service.KeytabPrincipal(h.Service)).ServeHTTP(quiet, r)
	if answer := quiet.header.Get("WWW-Authenticate"); answer != "" && account != "" {
		w.Header().Set("WWW-Authenticate", answer)
	}
	return account, account != ""
}

type discard struct{ header http.Header }

func (d discard) Header() http.Header         { return d.header }
func (d discard) Write(p []byte) (int, error) { return len(p), nil }
func (d discard) WriteHeader(int)             {}
