package reaching

import (
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/reach"
)

// listening serves one behaviour on loopback, and says its address.
func listening(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return l.Addr().String()
}

func closedPort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func says(words string) func(net.Conn) {
	return func(c net.Conn) {
		_, _ = io.WriteString(c, words)
		_ = c.Close()
	}
}

// TestOutcomes: each thing that a port can do is told from the others.
func TestOutcomes(t *testing.T) {
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/ready":
			_, _ = io.WriteString(w, "all boards ready")
		case "/moved":
			http.Redirect(w, r, "http://127.0.0.1:1/elsewhere", http.StatusFound)
		case "/via":
			w.Header().Set("Via", "1.1 gateway")
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	t.Cleanup(page.Close)
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ready") }))
	t.Cleanup(secure.Close)
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}))
	silent := listening(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	plain, https := strings.TrimPrefix(page.URL, "http://"), strings.TrimPrefix(secure.URL, "https://")
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host != plain {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		to, err := net.Dial("tcp", r.Host)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		from, _, _ := w.(http.Hijacker).Hijack()
		_, _ = io.WriteString(from, "HTTP/1.1 200 Connection established\r\n\r\n")
		go func() { _, _ = io.Copy(to, from) }()
		_, _ = io.Copy(from, to)
		_ = from.Close()
	}))
	t.Cleanup(proxy.Close)
	for name, c := range map[string]struct {
		ask   reach.Ask
		want  reach.Outcome
		words string
	}{
		"open":                     {reach.Ask{Target: plain}, reach.Open, "it is open"},
		"nothing listens":          {reach.Ask{Target: closedPort(t)}, reach.Refused, "refused"},
		"no such name":             {reach.Ask{Target: "nowhere.invalid:80"}, reach.Unnamed, ""},
		"a page":                   {reach.Ask{Target: "http://" + plain + "/ready", Contains: "boards ready"}, reach.Open, "200"},
		"a status":                 {reach.Ask{Target: "http://" + plain + "/none", Status: 404}, reach.Open, "404"},
		"another status":           {reach.Ask{Target: "http://" + plain + "/none"}, reach.WrongAnswer, "404"},
		"another page":             {reach.Ask{Target: "http://" + plain + "/ready", Contains: "all quiet"}, reach.WrongAnswer, "not in its 16 bytes"},
		"a redirect":               {reach.Ask{Target: "http://" + plain + "/moved", Status: 200}, reach.WrongAnswer, "302"},
		"through something":        {reach.Ask{Target: "http://" + plain + "/via"}, reach.Open, ""},
		"a trusted certificate":    {reach.Ask{Target: "https://" + https, CA: ca, Contains: "ready"}, reach.Open, "200"},
		"an unknown certificate":   {reach.Ask{Target: "tls://" + https}, reach.BadCert, "unknown authority"},
		"another name":             {reach.Ask{Target: "tls://localhost:" + https[strings.LastIndexByte(https, ':')+1:], CA: ca}, reach.BadCert, "localhost"},
		"no certificates to trust": {reach.Ask{Target: "tls://" + https, CA: "none"}, reach.Unprobed, "PEM"},
		"TLS where none is":        {reach.Ask{Target: "tls://" + plain}, reach.WrongAnswer, ""},
		"a banner":                 {reach.Ask{Target: listening(t, says("220 mail.larkmoor.example\r\n")), Contains: "220 mail"}, reach.Open, ""},
		"another banner":           {reach.Ask{Target: "ssh://" + listening(t, says("220 mail.larkmoor.example\r\n"))}, reach.WrongAnswer, "does not have"},
		"it hangs up":              {reach.Ask{Target: "ssh://" + listening(t, func(c net.Conn) { _ = c.Close() })}, reach.WrongAnswer, ""},
		"no page at all":           {reach.Ask{Target: "http://" + listening(t, says("SSH-2.0-x\r\n"))}, reach.WrongAnswer, "none of http"},
		"by a proxy":               {reach.Ask{Target: "http://" + plain + "/ready", Proxy: proxy.URL, Contains: "ready"}, reach.Open, ""},
		"a proxy refuses":          {reach.Ask{Target: https, Proxy: proxy.URL}, reach.ByProxy, "403"},
		"a proxy with a password":  {reach.Ask{Target: https, Proxy: "http://a:b@127.0.0.1:1"}, reach.Unprobed, "no user"},
		"the link's own address":   {reach.Ask{Target: "http://169.254.169.254/secrets"}, reach.Unprobed, "not probed"},
		"its proxy":                {reach.Ask{Target: plain, Proxy: "http://169.254.169.254:80"}, reach.Unprobed, "not probed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := Probe(context.Background(), Direct, c.ask)
			assert.Equal(t, c.want, got.Outcome, "%+v", got)
			assert.Contains(t, got.Words, c.words)
			assert.NotContains(t, fmt.Sprint(got), "all boards", "what a page says is not told")
			if name == "through something" {
				assert.Contains(t, got.Between, "Via: 1.1 gateway")
			}
		})
	}
	t.Run("it hangs", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		dial := func(ctx context.Context, address string) (net.Conn, error) {
			defer cancel() // as if its time were over once it is connected
			return Direct(context.Background(), address)
		}
		got := Probe(ctx, dial, reach.Ask{Target: "ssh://" + silent})
		assert.Equal(t, reach.Hangs, got.Outcome, "%+v", got)
	})
	t.Run("nothing comes back", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		dial := func(ctx context.Context, _ string) (net.Conn, error) {
			cancel()
			<-ctx.Done()
			return nil, ctx.Err()
		}
		got := Probe(ctx, dial, reach.Ask{Target: "192.0.2.1:80"})
		assert.Equal(t, reach.Filtered, got.Outcome, "%+v", got)
	})
	t.Run("a name of an address that is not probed", func(t *testing.T) {
		_, err := Direct(t.Context(), "169.254.169.254:80")
		assert.ErrorContains(t, err, "not probed")
	})
	t.Run("an end without end", func(t *testing.T) {
		endless := listening(t, func(c net.Conn) {
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")
			for {
				if _, err := c.Write(make([]byte, 4096)); err != nil {
					return
				}
			}
		})
		got := Probe(t.Context(), Direct, reach.Ask{Target: "http://" + endless, Contains: "nothing of the kind"})
		assert.Equal(t, reach.WrongAnswer, got.Outcome, "%+v", got)
	})
}
