package service

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/service/masterkey"
	"mossledger.example/moss/internal/standin"
)

type running struct {
	t    *testing.T
	url  string
	code string
	log  *bytes.Buffer
	stop func()
}

const password = "slow-tides-keep-time"

func start(t *testing.T, change func(*Config)) *running {
	t.Helper()
	r := &running{t: t, log: &bytes.Buffer{}}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	config := Config{
		Data: t.TempDir(), Listen: "127.0.0.1:0", Log: slog.New(slog.NewJSONHandler(r.log, &slog.HandlerOptions{Level: slog.LevelDebug})),
		Ready: func(url, code string) { r.url, r.code = url, code; close(ready) },
	}
	if change != nil {
		change(&config)
	}
	go func() { ended <- Run(ctx, config) }()
	select {
	case <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
	stopped := false
	r.stop = func() {
		if !stopped {
			stopped = true
			cancel()
			require.NoError(t, <-ended)
		}
	}
	t.Cleanup(r.stop)
	return r
}

func (r *running) do(method, path, token, body string, header ...string) (*http.Response, string) {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, method, r.url+path, strings.NewReader(body))
	require.NoError(r.t, err)
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(r.t, err)
	defer response.Body.Close()
	if strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") {
		line, _ := bufio.NewReader(response.Body).ReadString('\n')
		return response, line
	}
	raw, err := io.ReadAll(response.Body)
	require.NoError(r.t, err)
	contract, err := described()
	require.NoError(r.t, err)
	contract.hold(r.t, method, path, response, string(raw))
	return response, string(raw)
}

func (r *running) setUp() {
	r.t.Helper()
	response, body := r.do("POST", "/api/v1/setup", "", fmt.Sprintf(`{"code":%q,"name":"ines","password":%q}`, r.code, password))
	require.Equal(r.t, 200, response.StatusCode, body)
}

func (r *running) signIn(name string) string { return r.signInWith(name, password) }

func (r *running) signInWith(name, password string) string {
	r.t.Helper()
	return r.signedIn(name, password).Token
}

func (r *running) signedIn(name, password string) (me Me) {
	r.t.Helper()
	response, body := r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":%q,"password":%q,"token":true}`, name, password))
	require.Equal(r.t, 200, response.StatusCode, body)
	require.NoError(r.t, json.Unmarshal([]byte(body), &me))
	return me
}

// TestAccessTable walks every operation with every role.
func TestAccessTable(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	tokens := map[string]string{}
	for _, role := range access.Roles() {
		response, body := r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":"%s-person","password":%q,"roles":[%q]}`, role, password, role))
		require.Equal(t, 200, response.StatusCode, body)
		tokens[role] = r.signIn(role + "-person")
	}
	var api struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		}
	}
	_, description := r.do("GET", "/api/v1/openapi.json", "", "")
	require.NoError(t, json.Unmarshal([]byte(description), &api))
	seen := map[string]bool{}
	for path, methods := range api.Paths {
		for method, operation := range methods {
			id := operation.OperationID
			seen[id] = true
			if id == "sign-in" || id == "set-up" || id == "sign-out" {
				continue
			}
			path := strings.NewReplacer("{id}", "999999", "{name}", "no-such-thing").Replace(path)
			body := ""
			if method == "post" || method == "put" || method == "patch" {
				body = "{}"
			}
			response, _ := r.do(strings.ToUpper(method), path, "", body)
			if access.Public(access.Action(id)) {
				assert.Equal(t, 200, response.StatusCode, id)
				continue
			}
			assert.Equal(t, 401, response.StatusCode, "%s without a sign-in", id)
			response, _ = r.do(strings.ToUpper(method), path, "not-a-token", body)
			assert.Equal(t, 401, response.StatusCode, "%s with a made-up token", id)
			for role, token := range tokens {
				response, answer := r.do(strings.ToUpper(method), path, token, body)
				may := access.Decide(access.Actor{Name: role, Roles: []string{role}}, access.Action(id), access.Object{}) == nil
				assert.Equal(t, !may, response.StatusCode == 403, "%s as %s: %d %s", id, role, response.StatusCode, answer)
				assert.NotEqual(t, 401, response.StatusCode, id)
				assert.NotEqual(t, 500, response.StatusCode, "%s as %s: %s", id, role, answer)
				if response.StatusCode >= 400 {
					assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), id)
				}
			}
		}
	}
	for _, id := range access.Actions() {
		assert.True(t, seen[string(id)] || id == access.TrustEndpoint, "the access table knows %s, which is no operation", id)
	}
	assert.Greater(t, len(seen), 45)
}

