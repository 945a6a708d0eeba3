package keys

import (
	"fmt"
	"testing"
	"time"

	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

const (
	tabPrincipal = "HTTP/quay1.larkmoor.example@LARKMOOR.EXAMPLE"
	tabSalt      = "LARKMOOR.EXAMPLEHTTPquay1.larkmoor.example"
)

// written makes a key tab with another program's writer, which salts with the principal.
func written(t *testing.T, password string, version uint8, kinds ...int32) []byte {
	tab := keytab.New()
	for _, kind := range kinds {
		require.NoError(t, tab.AddEntry("HTTP/quay1.larkmoor.example", "LARKMOOR.EXAMPLE", password, time.Unix(1700000000, 0), version, kind))
		require.NoError(t, tab.AddEntry("svc-other", "LARKMOOR.EXAMPLE", "Other-Passw0rd", time.Unix(1700000000, 0), 3, kind))
	}
	raw, err := tab.Marshal()
	require.NoError(t, err)
	return raw
}

// read asks another program's reader for a key.
func read(t *testing.T, content []byte, version int, kind int32) []byte {
	tab := keytab.New()
	require.NoError(t, tab.Unmarshal(content))
	key, at, err := tab.GetEncryptionKey(types.NewPrincipalName(1, "HTTP/quay1.larkmoor.example"), "LARKMOOR.EXAMPLE", version, kind)
	require.NoError(t, err, "version %d", version)
	require.Equal(t, version, at)
	return key.KeyValue
}

// Keys of the next password stand beside the former ones, as another program makes and
// reads them; nothing that stood there is touched.
func TestKeysAreAddedToATab(t *testing.T) {
	kinds := []int32{etypeID.AES256_CTS_HMAC_SHA1_96, etypeID.AES128_CTS_HMAC_SHA1_96, etypeID.RC4_HMAC}
	old, next := secret.New("Old-Passw0rd-1"), secret.New("N\u00e4chstes-Passw0rd-2")
	before := written(t, old.RevealString(), 4, kinds...)
	newest, err := NewestKeys(before, tabPrincipal)
	require.NoError(t, err)
	assert.Equal(t, 4, newest.Version)
	salt, made := newest.MadeOf(old, []string{"LARKMOOR.EXAMPLEsvc-http", tabSalt})
	require.True(t, made)
	assert.Equal(t, tabSalt, salt, "the keys tell which salt it was")
	_, made = newest.MadeOf(old, []string{"LARKMOOR.EXAMPLEsvc-http"})
	assert.False(t, made, "a salt that is not known proves nothing")
	_, made = newest.MadeOf(next, []string{tabSalt})
	assert.False(t, made)

	after, err := AddKeys(before, tabPrincipal, next, salt, 5)
	require.NoError(t, err)
	assert.Equal(t, before, after[:len(before)], "what was there stays")
	made5 := written(t, next.RevealString(), 5, kinds...)
	for _, kind := range kinds {
		assert.Equal(t, read(t, before, 4, kind), read(t, after, 4, kind), "tickets that were given out before")
		assert.Equal(t, read(t, made5, 5, kind), read(t, after, 5, kind), "tickets that are given out now")
	}
	again, err := AddKeys(after, tabPrincipal, next, salt, 5)
	require.NoError(t, err)
	assert.Equal(t, after, again, "once is enough")
	for _, version := range []int{0, 4, 5} {
		back, err := AddKeys(after, tabPrincipal, old, salt, version)
		require.NoError(t, err)
		assert.Equal(t, read(t, before, 4, kinds[0]), read(t, back, 6, kinds[0]), "undone: one more, which the authority is yet to reach")
	}
	late, err := AddKeys(after, tabPrincipal, old, salt, 9)
	require.NoError(t, err)
	assert.Equal(t, read(t, before, 4, kinds[0]), read(t, late, 9, kinds[0]), "the number that the authority has")
	big, err := AddKeys(after, tabPrincipal, old, salt, 300)
	require.NoError(t, err)
	newest, err = NewestKeys(big, tabPrincipal)
	require.NoError(t, err)
	assert.Equal(t, 300, newest.Version, "more than a byte")
}

func TestTabsThatAreNotAddedTo(t *testing.T) {
	whole := written(t, "Old-Passw0rd-1", 2, etypeID.AES256_CTS_HMAC_SHA1_96)
	for name, content := range map[string][]byte{
		"nothing": nil, "text": []byte("LDAP_PASSWORD=x\n"), "version 1": append([]byte{5, 1}, whole[2:]...), "cut": whole[:len(whole)-3], "ends in a size": append(append([]byte{}, whole...), 0, 0, 1, 0),
	} {
		_, err := AddKeys(content, tabPrincipal, secret.New("x"), tabSalt, 0)
		assert.Error(t, err, name)
	}
	_, err := AddKeys(whole, "HTTP/elsewhere@LARKMOOR.EXAMPLE", secret.New("x"), tabSalt, 0)
	assert.ErrorIs(t, err, ErrNoPrincipal)
	// RC4 needs no salt, and is made without one.
	rc4 := written(t, "Old-Passw0rd-1", 2, etypeID.RC4_HMAC)
	newest, err := NewestKeys(rc4, tabPrincipal)
	require.NoError(t, err)
	salt, made := newest.MadeOf(secret.New("Old-Passw0rd-1"), nil)
	assert.True(t, made)
	assert.Empty(t, salt)
	after, err := AddKeys(rc4, tabPrincipal, secret.New("Next-1"), salt, 3)
	require.NoError(t, err)
	assert.Equal(t, read(t, written(t, "Next-1", 3, etypeID.RC4_HMAC), 3, etypeID.RC4_HMAC), read(t, after, 3, etypeID.RC4_HMAC))
}

// Whatever stands in a file, reading its keys ends without a panic, and what is added to
// one that can be read is read back by another program.
func FuzzTabKeys(f *testing.F) {
	tab := keytab.New()
	_ = tab.AddEntry("HTTP/quay1.larkmoor.example", "LARKMOOR.EXAMPLE", "x", time.Unix(1, 0), 1, etypeID.RC4_HMAC)
	raw, _ := tab.Marshal()
	f.Add(raw, 3)
	f.Add([]byte{5, 2, 0, 0, 0, 4, 1, 2, 3, 4}, 0)
	f.Fuzz(func(t *testing.T, content []byte, version int) {
		out, err := AddKeys(content, tabPrincipal, secret.New("Next-1"), "", version%70000)
		if err != nil {
			return
		}
		newest, err := NewestKeys(out, tabPrincipal)
		require.NoError(t, err)
		require.Positive(t, newest.Version)
		_ = fmt.Sprint(newest.Version)
	})
}
