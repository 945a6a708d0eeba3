package service

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/service/web"
)

// What people set for themselves is their own, of any JSON, and small.
func TestSettingsAreOnesOwn(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	ines := r.signIn("ines")
	response, body := r.do("POST", "/api/v1/users", ines, fmt.Sprintf(`{"name":"ben","password":%q,"roles":["viewer"]}`, password))
	require.Equal(t, 200, response.StatusCode, body)
	ben := r.signIn("ben")
	put := func(who, name, value string) (int, string) {
		response, body := r.do("PUT", "/api/v1/me/settings/"+name, who, `{"value":`+value+`}`)
		return response.StatusCode, body
	}
	of := func(who string) map[string]any {
		response, body := r.do("GET", "/api/v1/me/settings", who, "")
		require.Equal(t, 200, response.StatusCode, body)
		var out map[string]any
		require.NoError(t, json.Unmarshal([]byte(body), &out))
		return out
	}
	for name, value := range map[string]string{"rows": "100", "columns-accounts": `["name","<b>"]`, "menu-folded": "true"} {
		status, body := put(ines, name, value)
		require.Equal(t, 204, status, body)
	}
	assert.Equal(t, map[string]any{"rows": 100.0, "columns-accounts": []any{"name", "<b>"}, "menu-folded": true}, of(ines))
	assert.Empty(t, of(ben))
	status, body := put(ben, "rows", "null")
	require.Equal(t, 204, status, body)
	assert.Len(t, of(ines), 3, "another one's are not touched")
	status, body = put(ines, "rows", "null")
	require.Equal(t, 204, status, body)
	assert.Len(t, of(ines), 2)

	for _, name := range []string{"Rows", "a.b", strings.Repeat("x", 61), "a%2Fb"} {
		status, body = put(ines, name, "1")
		assert.Contains(t, []int{404, 422}, status, "%s: %s", name, body)
	}
	status, body = put(ines, "big", `"`+strings.Repeat("x", 17<<10)+`"`)
	assert.Equal(t, 400, status, body)
	assert.Contains(t, body, "16 kB at most")
	response, _ = r.do("GET", "/api/v1/me/settings", "", "")
	assert.Equal(t, 401, response.StatusCode)
	_, body = r.do("GET", "/api/v1/ledger?limit=50", ines, "")
	assert.NotContains(t, body, "columns-accounts", "the ledger has acts, not how somebody likes a table")
}

// What the console is made of travels compressed, to those who take it so, and once.
func TestScriptsTravelCompressed(t *testing.T) {
	r := start(t, nil)
	files, err := fs.Glob(web.Files, "dist/assets/*.js")
	require.NoError(t, err)
	if len(files) == 0 {
		t.Fatal("run 'make console' first")
	}
	name := strings.TrimPrefix(files[0], "dist")
	whole, err := fs.ReadFile(web.Files, files[0])
	require.NoError(t, err)
	get := func(headers map[string]string) (*http.Response, []byte) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.url+name, nil)
		require.NoError(t, err)
		for k, v := range headers {
			request.Header.Set(k, v)
		}
		response, err := (&http.Transport{DisableCompression: true}).RoundTrip(request)
		require.NoError(t, err)
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response, body
	}
	response, body := get(nil)
	assert.Empty(t, response.Header.Get("Content-Encoding"))
	assert.Equal(t, whole, body)
	response, body = get(map[string]string{"Accept-Encoding": "gzip"})
	require.Equal(t, "gzip", response.Header.Get("Content-Encoding"))
	assert.Less(t, len(body), len(whole))
	unpacked, err := gzip.NewReader(bytes.NewReader(body))
	require.NoError(t, err)
	body, err = io.ReadAll(unpacked)
	require.NoError(t, err)
	assert.Equal(t, whole, body)
	assert.Contains(t, response.Header.Get("Cache-Control"), "immutable", "a file of that name never changes: nobody asks for it again")
	answer, _ := r.do("GET", "/api/v1/status", "", "")
	assert.Empty(t, answer.Header.Get("Content-Encoding"), "answers of the API are not compressed")
}