func TestSignInIsThrottledAndRecorded(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	device := r.signedIn("ines", password).Device
	var last *http.Response
	for range people.FreeFailures + 1 {
		last, _ = r.do("POST", "/api/v1/sessions", "", `{"name":"ines","password":"a wrong password"}`)
	}
	assert.Equal(t, 429, last.StatusCode)
	assert.NotEmpty(t, last.Header.Get("Retry-After"))
	response, _ := r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"ines","password":%q}`, password))
	assert.Equal(t, 429, response.StatusCode, "also with the right password, from elsewhere")
	response, _ = r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"ines","password":%q,"device":%q}`, password, device))
	assert.Equal(t, 200, response.StatusCode, "a device that signed in before keeps its way")
	response, _ = r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"ines","password":%q,"device":"made-up.0123"}`, password))
	assert.Equal(t, 429, response.StatusCode, "nobody makes up a device")
	response, body := r.do("POST", "/api/v1/sessions", "", `{"name":"nobody","password":"a wrong password"}`)
	assert.Equal(t, 401, response.StatusCode)
	assert.NotContains(t, body, "nobody", "the answer does not tell which names exist")
	assert.NotContains(t, r.log.String(), "a wrong password")
}

// A session cookie alone changes nothing: another site can make a browser send it.
func TestForgedRequestsAreRefused(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	response, _ := r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":"ines","password":%q}`, password))
	cookie := response.Header.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	value := strings.Split(cookie, ";")[0]
	response, _ = r.do("GET", "/api/v1/me", "", "", "Cookie", value)
	assert.Equal(t, 200, response.StatusCode)
	response, _ = r.do("POST", "/api/v1/surveys", "", "{}", "Cookie", value)
	assert.Equal(t, 401, response.StatusCode, "without the console's header")
	response, _ = r.do("POST", "/api/v1/surveys", "", "{}", "Cookie", value, "X-Moss-Console", "1", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 401, response.StatusCode, "from another site")
	response, body := r.do("POST", "/api/v1/surveys", "", "{}", "Cookie", value, "X-Moss-Console", "1", "Sec-Fetch-Site", "same-origin")
	assert.Equal(t, 409, response.StatusCode, body) // no systems yet
	r.do("DELETE", "/api/v1/sessions/current", "", "", "Cookie", value, "X-Moss-Console", "1")
	response, _ = r.do("GET", "/api/v1/me", "", "", "Cookie", value)
	assert.Equal(t, 401, response.StatusCode, "after signing out")
}

func TestTokensAndPeople(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	_, body := r.do("POST", "/api/v1/tokens", admin, `{"label":"nightly"}`)
	var made NewToken
	require.NoError(t, json.Unmarshal([]byte(body), &made))
	response, _ := r.do("GET", "/api/v1/me", made.Token, "")
	assert.Equal(t, 200, response.StatusCode)
	r.do("DELETE", fmt.Sprintf("/api/v1/tokens/%d", made.ID), admin, "")
	response, _ = r.do("GET", "/api/v1/me", made.Token, "")
	assert.Equal(t, 401, response.StatusCode, "revoked")

	for name, body := range map[string]string{
		"short password": `{"name":"a","password":"short","roles":["viewer"]}`,
		"name inside":    `{"name":"odile","password":"odile-odile-odile","roles":["viewer"]}`,
		"unknown role":   `{"name":"b","password":"slow-tides-keep-time","roles":["king"]}`,
		"no role":        `{"name":"c","password":"slow-tides-keep-time","roles":[]}`,
		"unknown field":  `{"name":"d","password":"slow-tides-keep-time","roles":["viewer"],"colour":"red"}`,
		"broken JSON":    `{"name":`,
		"not a string":   `{"name":"e","password":12345678901234,"roles":["viewer"]}`,
	} {
		response, answer := r.do("POST", "/api/v1/users", admin, body)
		assert.Contains(t, []int{400, 422}, response.StatusCode, "%s: %s", name, answer)
		assert.NotContains(t, answer, "slow-tides", name)
		assert.NotContains(t, answer, "12345678901234", name)
	}
	response, _ = r.do("PATCH", "/api/v1/users/ines", admin, `{"roles":["viewer"]}`)
	assert.Equal(t, 409, response.StatusCode, "one cannot lock oneself out")
	r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":"tove","password":%q,"roles":["operator"]}`, password))
	tove := r.signIn("tove")
	r.do("PATCH", "/api/v1/users/tove", admin, `{"disabled":true}`)
	response, _ = r.do("GET", "/api/v1/me", tove, "")
	assert.Equal(t, 401, response.StatusCode, "a disabled person's tokens end")
	response, _ = r.do("POST", "/api/v1/setup", "", fmt.Sprintf(`{"code":%q,"name":"eve","password":%q}`, r.code, password))
	assert.Equal(t, 409, response.StatusCode, "the code works once")
}

