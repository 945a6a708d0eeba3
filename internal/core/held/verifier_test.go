package held_test

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// made is what a server of old keeps, worked out beside the program.
func made(role, value string) string {
	sum := md5.Sum([]byte(value + role))
	return "md5" + hex.EncodeToString(sum[:])
}

const scramText = "SCRAM-SHA-256$4096:c2FsdHNhbHRzYWx0c2E=$c3RvcmVk:c2VydmVy"

// A list of users holds passwords, and what was derived of them; all of it is told with
// whose it is, and a file that only looks like one is not taken for one.
func TestUserLists(t *testing.T) {
	list := "; comment\n\"svc_old\" \"" + made("svc_old", "Berth-7-Quay") + "\" ; since 2014\n  \"svc \"\"the\"\" plain\"\t\"a \"\"b\"\" c\"\n\"svc_new\" \"" + scramText + "\"\n\"nobody\" \"\"\n"
	located, err := held.Locate("/etc/pgbouncer/userlist.txt", []byte(list), layout.HintNone, nil)
	require.NoError(t, err)
	require.Empty(t, located.Problems)
	require.Equal(t, layout.UserList, located.Layout)
	require.Len(t, located.Spans, 3)
	for i, want := range []struct {
		key, part  string
		line       int
		comparable bool
	}{{"svc_old", held.PartVerifier, 2, true}, {`svc "the" plain`, held.PartValue, 3, true}, {"svc_new", held.PartVerifier, 4, false}} {
		span := located.Spans[i]
		assert.Equal(t, want.key, span.Key)
		assert.Equal(t, want.part, span.Part)
		assert.Equal(t, want.line, span.Line)
		assert.Equal(t, []string{want.key}, span.Names)
		assert.True(t, span.Certain)
		assert.Equal(t, want.comparable, held.Comparable(span.Value), want.key)
		again, err := held.Find([]byte(list), span.Locator)
		require.NoError(t, err)
		assert.True(t, again.Value.Equal(span.Value), want.key)
	}
	assert.Equal(t, `a "b" c`, located.Spans[1].Value.RevealString())
	for name, other := range map[string]string{
		"a line that is something else": list + "listen = 5\n", "one word": "\"svc_old\"\n", "comments only": "; x\n\n", "an array": "\"a\" \"b\",\n\"c\" \"d\",\nx",
	} {
		located, err := held.Locate("/etc/x/list", []byte(other), layout.HintNone, nil)
		require.NoError(t, err, name)
		assert.NotEqual(t, layout.UserList, located.Layout, name)
	}
}

// What was derived of a value is of that one and of no other, for that role only; it is
// made of the next one, and back, and not a byte beside it changes.
func TestVerifiersAreMadeAnew(t *testing.T) {
	old, next := secret.New("Berth-7-Quay"), secret.New(`Harbour "9" ü`)
	list := "\"svc_old\" \"" + made("svc_old", "Berth-7-Quay") + "\" ; since 2014\n\"svc_else\" \"" + made("svc_else", "Berth-7-Quay") + "\"\n\"svc_new\" \"" + scramText + "\"\n\"plain\" \"Berth-7-Quay\"\n"
	place := held.Locator{Layout: layout.UserList, Key: "svc_old", Part: held.PartVerifier}
	span, err := held.Find([]byte(list), place)
	require.NoError(t, err)
	assert.True(t, held.Same(layout.UserList, span.Value, old))
	assert.True(t, held.Same(layout.UserList, old, span.Value), "in either order")
	assert.True(t, held.Same(layout.UserList, span.Value, span.Value))
	assert.False(t, held.Same(layout.UserList, span.Value, next))
	assert.False(t, held.Same(layout.UserList, span.Value, secret.New(made("svc_old", "Berth-7-Quay"))), "the verifier is no password")
	other, err := held.Find([]byte(list), held.Locator{Layout: layout.UserList, Key: "svc_else", Part: held.PartVerifier})
	require.NoError(t, err)
	assert.False(t, held.Same(layout.UserList, span.Value, other.Value))
	assert.NotContains(t, fmt.Sprintf("%v %+v %s", span.Value, span.Value, span.Value), "md5", "as secret as the password")

	changed, err := held.Replace([]byte(list), place, old, next)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(list, made("svc_old", "Berth-7-Quay"), made("svc_old", `Harbour "9" ü`), 1), string(changed))
	back, err := held.Replace(changed, place, next, old)
	require.NoError(t, err)
	assert.Equal(t, list, string(back))

	plain, err := held.Replace([]byte(list), held.Locator{Layout: layout.UserList, Key: "plain", Part: held.PartValue}, old, next)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(plain), "\"plain\" \"Harbour \"\"9\"\" ü\"\n"))
	for name, c := range map[string]struct {
		key, part string
		value     secret.Value
		want      error
	}{
		"the server's own":     {"svc_new", held.PartVerifier, next, layout.ErrCannotCarry},
		"no verifier":          {"plain", held.PartVerifier, next, layout.ErrNotThere},
		"nobody":               {"svc_gone", held.PartVerifier, next, layout.ErrNotThere},
		"a value of two lines": {"plain", held.PartValue, secret.New("a\nb"), layout.ErrCannotCarry},
	} {
		_, err := held.Replace([]byte(list), held.Locator{Layout: layout.UserList, Key: c.key, Part: c.part}, old, c.value)
		assert.ErrorIs(t, err, c.want, name)
	}
}
