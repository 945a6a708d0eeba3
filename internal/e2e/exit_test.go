package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// insideWords are of the language and the library, not of the product.
var insideWords = []string{"strconv", "json:", "sql:", "sqlite", "Go struct", "unmarshal", "goroutine", "validation failed", "path.id", "%!", "panic"}

// The exit codes are those that the README gives: 0 done, 1 it did not work,
// 2 wrong command line or input, 3 the answer is no, 4 not signed in or no right.
func TestExitCodes(t *testing.T) {
	u := newService(t)
	u.moss(0, "system", "add", "nowhere", "--kind", "redis", "--address", "127.0.0.9", "--port", "1")
	u.file("reader.pw", "tides-that-only-read-9")
	u.moss(0, "user", "add", "reader", "--role", "viewer", "--password-file", u.File("reader.pw"))
	for _, c := range []struct {
		exit int
		args string
	}{
		{0, "--version"},
		{0, "--help"},
		{0, "system"},
		{0, "system list"},
		{0, "ledger verify"},
		{0, "finding list"},
		{0, "account list --filter name=nobody"},
		{1, "system show unknown"},
		{1, "account show unknown"},
		{1, "survey cancel 99"},
		{1, "rotate show 99"},
		{1, "custody verify unknown"},
		{1, "approval show 99"},
		{1, "ledger verify --offline /nowhere --key x"},
		{2, "unknown"},
		{2, "system unknown"},
		{2, "system list --unknown"},
		{2, "system list --filter banana"},
		{2, "system list --filter banana=1"},
		{2, "finding list --filter severity=pink"},
		{2, "system list --sort banana"},
		{2, "system list --columns banana"},
		{2, "system list -o banana"},
		{2, "system add x --kind banana"},
		{2, "rotate show abc"},
		{2, "rotate undo"},
		{2, "explain abc"},
		{2, "approval grant 1 b"},
		{2, "system confirm-absence nowhere"},
		{3, "system check nowhere"},
		{3, "survey run nowhere"},
	} {
		out, exit, err := u.Moss(t.Context(), strings.Fields(c.args)...)
		require.NoError(t, err)
		assert.Equal(t, c.exit, exit, "moss %s\n%s", c.args, out)
		for _, words := range insideWords {
			assert.NotContains(t, out, words, "moss %s", c.args)
		}
		if c.exit > 0 {
			assert.NotEmpty(t, strings.TrimSpace(out), "moss %s says why", c.args)
		}
	}

	u.moss(0, "login", "--server", u.URL, "--name", "reader", "--password-file", u.File("reader.pw"))
	u.moss(4, "system", "add", "other", "--kind", "redis")
	u.moss(4, "user", "list")
	u.moss(0, "logout")
	u.moss(4, "system", "list")
}
