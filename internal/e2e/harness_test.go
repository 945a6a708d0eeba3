// Package e2e tests the real binary from outside: by its command line, its API
// and its console, against stand-ins and against the lab's real systems.
package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/demo"
)

var binary string

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "moss-e2e-")
	if err == nil {
		binary = filepath.Join(folder, "moss")
		cmd := exec.Command("go", "build", "-o", binary, "mossledger.example/moss/cmd/moss")
		cmd.Stdout, cmd.Stderr = os.Stderr, os.Stderr
		err = cmd.Run()
	}
	code := 1
	if err == nil {
		code = m.Run()
	} else {
		fmt.Fprintln(os.Stderr, "build the binary:", err)
	}
	_ = os.RemoveAll(folder)
	os.Exit(code)
}

// user is a signed-in person at a service.
type user struct {
	*demo.Process
	t testing.TB
}

// newService starts a service and sets it up.
func newService(t testing.TB, more ...string) *user {
	t.Helper()
	p := &demo.Process{Binary: binary, Folder: t.TempDir(), Listen: "127.0.0.1:0"}
	u := &user{p, t}
	require.NoError(t, p.StartService(context.Background(), 0, more...))
	t.Cleanup(func() { require.NoError(t, p.StopService(syscall.SIGTERM)) })
	u.file("user.pw", demo.UserPassword)
	u.moss(0, "login", "--server", p.URL, "--set-up", "--code-file", p.File("setup.code"), "--name", demo.UserName, "--password-file", p.File("user.pw"))
	return u
}

// file writes a file into the user's folder and returns its path.
func (u *user) file(name, content string) string {
	u.t.Helper()
	require.NoError(u.t, os.WriteFile(u.File(name), []byte(content), 0o600))
	return u.File(name)
}

// moss runs a command that must end with the given code.
func (u *user) moss(exit int, args ...string) string {
	u.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	out, code, err := u.Moss(ctx, args...)
	require.NoError(u.t, err)
	require.Equal(u.t, exit, code, "moss %s\n%s\n%s", strings.Join(args, " "), out, u.logTail())
	return out
}

func (u *user) logTail() string {
	raw, _ := os.ReadFile(u.File("service.log"))
	lines := strings.Split(strings.TrimSpace(string(raw)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// rows runs a list command and decodes its JSON.
func (u *user) rows(args ...string) []map[string]any {
	u.t.Helper()
	return u.rowsOf(0, args...)
}

// rowsOf is rows of a command that ends with the given code.
func (u *user) rowsOf(exit int, args ...string) []map[string]any {
	u.t.Helper()
	var rows []map[string]any
	out := u.moss(exit, append(args, "-o", "json")...)
	require.NoError(u.t, json.NewDecoder(strings.NewReader(out)).Decode(&rows), out)
	return rows
}

// token is the user's API token.
func (u *user) token() string {
	u.t.Helper()
	raw, err := os.ReadFile(u.File("config/session.json"))
	require.NoError(u.t, err)
	var s struct{ Token string }
	require.NoError(u.t, json.Unmarshal(raw, &s))
	return s.Token
}

// api calls the API and returns status and body.
func (u *user) api(method, path, token, body string) (int, string) {
	u.t.Helper()
	request, err := http.NewRequest(method, u.URL+path, strings.NewReader(body))
	require.NoError(u.t, err)
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(u.t, err)
	defer response.Body.Close()
	raw, err := io.ReadAll(response.Body)
	require.NoError(u.t, err)
	return response.StatusCode, string(raw)
}

// waitFinished waits for the end of a rotation and returns its result.
func (u *user) waitFinished(id string) string {
	u.t.Helper()
	for limit := time.Now().Add(2 * time.Minute); time.Now().Before(limit); {
		var v struct{ Rotation struct{ Mode, Result string } }
		require.NoError(u.t, json.Unmarshal([]byte(u.moss(0, "rotate", "show", id, "-o", "json")), &v))
		if v.Rotation.Mode == "finished" || v.Rotation.Mode == "stopped" {
			return v.Rotation.Result
		}
	}
	u.t.Fatalf("rotation %s does not end", id)
	return ""
}
