package e2e

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/demo"
	"mossledger.example/moss/internal/standin/unixhost"
)

// TestCommandLineWithWrongInput: exit codes, and errors that say what to do.
func TestCommandLineWithWrongInput(t *testing.T) {
	lost := &user{&demo.Process{Binary: binary, Folder: t.TempDir()}, t}
	assert.Contains(t, lost.moss(4, "account", "list"), "not signed in")
	assert.Contains(t, lost.moss(1, "login", "--server", "http://127.0.0.1:1", "--name", "x", "--password-file", lost.file("p", "x")), "does not answer")

	u := newService(t)
	for _, c := range []struct {
		exit int
		says string
		args []string
	}{
		{2, "there is no flag --colour; did you mean --color?", []string{"account", "list", "--colour", "red"}},
		{2, "unknown command", []string{"acount"}},
		{2, "did you mean list?", []string{"account", "lst"}},
		{2, "unknown output", []string{"account", "list", "-o", "xml"}},
		{2, "ACCOUNT is missing", []string{"account", "show"}},
		{2, "there is no terminal", []string{"user", "add", "x"}},
		{2, "there is no column", []string{"account", "list", "--filter", "colour=red"}},
		{2, "is not a filter", []string{"account", "list", "--filter", "nonsense"}},
		{2, "there is no column", []string{"account", "list", "--sort", "colour"}},
		{2, "unknown kind", []string{"system", "add", "x1", "--kind", "toaster"}},
		{2, "cannot stand in a system's name", []string{"system", "add", "two\nlines"}},
		{2, "cannot stand in a system's name", []string{"system", "add", `quo"te,comma`}},
		{2, "maxLength", []string{"system", "add", strings.Repeat("x", 300)}},
		{2, "unknown option", []string{"system", "add", "x2", "--option", "colour=red"}},
		{2, "not an absolute path", []string{"system", "add", "x3", "--option", "paths=etc/x"}},
		{2, `steward "none"`, []string{"system", "add", "x4", "--steward", "none"}},
		{1, "not found", []string{"system", "show", "nothing"}},
		{1, "is unknown", []string{"account", "show", "nobody"}},
		{1, "is unknown", []string{"account", "show", "CN=broken,,DC=x"}},
		{1, "no systems to survey", []string{"survey", "run"}},
		{1, "not found", []string{"survey", "run", "nothing"}},
		{1, "not found", []string{"rotate", "show", "99"}},
		{2, "give --reason", []string{"rotate", "run", "x"}},
		{2, "name credentials", []string{"custody", "verify"}},
		{1, "no key is called so", []string{"credential", "show", "nobody"}},
		{1, "not found", []string{"credential", "show", "credential:99"}},
		{1, "not found", []string{"credential", "show", "key:99"}},
		{1, "not found", []string{"custody", "take", "SHA256:nope"}},
		{1, "not found", []string{"rotate", "rehearse", "key:nobody"}},
		{1, "not found", []string{"rotate", "run", "key:nobody", "--reason", "x"}},
		{2, "CREDENTIAL is missing", []string{"credential", "show"}},
		{2, "CREDENTIAL is missing", []string{"credential", "expire"}},
		{1, "no key is called so", []string{"credential", "expire", "nobody"}},
		{2, "is no time zone", []string{"credential", "set-end", "nobody", "2027-03-29", "--zone", "Mars/Base"}},
		{2, "--by or --until", []string{"credential", "extend", "nobody"}},
		{2, "it is one of password", []string{"expiry", "list", "--filter", "what=pray"}},
		{2, "a moment as 2026-03-01", []string{"expiry", "list", "--filter", "at<soon"}},
		{2, "a label is of small letters", []string{"expiry", "list", "--label", "no!"}},
		{2, "expected number >= 1", []string{"expiry", "forecast", "--days", "0"}},
		{2, "OPTION=SETTING is missing", []string{"system", "option", "set", "site=x"}},
		{2, "choose systems by", []string{"system", "option", "set", "production", "paths=/a"}},
		{2, "write name=value", []string{"system", "option", "set", "site=x", "paths"}},
		{2, "environment", []string{"system", "option", "set", "colour=red", "paths=/a"}},
		{2, "not an absolute path", []string{"system", "option", "set", "site=x", "paths=etc"}},
		{2, "no system has an option", []string{"system", "option", "set", "site=x", "colour=red"}},
		{2, "is for systems of kind unix-host", []string{"system", "option", "set", "kind=redis", "paths=/a"}},
		{1, "moss system option list", []string{"system", "option", "remove", "99"}},
		{1, "no such file", []string{"system", "import", "/no/such/file"}},
		{2, "give a file", []string{"system", "import"}},
		{2, "not a list", []string{"system", "import", u.file("empty.csv", "")}},
		{2, "the column name is missing", []string{"system", "import", u.file("noname.csv", "address,port\n192.0.2.1,22\n")}},
	} {
		out, exit, err := u.Moss(t.Context(), c.args...)
		require.NoError(t, err)
		assert.Equal(t, c.exit, exit, "moss %s: %s", strings.Join(c.args, " "), out)
		want := c.says
		if want == "maxLength" {
			want = "body.name"
		}
		assert.Contains(t, out, want, "moss %s", strings.Join(c.args, " "))
		assert.Contains(t, out, "moss: ")
	}
	for _, empty := range [][]string{{"system", "list"}, {"account", "list"}, {"dependent", "list"}, {"survey", "list"}, {"rotate", "list"}, {"finding", "list"}, {"steward", "list"}, {"credential", "list"}, {"system", "option", "list"}, {"expiry", "list"}, {"expiry", "timeline"}} {
		assert.NotEmpty(t, u.moss(0, empty...), "an empty list says so")
		assert.Equal(t, "[]\n", u.moss(0, append(empty, "-o", "json")...))
	}
	out := u.moss(0, "system", "import", u.file("big.csv", "name,owner\nquay1,\"Kern, Odile\"\n"+strings.Repeat("y", 9<<20)+"\nquay2,=cmd()\n"))
	assert.Contains(t, out, "2 added")
	assert.Contains(t, out, "at most 65536 are read")
	for _, format := range []string{"table", "json", "yaml", "csv"} {
		assert.Contains(t, u.moss(0, "system", "list", "-o", format, "--columns", "name,owner", "--sort", "-name"), "Kern, Odile", format)
	}
	assert.Contains(t, u.moss(0, "system", "list", "-o", "csv", "--columns", "owner"), "'=cmd()", "a spreadsheet does not take it for a formula")
	info, err := os.Stat(u.File("config/session.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// TestInterruptedSurvey: Ctrl-C cancels a survey, and what was read is kept.
func TestInterruptedSurvey(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	d.Estate.Hosts["quay2"].SetFault(unixhost.Fault{Latency: time.Hour})
	t.Cleanup(func() { d.Estate.Hosts["quay2"].SetFault(unixhost.Fault{}) })
	d.Estate.Hosts["tide1"].Write("/etc/tide/backup.env", unixhost.File{Content: []byte("NEW_PASSWORD=value-of-today-1\n")})
	ctx, interrupt := context.WithCancel(context.Background())
	type result struct {
		out  string
		code int
	}
	ended := make(chan result, 1)
	go func() {
		out, code, _ := u.Moss(ctx, "survey", "run")
		ended <- result{out, code}
	}()
	id := ""
	require.Eventually(t, func() bool {
		running := u.rows("survey", "list", "--filter", "state=running")
		if len(running) == 1 && fmt.Sprint(running[0]["done"]) == "13" { // all but quay2
			id = fmt.Sprint(running[0]["id"])
		}
		return id != ""
	}, 20*time.Second, 50*time.Millisecond)
	interrupt()
	r := <-ended
	assert.Equal(t, 3, r.code, r.out)
	require.Eventually(t, func() bool { return strings.Contains(u.moss(0, "survey", "list"), "cancelled") }, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, u.moss(0, "survey", "show", id), "cancelled")
	assert.Contains(t, u.moss(0, "dependent", "list", "--filter", "system=tide1"), "backup.env#NEW_PASSWORD", "what was read is kept")
	assert.Contains(t, u.moss(0, "dependent", "list", "--filter", "system=quay2"), "berth.service", "what was not read is not gone")
}

// TestTour takes the tour as 'make tour' does.
func TestTour(t *testing.T) {
	t.Parallel()
	u := &user{&demo.Process{Binary: binary, Folder: t.TempDir()}, t}
	assert.Contains(t, u.moss(0, "demo", "--tour"), "All 48 steps were proven.")
}
