package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

var update = flag.Bool("update", false, "write what the commands print into testdata")

// answer is what the service said to a request.
type answer struct {
	Status int             `json:"status"`
	Body   json.RawMessage `json:"body"`
}

// service answers with what a service said once about the demonstration's
// estate (testdata/answers.json), and keeps what it was asked.
type service struct {
	answers map[string]answer
	mutex   sync.Mutex
	asked   []string
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	what := r.Method + " " + r.URL.RequestURI()
	s.mutex.Lock()
	s.asked = append(s.asked, what)
	s.mutex.Unlock()
	found, ok := s.answers[what]
	if r.Header.Get("Authorization") != "Bearer a-token" {
		found, ok = answer{http.StatusUnauthorized, json.RawMessage(`{"status":401,"detail":"sign in first"}`)}, true
	}
	if !ok {
		found = answer{http.StatusNotFound, json.RawMessage(`{"status":404,"detail":"nothing was recorded for this"}`)}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(found.Status)
	_, _ = w.Write(found.Body)
}

func recorded(t *testing.T) *service {
	t.Helper()
	raw, err := os.ReadFile("testdata/answers.json")
	require.NoError(t, err)
	s := &service{}
	require.NoError(t, json.Unmarshal(raw, &s.answers))
	return s
}

// run runs a command line against a service.
func run(t *testing.T, url, token string, words ...string) (code int, out, told string) {
	t.Helper()
	folder := t.TempDir()
	t.Setenv("MOSS_CONFIG", folder)
	require.NoError(t, api.Session{Server: url, Token: token, Name: "ines"}.Save())
	root := New("test")
	var stdout, stderr bytes.Buffer
	root.SetArgs(words)
	root.SetOut(&stdout)
	root.SetErr(&stderr)
	root.SetIn(strings.NewReader(""))
	code = Execute(root)
	return code, stdout.String(), stderr.String()
}

// What the commands print of an estate, in each format, is what testdata/output
// says; a change there is a change for people and for their scripts.
func TestWhatCommandsPrint(t *testing.T) {
	for _, line := range []string{
		"steward list", "system list", "system list -o csv", "system kinds", "system show north1",
		"account list --limit 5", "account list --limit 5 -o csv", "account list --limit 5 -o yaml", "account show svc-berth", "account show nobody",
		"dependent list --limit 5", "credential list --limit 5", "credential list --limit 5 -o json", "credential show svc-berth", "expiry list", "expiry list -o csv", "expiry timeline", "expiry forecast", "expiry forecast -o json",
		"finding list", "finding list -o csv", "radius svc-berth", "search berth", "approval list", "user list", "token list", "survey list", "schedule duties", "schedule duties -o json", "schedule list", "schedule list -o csv", "policy list", "policy why svc-berth", "window list", "window show nights", "order list", "freeze", "rotate list",
		"socket list --limit 5", "ledger list --limit 5", "explain north1/QuayLineBoarding",
	} {
		t.Run(line, func(t *testing.T) {
			s := recorded(t)
			server := httptest.NewServer(s)
			defer server.Close()
			code, out, told := run(t, server.URL, "a-token", strings.Fields(line)...)
			require.NotContains(t, told, "nothing was recorded", "asked: %v", s.asked)
			printed := "moss " + line + "\nexit code " + string(rune('0'+code)) + "\n\n" + out
			if told != "" {
				printed += "\nerrors:\n" + told
			}
			file := filepath.Join("testdata/output", strings.NewReplacer(" ", "_", "/", "_").Replace(line)+".txt")
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(printed), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err, "run it with -update and read what it writes")
			require.Equal(t, string(want), printed)
		})
	}
}

