package held

import (
	"crypto/rand"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

var inKeyFile = Locator{Layout: layout.KeyFile, Part: PartValue}

func drawn(t *testing.T, kind string) secret.Value {
	t.Helper()
	key, err := keys.Draw(kind, rand.Reader)
	require.NoError(t, err)
	return key
}

// Key and number are replaced together, whatever the document looks like, and every other byte
// stays: another JSON parser reads the pair afterwards, and going back gives back the bytes.
func TestKeyFilesAreReplacedWhole(t *testing.T) {
	old, next := drawn(t, "ssh-rsa"), drawn(t, "ecdsa-sha2-nistp256")
	number, err := keys.NumberOf(old)
	require.NoError(t, err)
	quoted, err := json.Marshal(old.RevealString())
	require.NoError(t, err)
	for name, content := range map[string]string{
		"usual":             "{\n  \"project_id\": \"feeds\",\n  \"private_key_id\": \"" + number + "\",\n  \"private_key\": " + string(quoted) + ",\n  \"client_email\": \"a@feeds.example\"\n}\n",
		"one line":          `{"private_key":` + string(quoted) + `,"private_key_id":"` + number + `"}`,
		"with another pair": `{"nested":{"private_key":"x","private_key_id":"y"},"private_key_id":"` + number + `","private_key":` + string(quoted) + `}`,
		"dos":               "{\r\n\t\"private_key_id\": \"" + number + "\",\r\n\t\"private_key\": " + strings.ReplaceAll(string(quoted), `\n`, `\r\n`) + "\r\n}",
		"no last line end":  `{"private_key":` + strings.Replace(string(quoted), `\n"`, `"`, 1) + `,"private_key_id":"` + number + `"}`,
		"a byte order mark": "\xef\xbb\xbf" + `{"private_key":` + string(quoted) + `,"private_key_id":"` + number + `"}`,
		"escapes":           `{"private_key":` + strings.ReplaceAll(string(quoted), "-----", `-\u002d---`) + `,"private_key_id":"` + number + `","note":"\u00e9"}`,
	} {
		found, err := Find([]byte(content), inKeyFile)
		require.NoError(t, err, name)
		assert.True(t, Same(layout.KeyFile, found.Value, old), name)
		out, err := Replace([]byte(content), inKeyFile, old, next)
		require.NoError(t, err, name)
		var read struct {
			Private string `json:"private_key"`
			Number  string `json:"private_key_id"`
		}
		require.NoError(t, json.Unmarshal([]byte(strings.TrimPrefix(string(out), "\xef\xbb\xbf")), &read), name)
		assert.True(t, keys.Same(secret.New(read.Private), next), name)
		own, err := keys.NumberOf(next)
		require.NoError(t, err)
		assert.Equal(t, own, read.Number, name)
		assert.NotContains(t, string(out), number, name)
		again, err := Replace(out, inKeyFile, old, next)
		require.NoError(t, err, name)
		assert.Equal(t, out, again, "%s: twice is as once", name)
		if name == "escapes" { // how characters were escaped is not kept
			continue
		}
		back, err := Replace(out, inKeyFile, next, old)
		require.NoError(t, err, name)
		assert.Equal(t, content, string(back), name)
	}
}

func TestKeyFilesThatAreNotReplaced(t *testing.T) {
	old, next := drawn(t, "ssh-rsa"), drawn(t, "ecdsa-sha2-nistp256")
	quoted, err := json.Marshal(old.RevealString())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		content string
		err     error
	}{
		"no number":        {`{"private_key":` + string(quoted) + `}`, layout.ErrNotThere},
		"no key":           {`{"private_key_id":"x","private_key":"y"}`, layout.ErrNotThere},
		"twice":            {`{"private_key_id":"x","private_key_id":"y","private_key":` + string(quoted) + `}`, layout.ErrCannotCarry},
		"no JSON":          {`private_key_id: x`, layout.ErrNotThere},
		"another document": {`[{"private_key_id":"x","private_key":` + string(quoted) + `}]`, layout.ErrNotThere},
	} {
		_, err := Replace([]byte(c.content), inKeyFile, old, next)
		require.ErrorIs(t, err, c.err, name)
		assert.NotContains(t, err.Error(), "PRIVATE", name)
	}
	// A key that issuers do not take is written nowhere.
	_, err = Replace([]byte(`{"private_key_id":"x","private_key":`+string(quoted)+`}`), inKeyFile, old, drawn(t, "ssh-ed25519"))
	require.ErrorIs(t, err, layout.ErrCannotCarry)
}
