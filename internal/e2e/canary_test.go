package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	littleendian "encoding/binary"
	"encoding/hex"
	"encoding/pem"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/demo"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// forms are the ways in which a secret likes to lie around.
func forms(plain string) map[string][]byte {
	var wide []byte
	for _, unit := range utf16.Encode([]rune(plain)) {
		wide = littleendian.LittleEndian.AppendUint16(wide, unit)
	}
	return map[string][]byte{
		"clear": []byte(plain), "UTF-16": wide, "hexadecimal": []byte(hex.EncodeToString([]byte(plain))),
		"base64": []byte(base64.RawStdEncoding.EncodeToString([]byte(plain))[:len(plain)]), "base64 of UTF-16": []byte(base64.RawStdEncoding.EncodeToString(wide)[:len(wide)]),
		"URL": []byte(url.QueryEscape(plain)), "path": []byte(url.PathEscape(plain)),
	}
}

// TestCanary runs the whole story and then searches everything that was
// written or answered for the plain values (law 7).
func TestCanary(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	d, err := demo.Start(ctx, demo.Options{Binary: binary, Folder: t.TempDir() + "/demo", Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	require.NoError(t, d.StopService(syscall.SIGTERM))
	require.NoError(t, d.StartService(ctx, 0, "--log-level", "debug"))
	require.NoError(t, d.Prepare(ctx))
	u := &user{d.Process, t}
	var said bytes.Buffer
	run := func(exit int, args ...string) { said.WriteString(u.moss(exit, args...)) }

	told := newDuty(t)
	run(0, "notify", "add", "everything", "--webhook", told.URL, "--least", "informational", "--secret-file", u.file("duty.key", "Told-Canary-Value-91"),
		"--ca-file", u.file("duty.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: told.Certificate().Raw}))))
	run(0, "notify", "test", "everything")

	// All that is sent to systems is recorded meanwhile.
	traced := []string{"larkmoor-directory", "bookings1", "tide1", "quay1", "quay2", "north1", "bookings-db", "tide-db"}
	for _, system := range traced {
		run(0, "trace", "start", system, "--for", "2h", "--reason", "canary")
	}

	run(0, "amend", "rehearse", "fuelcard-reader")
	run(0, "amend", "start", "2", "--reason", "canary")
	run(3, "charter", "prove", "fuelcard-reader", "--account", "bookings1/scratch", "--job", d.File("pump.job"), "--reason", "canary")
	run(0, "charter", "proof", "2", "-o", "json")
	run(0, "charter", "draft", "canary", "--trace", "2")

	account := "larkmoor-directory/svc-berth"
	run(1, "custody", "take", account, "--password-file", u.file("wrong", "Wrong-Canary-Value-77"))
	run(0, "rotate", "rehearse", account)
	run(0, "rotate", "run", account, "--reason", "canary")
	run(0, "rotate", "rehearse", "larkmoor-directory/svc-manifest")
	run(0, "rotate", "run", "larkmoor-directory/svc-manifest", "--reason", "canary")
	run(0, "custody", "take", "larkmoor-directory/svc-tidefeed", "--reset", "--reason", "canary")
	run(0, "rotate", "undo", "2", "--reason", "canary", "--yes")
	run(3, "survey", "run")
	run(3, "explain", "north1/QuayLineStore")
	run(0, "explain", "north1/QuayLineBoarding", "--repair", "--reason", "canary")
	run(0, "rotate", "rehearse", "svc-terminal", "--restart", "leave")
	run(0, "rotate", "run", "svc-terminal", "--restart", "leave", "--reason", "canary")
	run(0, "rotate", "repair", "svc-terminal", "--reason", "canary")
	run(0, "rotate", "assign", "svc-terminal", "--filter", "runs_as~odile.kern", "--reason", "canary")
	d.Estate.Windows["north1"].Grant(`LARKMOOR\svc-terminal`, false)
	run(0, "rotate", "rehearse", "svc-terminal")
	run(3, "rotate", "run", "svc-terminal", "--reason", "canary: one does not start, and it is undone")
	for _, account := range []string{"svc_bookings", "svc_tides"} {
		run(0, "radius", account)
		run(0, "radius", account, "-o", "json", "--mentions")
		run(0, "use", "list", account)
		run(0, "rotate", "rehearse", account)
		run(0, "rotate", "run", account, "--reason", "canary")
	}
	keyLines := func() []string {
		held, _ := d.Estate.Hosts["tide1"].Read("/var/lib/tide/.ssh/id_ed25519")
		lines := strings.Split(strings.TrimSpace(string(held.Content)), "\n")
		return lines[4 : len(lines)-1] // after what is public
	}
	before := keyLines()
	run(2, "custody", "take", "key:odile@old-laptop", "--private-key-file", u.file("odile.key", strings.Join(before, "\n")))
	run(0, "credential", "list")
	run(0, "credential", "show", "key:backup@tide1", "-o", "json")
	run(0, "custody", "take", "key:backup@tide1")
	run(0, "rotate", "rehearse", "key:backup@tide1", "-o", "json")
	run(0, "rotate", "run", "key:backup@tide1", "--reason", "canary")
	run(0, "custody", "verify", "key:backup@tide1")
	run(0, "use", "declare", "svc_tides", "desk", "--reason", "canary")
	run(0, "search", "tide")
	run(0, "socket", "list")
	run(3, "survey", "run")
	for _, list := range [][]string{{"system", "list"}, {"account", "list"}, {"dependent", "list"}, {"finding", "list", "--all"}, {"ledger", "list"}, {"rotate", "list"}, {"steward", "list"}, {"survey", "show", "1"}, {"rotate", "show", "1"}} {
		run(0, append(list, "-o", "json")...)
	}
	for i := range traced {
		shown := u.moss(0, "trace", "show", strconv.Itoa(i+1), "-o", "json")
		assert.Contains(t, shown, `"protocol"`, "something was recorded of %s", traced[i])
		said.WriteString(shown)
	}
	run(3, "charter", "check", "terminal-service", "-o", "json")
	run(0, "risk", "list", "-o", "json")
	run(0, "rotate", "show", "1", "--journal", "-o", "json")
	for _, path := range []string{"/metrics", "/readyz", "/api/v1/accounts?limit=1000", "/api/v1/ledger?limit=1000", "/api/v1/accounts/1", "/api/v1/systems/quay1"} {
		_, body := u.api("GET", path, u.token(), "")
		said.WriteString(body)
	}
	_, body := u.api("POST", "/api/v1/credentials/1/custody", u.token(), `{"value":"Misplaced-Canary-Value-5","colour":1}`)
	said.WriteString(body)

	run(0, "notify", "messages", "-o", "json", "--limit", "1000")
	run(0, "notify", "show", "everything", "-o", "json")
	require.Eventually(t, func() bool { return told.heard("dependent.explain", "QuayLineStore") > 0 }, time.Minute, 100*time.Millisecond)
	told.lock.Lock()
	said.WriteString(told.raw.String())
	told.lock.Unlock()

	// What must not be found: the first values, the generated ones, ours.
	secrets := map[string]string{"manager": larkmoor.ManagerPassword, "user": demo.UserPassword, "wrong": "Wrong-Canary-Value-77", "misplaced": "Misplaced-Canary-Value-5", "told": "Told-Canary-Value-91"}
	for name, password := range larkmoor.Passwords {
		secrets[name] = password
	}
	env, _ := d.Estate.Hosts["quay1"].Read("/etc/berth/berth.env")
	generated := regexp.MustCompile(`BERTH_BIND_PASSWORD="([^"]+)"`).FindStringSubmatch(string(env.Content))
	require.Len(t, generated, 2)
	_, secrets["generated for a service"] = d.Estate.Windows["skerry1"].Stores("QuayLineStore")
	_, secrets["generated for a task"] = d.Estate.Windows["skerry1"].TaskStores("Kiosk report")
	require.NotEqual(t, larkmoor.Passwords["svc-berth"], generated[1])
	secrets["generated"] = generated[1]
	settings, _ := d.Estate.Hosts["bookings1"].Read("/srv/bookings/config/database.yml")
	inYAML := regexp.MustCompile(`password: "([^"]+)"`).FindStringSubmatch(string(settings.Content))
	require.Len(t, inYAML, 2)
	secrets["generated for a data store"] = inYAML[1]
	secrets["stale"] = "Deck-Chair-09"
	secrets["private key"], secrets["generated private key"] = before[0], keyLines()[0]
	require.NotEqual(t, before[0], keyLines()[0])
	token := u.token()
	require.NoError(t, d.StopService(syscall.SIGTERM)) // everything is on disk
	secrets["token"] = token

	places := map[string][]byte{"answers": said.Bytes()}
	require.NoError(t, filepath.WalkDir(d.Folder, func(path string, entry fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, d.Folder+"/")
		if err != nil || entry.IsDir() || strings.HasSuffix(name, ".pw") || name == "wrong" || name == "odile.key" || name == "duty.key" || name == "config/session.json" {
			return err // those are the user's own files
		}
		raw, err := os.ReadFile(path)
		places[name] = raw
		return err
	}))
	require.Contains(t, places, "data/moss.db")
	require.Contains(t, places, "service.log")
	for name, h := range d.Estate.Hosts {
		places["commands on "+name] = []byte(strings.Join(h.Log(), "\n"))
		for _, path := range h.Paths() {
			assert.NotContains(t, path, "moss-new", "nothing is left on %s", name)
		}
	}
	for place, content := range places {
		for name, plain := range secrets {
			for form, needle := range forms(plain) {
				assert.False(t, bytes.Contains(content, needle), "%s holds the value of %s (%s)", place, name, form)
			}
		}
	}
	// The test can fail: the files of the user do hold them.
	raw, err := os.ReadFile(d.File("svc-berth.pw"))
	require.NoError(t, err)
	require.True(t, bytes.Contains(raw, forms(larkmoor.Passwords["svc-berth"])["clear"]))
}

// TestSecretsAreNoArguments: neither the command line nor the service takes a
// secret as an argument or passes one to a child.
func TestSecretsAreNoArguments(t *testing.T) {
	var out bytes.Buffer
	u := &user{&demo.Process{Binary: binary, Folder: t.TempDir()}, t}
	for _, command := range [][]string{{"login"}, {"custody", "take"}, {"steward", "add"}, {"user", "add"}, {"serve"}} {
		out.WriteString(u.moss(0, append(command, "--help")...))
	}
	assert.NotRegexp(t, regexp.MustCompile(`--(password|passphrase|secret|token|code|key) string`), out.String())
}