// Exit codes tell scripts why, and messages tell people.
func TestExitCodes(t *testing.T) {
	s := recorded(t)
	refused := func(status int, detail string) answer {
		raw, err := json.Marshal(map[string]any{"status": status, "detail": detail})
		require.NoError(t, err)
		return answer{status, raw}
	}
	s.answers["GET /api/v1/findings?limit=500"] = refused(http.StatusForbidden, "this takes the role auditor")
	s.answers["GET /api/v1/rotations?limit=500"] = refused(http.StatusInternalServerError, "the store does not answer")
	s.answers["GET /api/v1/users?limit=500"] = answer{http.StatusOK, json.RawMessage(`"not a list"`)}
	s.answers["GET /api/v1/tokens?limit=500"] = answer{http.StatusBadGateway, json.RawMessage(`<html>a proxy</html>`)}
	server := httptest.NewServer(s)
	defer server.Close()
	for _, c := range []struct {
		token, line string
		code        int
		told        string
	}{
		{"a-token", "steward list", api.ExitOK, ""},
		{"another", "steward list", api.ExitSignIn, "sign in first"},
		{"", "steward list", api.ExitSignIn, "not signed in: run 'moss login'"},
		{"a-token", "finding list", api.ExitSignIn, "the role auditor"},
		{"a-token", "rotate list", api.ExitFailed, "the store does not answer"},
		{"a-token", "user list", api.ExitFailed, "cannot unmarshal"},
		{"a-token", "token list", api.ExitFailed, "is this Moss Ledger?"},
		{"a-token", "steward lists", api.ExitUsage, `there is no command "lists"; did you mean list? See 'moss steward --help'`},
		{"a-token", "steward list --hue", api.ExitUsage, "there is no flag --hue; see 'moss steward list --help'"},
		{"a-token", "steward list -o xml", api.ExitUsage, `unknown output "xml" (table, json, yaml or csv)`},
		{"a-token", "account show", api.ExitUsage, "ACCOUNT is missing: it is written 'moss account show ACCOUNT'"},
	} {
		code, out, told := run(t, server.URL, c.token, strings.Fields(c.line)...)
		assert.Equal(t, c.code, code, "%s: %s", c.line, told)
		assert.Contains(t, told, c.told, c.line)
		if c.code != api.ExitOK {
			assert.Empty(t, out, c.line)
		}
	}
	gone := httptest.NewServer(s)
	gone.Close()
	code, _, told := run(t, gone.URL, "a-token", "steward", "list")
	assert.Equal(t, api.ExitFailed, code)
	assert.Contains(t, told, "does not answer")
}

// Names come from systems of strangers: they move no cursor, hide nothing by
// writing backwards, and are no formula in a spreadsheet.
func TestForeignNamesAreHarmless(t *testing.T) {
	s := recorded(t)
	raw, err := json.Marshal(map[string]any{"items": []map[string]any{
		{"name": "=cmd|' /C calc'!A0", "account": "a\x1b[2Jb\u202egpj.exe", "systems": 1},
		{"name": "@sum", "account": "tab\there\nand a line", "systems": 1},
	}, "total": 2})
	require.NoError(t, err)
	s.answers["GET /api/v1/stewards?limit=500"] = answer{http.StatusOK, raw}
	server := httptest.NewServer(s)
	defer server.Close()
	_, out, _ := run(t, server.URL, "a-token", "steward", "list")
	assert.NotContains(t, out, "\x1b")
	assert.NotContains(t, out, "\u202e")
	assert.Contains(t, out, "a·[2Jb·gpj.exe")
	assert.Contains(t, out, "tab·here·and a line")
	assert.Len(t, strings.Split(strings.TrimSpace(out), "\n"), 3)
	_, out, _ = run(t, server.URL, "a-token", "steward", "list", "-o", "csv")
	assert.Contains(t, out, "'=cmd|")
	assert.Contains(t, out, "'@sum")
}

// losing breaks off the first answers and keeps what was sent.
func losing(t *testing.T, losses int, then http.HandlerFunc) (*api.Client, func() []http.Header) {
	t.Helper()
	var mutex sync.Mutex
	var seen []http.Header
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		seen = append(seen, r.Header.Clone())
		lost := len(seen) <= losses
		mutex.Unlock()
		if lost {
			panic(http.ErrAbortHandler)
		}
		then(w, r)
	}))
	t.Cleanup(server.Close)
	c, err := api.NewClient(api.Session{Server: server.URL, Token: "a-token"})
	require.NoError(t, err)
	return c, func() []http.Header {
		mutex.Lock()
		defer mutex.Unlock()
		return slices.Clone(seen)
	}
}

// A request that starts something and whose answer is lost is sent once more,
// with the same key, so that it is not done twice; one that changes something
// without a key is not.
func TestALostAnswerIsAskedForAgain(t *testing.T) {
	done := func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`{"id":3}`)) }
	var out struct{ ID int }
	c, seen := losing(t, 1, done)
	require.NoError(t, c.Call(t.Context(), http.MethodPost, "/surveys", map[string]any{}, &out))
	require.Equal(t, 3, out.ID)
	require.Len(t, seen(), 2)
	require.Len(t, seen()[0].Get("Idempotency-Key"), 32)
	require.Equal(t, seen()[0].Get("Idempotency-Key"), seen()[1].Get("Idempotency-Key"))

	c, seen = losing(t, 1, done)
	require.ErrorContains(t, c.Call(t.Context(), http.MethodPost, "/stewards", map[string]any{}, &out), "does not answer")
	require.Len(t, seen(), 1)
}

