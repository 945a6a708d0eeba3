package e2e

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a shell is offered is what the service knows, and each of it is taken.
func TestCompletion(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	offered := func(words ...string) []string {
		var out []string
		for line := range strings.Lines(u.moss(0, append([]string{"__complete"}, words...)...)) {
			line = strings.TrimSuffix(line, "\n")
			if line == "" || strings.HasPrefix(line, ":") || strings.HasPrefix(line, "Completion ended") {
				continue
			}
			name, _, _ := strings.Cut(line, "\t")
			out = append(out, name)
		}
		return out
	}
	accounts := offered("account", "show", "svc-t")
	assert.Contains(t, accounts, "svc-terminal")
	for _, name := range accounts {
		assert.True(t, strings.HasPrefix(name, "svc-t"), name)
	}
	assert.ElementsMatch(t, []string{"quay1", "quay2"}, offered("system", "show", "qu"))
	assert.Contains(t, offered("system", "check", "quay1", "qu"), "quay2", "one after the other")
	assert.Empty(t, offered("system", "show", "quay1", "qu"), "this takes one")
	assert.Empty(t, offered("system", "add", "qu"), "a new name is nobody's")
	assert.Equal(t, []string{"hosts"}, offered("steward", "change", "ho"))
	assert.Contains(t, offered("explain", "quay1/b"), "quay1/berth.service")
	assert.Contains(t, offered("explain", "quay"), "quay1/")
	assert.Contains(t, offered("survey", "show", ""), "1")
	assert.ElementsMatch(t, []string{"severity=high", "severity=medium", "severity=low"}, offered("finding", "list", "--filter", "severity="))
	assert.Contains(t, offered("account", "list", "--filter", ""), "built_in=")
	assert.Contains(t, offered("account", "list", "--sort", ""), "dependents")
	assert.Contains(t, offered("account", "list", "--columns", "name,"), "name,system")
	verbs := offered("right", "who", "--on", "skerry1", "s")
	assert.Contains(t, verbs, "sign in")
	assert.NotContains(t, verbs, "select", "it is a windows host")
	help := u.moss(0, "account", "list", "--help")
	assert.Contains(t, help, "Columns to filter and sort by:")
	assert.Contains(t, help, "enabled (yes, no, unknown)")

	// Every column that a list names can be sorted by, and filtered by with its kind.
	token := u.token()
	columns := 0
	for _, list := range []string{"accounts", "systems", "dependents", "credentials", "findings", "rotations", "surveys", "surveys/1/visits", "sockets", "ledger", "users", "tokens", "stewards", "approvals", "options"} {
		status, body := u.api("GET", "/api/v1/"+list+"?columns=true", token, "")
		require.Equal(t, 200, status, body)
		var page struct {
			Items   []any
			Columns []struct{ Name, Kind string }
		}
		require.NoError(t, json.Unmarshal([]byte(body), &page))
		assert.Empty(t, page.Items, list)
		require.NotEmpty(t, page.Columns, list)
		for _, c := range page.Columns {
			columns++
			value := map[string]string{"text": "~a", "number": ">0", "yes-no": "=yes", "moment": ">2026-01-01"}[c.Kind]
			require.NotEmpty(t, value, c.Kind)
			status, body := u.api("GET", "/api/v1/"+list+"?limit=1&sort="+c.Name+"&filter="+url.QueryEscape(c.Name+value), token, "")
			if status != 200 && strings.Contains(body, "cannot be") { // a text of a fixed set takes whole words
				status, body = u.api("GET", "/api/v1/"+list+"?limit=1&sort="+c.Name, token, "")
			}
			assert.Equal(t, 200, status, "%s by %s: %s", list, c.Name, body)
		}
	}
	assert.Greater(t, columns, 120)

	// A service that is away offers nothing, and is no error to a shell.
	d.Listen = strings.TrimPrefix(d.URL, "http://")
	require.NoError(t, d.StopService(9))
	assert.Empty(t, offered("account", "show", "svc-"))
	assert.Contains(t, u.moss(0, "account", "list", "--help"), "--filter")
	require.NoError(t, d.StartService(t.Context(), 0))
}