func TestListenAddressAndMasterKey(t *testing.T) {
	for _, listen := range []string{"0.0.0.0:0", "192.0.2.1:7443", "[::]:7443"} {
		err := Run(context.Background(), Config{Data: t.TempDir(), Listen: listen, Log: slog.New(slog.DiscardHandler)})
		assert.ErrorIs(t, err, ErrUnsafeListen, listen)
	}
	assert.Error(t, Run(context.Background(), Config{Data: t.TempDir(), Listen: "nonsense", Log: slog.New(slog.DiscardHandler)}))

	folder := t.TempDir()
	file := filepath.Join(folder, "key", "master.key")
	key, err := masterkey.Load(file, secret.Value{}, true)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, err := masterkey.Load(file, secret.Value{}, false)
	require.NoError(t, err)
	assert.Equal(t, key, again)
	require.NoError(t, os.Chmod(file, 0o644))
	_, err = masterkey.Load(file, secret.Value{}, false)
	assert.ErrorContains(t, err, "can be read by others")
	_, err = masterkey.Load(filepath.Join(folder, "gone"), secret.Value{}, false)
	assert.ErrorContains(t, err, "backup")

	protected := filepath.Join(folder, "protected.key")
	key, err = masterkey.Load(protected, secret.New("a long passphrase"), true)
	require.NoError(t, err)
	raw, err := os.ReadFile(protected)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), string(key))
	_, err = masterkey.Load(protected, secret.Value{}, false)
	assert.ErrorContains(t, err, "passphrase")
	_, err = masterkey.Load(protected, secret.New("another"), false)
	assert.ErrorContains(t, err, "does not open")
	again, err = masterkey.Load(protected, secret.New("a long passphrase"), false)
	require.NoError(t, err)
	assert.Equal(t, key, again)
}

func TestServedWithTLS(t *testing.T) {
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	key, err := x509.MarshalPKCS8PrivateKey(config.Certificates[0].PrivateKey)
	require.NoError(t, err)
	folder := t.TempDir()
	certFile, keyFile := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	require.NoError(t, os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: config.Certificates[0].Certificate[0]}), 0o600))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600))
	r := start(t, func(c *Config) { c.Listen, c.CertFile, c.KeyPEM = "0.0.0.0:0", certFile, keyFile })
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(authority.PEM)))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}
	url := strings.Replace(r.url, "[::]", "127.0.0.1", 1)
	url = strings.Replace(url, "0.0.0.0", "127.0.0.1", 1)
	response, err := client.Post(url+"/api/v1/setup", "application/json", strings.NewReader(fmt.Sprintf(`{"code":%q,"name":"ines","password":%q}`, r.code, password)))
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	assert.Equal(t, 200, response.StatusCode)
	assert.Contains(t, response.Header.Get("Set-Cookie"), "Secure")
	assert.NotEmpty(t, response.Header.Get("Strict-Transport-Security"))
	_, err = http.Get(url + "/healthz")
	assert.Error(t, err, "an unknown authority is not trusted")
	client.CloseIdleConnections()
}

func TestHealthAndConsole(t *testing.T) {
	r := start(t, nil)
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "moss_accounts 0", "/": "<html", "/accounts/5": "<html", "/api/v1/status": `"set_up":false`} {
		response, body := r.do("GET", path, "", "")
		assert.Equal(t, 200, response.StatusCode, path)
		assert.Contains(t, strings.ToLower(body), want, path)
		assert.Contains(t, response.Header.Get("Content-Security-Policy"), "default-src 'self'", path)
		assert.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"), path)
	}
	for _, path := range []string{"/api/v1/nothing", "/assets/none.js"} {
		response, _ := r.do("GET", path, "", "")
		assert.Equal(t, 404, response.StatusCode, path)
		assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), path)
	}
	response, _ := r.do("POST", "/api/v1/sessions", "", `{"name":"`+strings.Repeat("x", 11<<20+1000)+`"}`)
	assert.Equal(t, 413, response.StatusCode)
	r.stop() // graceful, although a browser might keep a connection
	assert.Contains(t, r.log.String(), `"msg":"stopped"`)
}

// The version is the one that the list of changes begins with.
func TestVersionIsTheLatestChange(t *testing.T) {
	raw, err := os.ReadFile("../../CHANGELOG.md")
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(raw), "\n## ")
	assert.Equal(t, Version, strings.TrimSpace(strings.SplitN(rest, "\n", 2)[0]))
}
