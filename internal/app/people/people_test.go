package people

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// password is one that people may take.
const password = "slow-tides-keep-time"

func TestThrottle(t *testing.T) {
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	tr := newThrottle(func() time.Time { return now })
	fail := func(keys ...string) {
		t.Helper()
		now = now.Add(longestWait)
		require.Zero(t, tr.begin(keys...))
		tr.end(false, keys...)
	}
	for range FreeFailures - 1 {
		fail("name/a")
		require.Zero(t, tr.begin("name/a"))
		tr.end(false, "name/a")
		tr.fails["name/a"].count--
	}
	fail("name/a")
	assert.Equal(t, firstWait, tr.begin("name/a", "name/b"))
	assert.Zero(t, tr.begin("name/b"), "what was not begun is not counted")
	tr.end(true, "name/b")
	fail("name/a")
	assert.Equal(t, 2*firstWait, tr.begin("name/a"))
	for range 40 {
		fail("name/a")
	}
	assert.Equal(t, longestWait, tr.begin("name/a"))
	now = now.Add(longestWait)
	require.Zero(t, tr.begin("name/a"))
	tr.end(true, "name/a")
	require.Zero(t, tr.begin("name/a"))
	tr.end(true, "name/a")
	assert.Empty(t, tr.fails)

	// Many at once are no way around it, whatever order they end in.
	begun := 0
	for range 100 {
		if tr.begin("name/c", "address/192.0.2.1") == 0 {
			begun++
		}
	}
	assert.Equal(t, FreeFailures, begun)
	for range begun {
		tr.end(false, "name/c", "address/192.0.2.1")
	}
	assert.Equal(t, firstWait, tr.begin("name/c"))
	// An address that many share has more, and a success does not clear it.
	for i := range FreeFromAddress - FreeFailures {
		require.Zero(t, tr.begin(fmt.Sprint("name/x", i), "address/192.0.2.1"), "%d", i)
		tr.end(false, fmt.Sprint("name/x", i), "address/192.0.2.1")
	}
	assert.NotZero(t, tr.begin("name/y", "address/192.0.2.1"))
}

func TestRefusalsAreBounded(t *testing.T) {
	var r refusals
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	written := 0
	for range 10_000 {
		if write, left := r.count(at); write {
			written++
			assert.Zero(t, left)
		}
	}
	assert.Equal(t, refusalsAnHour, written)
	write, left := r.count(at.Add(time.Hour))
	assert.True(t, write)
	assert.Equal(t, 10_000-refusalsAnHour, left, "the others are told as a number")
}

func TestNamesThatPassForOthers(t *testing.T) {
	taken := []string{"ines", "Odile", "clara.lind"}
	for name, ok := range map[string]bool{
		"ben": true, "Ben-2": true, "måns": true, "иван": true, "ines2": true,
		"service": false, "Service": false, "sеrvice": false /* Cyrillic е */, "s3rvice": true, "5ervice": true, "servlce": false, "POLICY": false,
		"іnеѕ": false /* all Cyrillic, looks like ines */, "lnes": false, "ines\u202e": false, "in\u200bes": false, "ines ": true, /* trimmed: that is a conflict, told by the store */
		"odi1e": false, "clara_lind": false, "a/b": false, "": false, "a\nb": false, "ｉｎｅｓ": true, /* full width folds to ines: a conflict */
		"two words": false,
	} {
		prepared, err := checkPersonName(name, taken)
		assert.Equal(t, ok, err == nil, "%q: %v", name, err)
		if name == "ｉｎｅｓ" || name == "ines " {
			assert.Equal(t, "ines", prepared)
		}
	}
}

func TestNewPasswordsThatAreCommon(t *testing.T) {
	for text, ok := range map[string]bool{
		password: true, "correct horse battery": true, "vF7#kq9!Lw2x": true,
		"short": false, "password1234": false, "PasswordPassword": false, "qwertyuiop[]": false, "111111111111": false, "abcabcabcabcabc": false, "iloveyou2026": false, "mossledger2026": false, "ines-and-more-words": false,
		strings.Repeat("long ", 60): false,
	} {
		err := checkNewPassword("ines", secret.New(text))
		assert.Equal(t, ok, err == nil, "%q: %v", text, err)
	}
}
