package tell_test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// got is a request that a webhook got.
type got struct {
	Method  string            `json:"method"`
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
}

// webhook serves one, and returns it as a place.
func webhook(t *testing.T, answer func(w http.ResponseWriter, r *http.Request)) (tell.Place, *[]got) {
	t.Helper()
	certificate, trusted, _ := certificate(t)
	var list []got
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		g := got{Method: r.Method, URL: "https://" + r.Host + r.URL.RequestURI(), Headers: map[string]string{}, Body: string(body)}
		for name := range r.Header {
			g.Headers[name] = r.Header.Get(name)
		}
		list = append(list, g)
		answer(w, r)
	}))
	server.TLS = &tls.Config{Certificates: []tls.Certificate{certificate}}
	server.StartTLS()
	t.Cleanup(server.Close)
	return tell.Place{Name: "duty", Kind: tell.Webhook, Address: server.URL + "/moss?team=quay", TrustedCA: string(trusted), Secret: secret.New("quay-and-berth-in-the-fog")}, &list
}

const verifier = `
import { createRequire } from 'node:module'
import { createHmac, createHash, timingSafeEqual } from 'node:crypto'
const require = createRequire(process.argv[2] + '/package.json')
const { httpbis } = require('http-message-signatures')
let text = ''
for await (const part of process.stdin) text += part
const { request, key } = JSON.parse(text)
const verified = await httpbis.verifyMessage({
  requiredFields: ['@method', '@target-uri', 'content-type', 'content-digest'],
  maxAge: 300,
  keyLookup: async (p) => ({ id: p.keyid, algs: ['hmac-sha256'], verify: async (data, signature) => timingSafeEqual(createHmac('sha256', key).update(data).digest(), signature) }),
}, request)
const digest = 'sha-256=:' + createHash('sha256').update(request.body).digest('base64') + ':'
console.log(JSON.stringify({ verified, digest: digest === request.headers['Content-Digest'] }))
`

// A reader that others wrote verifies what we sign, and only that.
func TestOthersVerifyOurSignatures(t *testing.T) {
	modules, err := filepath.Abs("../../../console")
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(modules, "node_modules", "http-message-signatures")); err != nil {
		lab.LeaveOut(t, "the console's packages are not there: 'make build' gets them")
	}
	p, list := webhook(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusAccepted) })
	said, err := tell.Send(t.Context(), p, several())
	require.NoError(t, err)
	assert.Equal(t, "HTTP 202 Accepted", said)
	require.Len(t, *list, 1)
	script := filepath.Join(t.TempDir(), "verify.mjs")
	require.NoError(t, os.WriteFile(script, []byte(verifier), 0o600))
	verify := func(g got, key string) string {
		in, err := json.Marshal(map[string]any{"request": g, "key": key})
		require.NoError(t, err)
		cmd := exec.CommandContext(t.Context(), "node", script, modules)
		cmd.Stdin = bytes.NewReader(in)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return "refused: " + string(out)
		}
		return string(bytes.TrimSpace(out))
	}
	g := (*list)[0]
	assert.JSONEq(t, `{"verified":true,"digest":true}`, verify(g, "quay-and-berth-in-the-fog"))
	for name, forged := range map[string]func(g *got) string{
		"another key":     func(*got) string { return "quay-and-berth-in-the-fox" },
		"another address": func(g *got) string { g.URL += "&x=1"; return "quay-and-berth-in-the-fog" },
		"another method":  func(g *got) string { g.Method = "PUT"; return "quay-and-berth-in-the-fog" },
		"another digest": func(g *got) string {
			g.Headers["Content-Digest"] = "sha-256=:AAAA:"
			return "quay-and-berth-in-the-fog"
		},
	} {
		other := g
		other.Headers = map[string]string{}
		for k, v := range g.Headers {
			other.Headers[k] = v
		}
		assert.NotContains(t, verify(other, forged(&other)), `"verified":true`, name)
	}
	g.Body += " "
	assert.Contains(t, verify(g, "quay-and-berth-in-the-fog"), `"digest":false`)

	var payload tell.Payload
	require.NoError(t, json.Unmarshal([]byte((*list)[0].Body), &payload))
	assert.Equal(t, []any{tell.Format, several().ID, "duty", "moss1.larkmoor.example", several().Events}, []any{payload.Format, payload.ID, payload.Recipient, payload.From, payload.Events})
}

func TestWhatWebhooksAnswer(t *testing.T) {
	var elsewhere atomic.Int32
	other := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	defer other.Close()
	for status, refused := range map[int]bool{200: false, 204: false, 301: true, 307: true, 308: true, 400: true, 401: true, 403: true, 404: true, 410: true, 408: false, 425: false, 429: false, 500: false, 502: false, 503: false} {
		p, list := webhook(t, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", other.URL)
			w.WriteHeader(status)
			_, _ = io.WriteString(w, "what it says is not told further")
		})
		said, err := tell.Send(t.Context(), p, several())
		var refusal *tell.Refusal
		switch {
		case status < 300:
			require.NoError(t, err, status)
			assert.NotContains(t, said, "not told further")
		case refused:
			require.ErrorAs(t, err, &refusal, status)
		default:
			require.Error(t, err, status)
			assert.NotErrorAs(t, err, &refusal, status)
		}
		if err != nil {
			assert.NotContains(t, err.Error(), "not told further")
		}
		assert.Len(t, *list, 1, "%d: it is tried again later, not at once", status)
	}
	assert.Zero(t, elsewhere.Load(), "what was signed for one address goes to no other")
}

// A proxy of the environment gets nothing.
func TestNoProxyOfTheEnvironment(t *testing.T) {
	var asked atomic.Int32
	proxy := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	defer proxy.Close()
	t.Setenv("HTTPS_PROXY", proxy.URL)
	t.Setenv("https_proxy", proxy.URL)
	p, list := webhook(t, func(http.ResponseWriter, *http.Request) {})
	_, err := tell.Send(t.Context(), p, several())
	require.NoError(t, err)
	assert.Len(t, *list, 1)
	assert.Zero(t, asked.Load())
}