// A stream that broke off goes on after the last event that was whole: none is
// seen twice, and half an event is not seen. No right ends it at once.
func TestABrokenStreamIsTakenUp(t *testing.T) {
	part := 0
	c, seen := losing(t, 0, func(w http.ResponseWriter, _ *http.Request) {
		part++
		switch part {
		case 1:
			_, _ = w.Write([]byte("id: 1\nevent: record\ndata: {\"step\":\ndata: 1}\n\nid: 2\ndata: half"))
		case 2:
			w.WriteHeader(http.StatusServiceUnavailable) // it is starting
		case 3:
			_, _ = w.Write([]byte(": a comment\n\nid: 2\nevent: record\ndata: {\"step\":2}\n\nid: 3\nevent: end\ndata: {}\n\n"))
		}
	})
	var got []string
	require.NoError(t, c.Watch(t.Context(), "/rotations/1/events", func(e api.Event) error {
		got = append(got, e.Name+" "+string(e.Data))
		if e.Name == "end" {
			return api.ErrStreamEnd
		}
		return nil
	}))
	require.Equal(t, []string{"record {\"step\":\n1}", "record {\"step\":2}", "end {}"}, got)
	require.Len(t, seen(), 3)
	require.Empty(t, seen()[0].Get("Last-Event-ID"))
	require.Equal(t, "1", seen()[1].Get("Last-Event-ID"))
	require.Equal(t, "1", seen()[2].Get("Last-Event-ID"))

	c, seen = losing(t, 0, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_, _ = w.Write([]byte(`{"status":403,"detail":"this takes the role operator"}`))
	})
	err := c.Watch(t.Context(), "/rotations/1/events", func(api.Event) error { return nil })
	var exit *api.ExitError
	require.ErrorAs(t, err, &exit)
	require.Equal(t, api.ExitSignIn, exit.Code)
	require.Len(t, seen(), 1)
}

// What is text stays text for parsers of YAML 1.1 and 1.2 alike.
func TestTextStaysTextInYAML(t *testing.T) {
	values := []string{"no", "Yes", "off", "y", "12:30", "190:20:30.15", "null", "~", "true", "0x10", "1e3", "017", "2026-11-27", "", "- a", "a: b", "#", "two\nlines", "plain"}
	var out bytes.Buffer
	require.NoError(t, output.Write(&out, "yaml", nil, nil, values))
	var back []any
	require.NoError(t, yaml.Unmarshal(out.Bytes(), &back))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	for i, v := range values {
		require.Equal(t, v, back[i])
		if v == "no" || v == "Yes" || v == "off" || v == "y" || v == "12:30" || v == "190:20:30.15" {
			require.Equal(t, "- \""+v+"\"", lines[i])
		}
	}
	require.Equal(t, "- plain", lines[len(lines)-1])
}

// The same on terminals of three widths: what is important stays, nothing is wider.
func TestWhatCommandsPrintByWidth(t *testing.T) {
	for _, line := range []string{"system list", "account list --limit 5", "dependent list --limit 5", "credential list --limit 5", "finding list", "survey list", "ledger list --limit 5", "change list", "change show 18"} {
		t.Run(line, func(t *testing.T) {
			printed := ""
			for _, width := range []string{"80", "120", "200"} {
				server := httptest.NewServer(recorded(t))
				t.Setenv("COLUMNS", width)
				code, out, told := run(t, server.URL, "a-token", strings.Fields(line)...)
				server.Close()
				require.Zero(t, code, told)
				printed += "COLUMNS=" + width + " moss " + line + "\n\n" + out + "\n"
				most, err := strconv.Atoi(width)
				require.NoError(t, err)
				for text := range strings.Lines(out) {
					require.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(text, "\n")), most, text)
				}
			}
			file := filepath.Join("testdata/output", strings.NewReplacer(" ", "_", "/", "_").Replace(line)+"_by_width.txt")
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(printed), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err, "run it with -update and read what it writes")
			require.Equal(t, string(want), printed)
		})
	}
}
