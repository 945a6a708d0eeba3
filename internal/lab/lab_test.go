package lab_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/lab"
)

// told is a test that only notes what is said to it.
type told struct {
	testing.TB
	fatal, skipped bool
}

func (*told) Helper()                 {}
func (*told) Name() string            { return "TestTides" }
func (f *told) Skip(...any)           { f.skipped = true }
func (f *told) Fatalf(string, ...any) { f.fatal = true; panic(f) }

// What is left out is told at the end of the run, and with CI=true it is a
// failure.
func TestLeaveOut(t *testing.T) {
	name := filepath.Join(t.TempDir(), "left")
	t.Setenv("MOSS_LEFT_OUT", name)
	t.Setenv("CI", "")
	plain := &told{TB: t}
	lab.LeaveOut(plain, "no tides here")
	lab.LeaveOut(plain, "no quay")
	assert.True(t, plain.skipped)
	said, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, "TestTides: no tides here\nTestTides: no quay\n", string(said))
	t.Setenv("CI", "true")
	strict := &told{TB: t}
	assert.Panics(t, func() { lab.LeaveOut(strict, "no tides here") })
	assert.True(t, strict.fatal && !strict.skipped)
	t.Setenv("CI", "")
	t.Setenv("MOSS_LEFT_OUT", filepath.Join(name, "not a folder"))
	assert.Panics(t, func() { lab.LeaveOut(&told{TB: t}, "it cannot be told") }, "never silently")
}
