package internal

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "mossledger.example/moss/"

// layers from the top down: a package may import packages of its own line and
// of lines below it. The connectors and stand-ins never see the store.
var layers = [][]string{
	{"cmd/moss"},
	{"internal/cli", "internal/demo", "internal/service", "internal/lab"},
	{"internal/app/assembly"},
	{"internal/app/diagnose", "internal/app/unattended", "internal/app/batches", "internal/app/configuration", "internal/app/taking", "internal/app/tandems", "internal/app/prove", "internal/app/managing"},
	{"internal/app/amend"},
	{"internal/app/rotate"},
	{"internal/app/custody"},
	{"internal/app/survey"},
	{"internal/app/findings"},
	{"internal/app/labels", "internal/app/picture"},
	{"internal/app/charters"},
	{"internal/app/inventory", "internal/app/lives", "internal/app/messages", "internal/app/people", "internal/app/policies", "internal/app/reachability", "internal/app/risks", "internal/app/traces"},
	{"internal/app/approval", "internal/app/freeze", "internal/app/rights", "internal/app/schedule", "internal/app/sealed", "internal/app/underway"},
	{"internal/app/access"},
	{"internal/app"},
	{"internal/store"},
	{"internal/records"},
	{"internal/connect", "internal/standin"},
	{"internal/core"},
}

func layerOf(path string) int {
	for i, prefixes := range layers {
		for _, prefix := range prefixes {
			if path == prefix || prefix != "internal/app" && strings.HasPrefix(path, prefix+"/") {
				return i
			}
		}
	}
	return -1
}

// TestImportsPointDown enforces the layers of docs/architecture.md.
func TestImportsPointDown(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "mossledger.example/moss/...").Output()
	require.NoError(t, err)
	checked := 0
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		from := strings.TrimPrefix(f[0], module)
		if from == "internal" || from == "internal/e2e" || from == "internal/bench" {
			continue // only tests live there
		}
		require.GreaterOrEqual(t, layerOf(from), 0, "%s is in no layer: give it a place in docs/architecture.md and here", from)
		for _, to := range f[1:] {
			if !strings.HasPrefix(to, module) {
				if layerOf(from) == layerOf("internal/core") {
					for _, no := range []string{"net", "net/http", "database/sql", "os", "os/exec", "crypto/rand", "math/rand", "time/tzdata"} {
						require.NotEqual(t, no, to, "%s: the core has no network, SQL, HTTP, files or randomness but injected ones", from)
					}
				}
				continue
			}
			target := strings.TrimPrefix(to, module)
			require.GreaterOrEqual(t, layerOf(target), layerOf(from), "%s imports %s, which lies above it", from, target)
			checked++
		}
		// The command line speaks to the service over its API only. What it may
		// share with it is computation: the core, which reaches nothing.
		if strings.HasPrefix(from, "internal/cli") {
			for _, to := range f[1:] {
				if target, ours := strings.CutPrefix(to, module); ours {
					require.True(t, strings.HasPrefix(target, "internal/core/") || strings.HasPrefix(target, "internal/cli/"), "%s imports %s: the command line uses the API, and from the inside only the core", from, target)
				}
			}
		}
	}
	require.Greater(t, checked, 40)
}

// TestTheStoreAloneWrites: transactions begin in the store, so that what is written
// and the ledger that tells of it cannot part.
func TestTheStoreAloneWrites(t *testing.T) {
	looked := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		looked++
		if strings.HasPrefix(path, "store"+string(filepath.Separator)) {
			return nil
		}
		for _, no := range []string{".InTx(", ".Enter(ctx, tx", "moss/internal/store/people\"", "moss/internal/store/custody\"", "moss/internal/store/changes\"", "moss/internal/store/labels\"", "moss/internal/store/policies\"", "moss/internal/store/batches\"", "moss/internal/store/messages\""} {
			require.NotContains(t, string(raw), no, "%s: only the store writes, and its parts are its own", path)
		}
		return nil
	}))
	require.Greater(t, looked, 300)
}

// mostLinesOfAFile is how much a file holds, of tests too: one idea.
const mostLinesOfAFile = 500

// TestFilesAreSmall holds files to that.
func TestFilesAreSmall(t *testing.T) {
	looked := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() && entry.Name() == "node_modules" {
			return filepath.SkipDir
		}
		if err != nil || entry.IsDir() || !slices.Contains([]string{".go", ".vue"}, filepath.Ext(path)) {
			return err
		}
		raw, err := os.ReadFile(path)
		looked++
		require.LessOrEqual(t, strings.Count(string(raw), "\n"), mostLinesOfAFile, "%s: split it by idea", path)
		return err
	}))
	require.Greater(t, looked, 500)
}

// mostLines is how much a room holds: more than a person reads at once.
const mostLines = 2500

// TestRoomsAreSmall holds packages to that, tests apart.
func TestRoomsAreSmall(t *testing.T) {
	lines := map[string]int{}
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		lines[filepath.Dir(path)] += strings.Count(string(raw), "\n")
		return err
	}))
	require.Greater(t, len(lines), 40)
	for room, n := range lines {
		require.LessOrEqual(t, n, mostLines, "%s: give a part of it a room of its own", room)
	}
}
