package held

import (
	"strings"
	"testing"
	"time"

	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// keyTab is one as another program writes it.
func keyTab(t *testing.T, password string, version uint8, principals ...string) []byte {
	tab := keytab.New()
	for _, p := range principals {
		for _, kind := range []int32{17, 18} {
			require.NoError(t, tab.AddEntry(p, "LARKMOOR.EXAMPLE", password, time.Unix(1700000000, 0), version, kind))
		}
	}
	raw, err := tab.Marshal()
	require.NoError(t, err)
	return raw
}

// A key tab is a copy like others: found, compared and replaced by a value, although the
// value does not stand in it.
func TestAKeyTabIsACopy(t *testing.T) {
	old, next, other := secret.New("Old-Passw0rd-1"), secret.New("Next-Passw0rd-2"), secret.New("Other-Passw0rd-3")
	content := keyTab(t, old.RevealString(), 3, "svc-tide", "HTTP/quay1.larkmoor.example")
	at := Locator{Layout: layout.KeyTab, Key: "svc-tide@LARKMOOR.EXAMPLE", Part: PartValue, Salts: "LARKMOOR.EXAMPLEwrong\nLARKMOOR.EXAMPLEsvc-tide"}
	span, err := Find(content, at)
	require.NoError(t, err)
	assert.True(t, Same(layout.KeyTab, span.Value, old))
	assert.True(t, Same(layout.KeyTab, old, span.Value))
	assert.True(t, Same(layout.KeyTab, span.Value, span.Value))
	assert.False(t, Same(layout.KeyTab, span.Value, next))
	assert.False(t, Same(layout.KeyTab, span.Value, secret.Value{}), "no value has made it")
	assert.True(t, Same(layout.KeyTab, old, old))

	after, err := Replace(content, at, old, next)
	require.NoError(t, err)
	span, err = Find(after, at)
	require.NoError(t, err)
	assert.True(t, Same(layout.KeyTab, span.Value, next))
	assert.False(t, Same(layout.KeyTab, span.Value, old))
	// The other principal has the old one still: it has a place of its own.
	beside := Locator{Layout: layout.KeyTab, Key: "HTTP/quay1.larkmoor.example@LARKMOOR.EXAMPLE", Part: PartValue, Salts: "LARKMOOR.EXAMPLEHTTPquay1.larkmoor.example"}
	span, err = Find(after, beside)
	require.NoError(t, err)
	assert.True(t, Same(layout.KeyTab, span.Value, old))
	both, err := Replace(after, beside, old, next)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(both), string(content)), "what was there stays, in its place")
	// Again, and in the way of a retry after a lost answer, nothing is added.
	again, err := Replace(both, at, old, next)
	require.NoError(t, err)
	assert.Equal(t, both, again)
	back, err := Replace(both, at, next, old)
	require.NoError(t, err)
	newest, err := keys.NewestKeys(back, at.Key)
	require.NoError(t, err)
	assert.Equal(t, 5, newest.Version)

	// Somebody else's keys are not added to, and a salt that is not known is not guessed.
	_, err = Replace(content, at, other, next)
	require.ErrorIs(t, err, layout.ErrCannotCarry)
	assert.ErrorContains(t, err, "made neither of the old nor of the new value")
	at.Salts = "LARKMOOR.EXAMPLEwrong"
	_, err = Replace(content, at, old, next)
	require.ErrorIs(t, err, layout.ErrCannotCarry)
	at.Key = "svc-gone@LARKMOOR.EXAMPLE"
	_, err = Replace(content, at, old, next)
	require.ErrorIs(t, err, layout.ErrNotThere)
	_, err = Find([]byte("PASSWORD=x\n"), at)
	assert.Error(t, err)
	for _, words := range []string{old.RevealString(), next.RevealString(), other.RevealString()} {
		assert.NotContains(t, err.Error(), words)
	}
}

// Replace is Splice for everything that is not derived.
func TestReplaceIsSpliceElsewhere(t *testing.T) {
	content := []byte("# tides\nTIDE_PASSWORD='Old-1'\n")
	at := Locator{Layout: layout.Env, Key: "TIDE_PASSWORD", Part: PartValue}
	a, errA := Splice(content, at, secret.New("New-2"))
	b, errB := Replace(content, at, secret.New("whatever"), secret.New("New-2"))
	require.NoError(t, errA)
	require.NoError(t, errB)
	assert.Equal(t, a, b)
}
