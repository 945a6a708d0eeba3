package main

import (
	"os"
	"os/exec"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestNoCoreDump runs itself once more, because the limit cannot be raised again.
func TestNoCoreDump(t *testing.T) {
	if os.Getenv("MOSS_TEST_GUARDED") == "" {
		again := exec.Command(os.Args[0], "-test.run", "^TestNoCoreDump$", "-test.count=1", "-test.v")
		again.Env = append(os.Environ(), "MOSS_TEST_GUARDED=1")
		out, err := again.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), "--- PASS: TestNoCoreDump")
		return
	}
	require.NoError(t, guardMemory())
	dumpable, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
	require.NoError(t, err)
	assert.Zero(t, dumpable)
	limits, err := os.ReadFile("/proc/self/limits")
	require.NoError(t, err)
	assert.Regexp(t, regexp.MustCompile(`Max core file size +0 +0 `), string(limits), "the kernel itself says so")
}
