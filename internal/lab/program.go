package lab

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Program is the command fixture, built for the hosts: a program that depends on its
// credential.
func Program(t testing.TB) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "fixture")
	build := exec.CommandContext(t.Context(), "go", "build", "-o", file, "mossledger.example/moss/internal/lab/fixture")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	program, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(program)
}
