package held

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

func TestLocateAndSplice(t *testing.T) {
	for name, c := range map[string]struct {
		hint    layout.Hint
		content string
		place   string
		line    int
		value   string
		names   string
		next    string
		want    string
	}{
		"plain":              {layout.HintEnv, "A=1\nDB_PASSWORD=old\nB=2\n", "DB_PASSWORD", 2, "old", "", "new-1", "A=1\nDB_PASSWORD=new-1\nB=2\n"},
		"CRLF, no final":     {layout.HintEnv, "# x\r\nPW=old\r\nLAST=1", "PW", 2, "old", "", "new", "# x\r\nPW=new\r\nLAST=1"},
		"byte order mark":    {layout.HintEnv, "\xef\xbb\xbfPASSWORD=old", "PASSWORD", 1, "old", "", "new", "\xef\xbb\xbfPASSWORD=new"},
		"double quotes kept": {layout.HintEnv, `PASSWORD="o\"l d"` + "\n", "PASSWORD", 1, `o"l d`, "", `n$w`, `PASSWORD="n\$w"` + "\n"},
		"single quotes kept": {layout.HintEnv, "PASSWORD='o ld' \n", "PASSWORD", 1, "o ld", "", "n w", "PASSWORD='n w' \n"},
		"quotes added":       {layout.HintEnv, "PASSWORD=old\n", "PASSWORD", 1, "old", "", "n w#", "PASSWORD='n w#'\n"},
		"both quotes inside": {layout.HintEnv, "PASSWORD=old\n", "PASSWORD", 1, "old", "", `a'b"c`, "PASSWORD=\"a'b\\\"c\"\n"},
		"export, blanks":     {layout.HintEnv, "  export PASSWORD=old   \nX=1\n", "PASSWORD", 1, "old", "", "new", "  export PASSWORD=new   \nX=1\n"},
		"name beside":        {layout.HintEnv, "DB_USER=other\nBERTH_USER=svc-berth\nBERTH_PASSWORD=old\n", "BERTH_PASSWORD", 3, "old", "svc-berth", "new", "DB_USER=other\nBERTH_USER=svc-berth\nBERTH_PASSWORD=new\n"},
		"url":                {layout.HintEnv, "URL='postgres://svc%40x:o%2Fld@db:5432/b?x=1'\n", "URL:url", 1, "o/ld", "svc@x", "n@w", "URL='postgres://svc%40x:n%40w@db:5432/b?x=1'\n"},
		"conf":               {layout.HintNone, "[a]\nuser = svc\npassword = old value  \nx=1\n", "a/password", 3, "old value", "svc", "new value", "[a]\nuser = svc\npassword = new value  \nx=1\n"},
		"whole":              {layout.HintCredential, "old secret=with=equals\n", "content", 1, "old secret=with=equals", "", "new", "new\n"},
		"whole url":          {layout.HintCredential, "ldaps://u:old@h/", "content:url", 1, "old", "u", "new", "ldaps://u:new@h/"},
		"json":               {layout.HintNone, "{\n  // by hand\n  \"db\": {\"user\": \"svc\", \"password\": \"o\\u0022ld\",},\n  \"retries\": 3,\n}\n", "/db/password", 3, `o"ld`, "svc", `n"\<é`, "{\n  // by hand\n  \"db\": {\"user\": \"svc\", \"password\": \"n\\\"\\\\<é\",},\n  \"retries\": 3,\n}\n"},
		"json url, array":    {layout.HintNone, "\xef\xbb\xbf[ {\"dsn\":\"postgres://svc:o%2Fld@db/b\"} ]\r\n", "/0/dsn:url", 1, "o/ld", "svc", "n/w", "\xef\xbb\xbf[ {\"dsn\":\"postgres://svc:n%2Fw@db/b\"} ]\r\n"},
		"json one line":      {layout.HintCredential, `{"a/b":{"token":"old"}}`, "/a~1b/token", 1, "old", "", "new", `{"a/b":{"token":"new"}}`},
		"yaml":               {layout.HintNone, "# by hand\n---\ndb: {user: svc, password: old}  # flow\nretries: 3\n", "/db/password", 3, "old", "svc", "n, w", "# by hand\n---\ndb: {user: svc, password: \"n, w\"}  # flow\nretries: 3\n"},
		"yaml quotes kept":   {layout.HintNone, "a:\r\n  - user: 'svc'\r\n    password: 'o''ld' # x\r\n", "/a/0/password", 3, "o'ld", "svc", "n'w", "a:\r\n  - user: 'svc'\r\n    password: 'n''w' # x\r\n"},
		"yaml anchor":        {layout.HintNone, "base: &pw \"öld\\t\"\npassword: &p !!str öld\nuse: *p\n", "/password", 2, "öld", "", "true", "base: &pw \"öld\\t\"\npassword: &p !!str \"true\"\nuse: *p\n"},
		"yaml documents":     {layout.HintNone, "a: 1\n---\nurl: postgres://svc:o%2Fld@db/b\n", "document 2:/url:url", 3, "o/ld", "svc", "n/w", "a: 1\n---\nurl: postgres://svc:n%2Fw@db/b\n"},
		"multi-line value":   {layout.HintEnv, "A=\"x\ny\"\nTOKEN=old\n", "TOKEN", 3, "old", "", "new", "A=\"x\ny\"\nTOKEN=new\n"},
	} {
		t.Run(name, func(t *testing.T) {
			located, err := Locate("", []byte(c.content), c.hint, nil)
			require.NoError(t, err)
			require.Len(t, located.Spans, 1, "%+v", located)
			span := located.Spans[0]
			assert.Equal(t, c.place, span.Locator.String())
			assert.Equal(t, c.line, span.Line)
			assert.Equal(t, c.value, span.Value.RevealString())
			assert.Equal(t, c.names, strings.Join(span.Names, " "))
			out, err := Splice([]byte(c.content), span.Locator, secret.New(c.next))
			require.NoError(t, err)
			assert.Equal(t, c.want, string(out))
			back, err := Splice(out, span.Locator, span.Value)
			require.NoError(t, err)
			again, err := Find(back, span.Locator)
			require.NoError(t, err)
			assert.True(t, again.Value.Equal(span.Value))
		})
	}
}

func TestDuplicateKeysAndBrokenLines(t *testing.T) {
	content := "PASSWORD=one\nthis is nothing\nPASSWORD=two\nQUOTE_PASSWORD=\"never closed\nX=1\n"
	located, err := Locate("", []byte(content), layout.HintEnv, nil)
	require.NoError(t, err)
	var lines []int
	for _, p := range located.Problems {
		lines = append(lines, p.Line)
	}
	assert.ElementsMatch(t, []int{2, 3, 4}, lines, "%+v", located.Problems)
	require.Len(t, located.Spans, 2)
	assert.Equal(t, "PASSWORD[2]", located.Spans[1].Locator.String())
	out, err := Splice([]byte(content), located.Spans[1].Locator, secret.New("three"))
	require.NoError(t, err)
	assert.Contains(t, string(out), "PASSWORD=one\n")
	assert.Contains(t, string(out), "PASSWORD=three\n")
}

func TestWhatCannotBeReadOrCarried(t *testing.T) {
	for name, content := range map[string]string{"binary": "A=\x00", "too large": strings.Repeat("x", MaxSize+1)} {
		_, err := Locate("", []byte(content), layout.HintEnv, nil)
		assert.Error(t, err, name)
	}
	at := Locator{Layout: layout.Env, Key: "PASSWORD", Part: PartValue}
	_, err := Splice([]byte("PASSWORD=x\n"), at, secret.New("two\nlines"))
	assert.ErrorIs(t, err, layout.ErrCannotCarry)
	_, err = Splice([]byte("OTHER=x\n"), at, secret.New("y"))
	assert.ErrorIs(t, err, layout.ErrNotThere)
	_, err = Splice([]byte("[s]\npassword = x\n"), Locator{Layout: layout.Conf, Key: "s/password", Part: PartValue}, secret.New(" blank"))
	assert.ErrorIs(t, err, layout.ErrCannotCarry)
	located, err := Locate("", []byte("PASSWORD_FILE=/etc/pw\nPASSWORD_MIN_LENGTH=12\nEMPTY_PASSWORD=\nDOC=http://example/\n"), layout.HintEnv, nil)
	require.NoError(t, err)
	assert.Empty(t, located.Spans, "names of files, policies, empty values and URLs without a password are no secrets")
	located, err = Locate("", []byte("ODD=known-value\n"), layout.HintEnv, func(v secret.Value) bool { return v.RevealString() == "known-value" })
	require.NoError(t, err)
	assert.Len(t, located.Spans, 1, "a known value is found whatever its key")
}

func TestJSONThatIsNone(t *testing.T) {
	for content, words := range map[string]string{
		"{\n\"password\": \"never ends\n}": "line 2", `{"password": nope}`: "is no value", `{"password": "x"} trailing`: "after the document", `{"password" "x"}`: "colon",
		strings.Repeat(`{"a":`, 200): "nested too deep", `{"password": "x" "y"}`: "comma", `{/* never ends`: "a comment does not end", `{"password": "\q"}`: "written wrongly",
	} {
		located, err := Locate("", []byte(content), layout.HintNone, nil)
		require.NoError(t, err)
		assert.Empty(t, located.Spans, content)
		if assert.NotEmpty(t, located.Problems, content) {
			assert.Contains(t, located.Problems[0].What, words, content)
		}
	}
	located, err := Locate("", []byte("[office]\npassword = x\n"), layout.HintNone, nil)
	require.NoError(t, err)
	assert.Equal(t, layout.Conf, located.Layout, "sections are no arrays")
	located, err = Locate("", []byte(`{"password":"a","password":"b","password_file":"/x","n":{"password":""}}`), layout.HintNone, nil)
	require.NoError(t, err)
	require.Len(t, located.Spans, 2)
	assert.Equal(t, "/password[2]", located.Spans[1].Locator.String())
	assert.Len(t, located.Problems, 1)
}

func TestYAMLThatIsNotEdited(t *testing.T) {
	for name, content := range map[string]string{
		"a folded block":  "password: >\n  several\n  lines\n",
		"several lines":   "password: several\n  lines\n",
		"an alias":        "base: &p x\nother:\n  password: *p\n",
		"a key like none": "Note: this is prose.\nIt goes on = like this: yes\n",
		"a bomb":          "a: &a [x,x,x,x]\nb: &b [*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b]\nd: [*c,*c,*c,*c]\n",
	} {
		located, err := Locate("", []byte(content), layout.HintNone, nil)
		require.NoError(t, err)
		assert.Empty(t, located.Spans, name)
	}
	for content, want := range map[string]layout.Layout{"a = b: c\n": layout.Conf, "KEY=value: x\n": layout.Env, "[s]\na: b\n": layout.Conf, "a: b\nc: d\n": layout.YAML} {
		located, err := Locate("", []byte(content), layout.HintNone, nil)
		require.NoError(t, err)
		assert.Equal(t, want, located.Layout, content)
	}
}

// Whatever the file: a splice changes only the bytes of the span, and what was
// written reads back.
func FuzzSplice(f *testing.F) {
	for _, seed := range []string{"PASSWORD=x\n", "a = b\npassword = 'c'\n", "URL=http://u:p@h/\r\n", "X_TOKEN=\"a\\\"b\"", "secret", "P_PW=a'b'\"c\"d\n#x\n"} {
		f.Add([]byte(`{"a":[{"password":"x"},], /* c */ "u":"http://s:p@h"}`), seed, uint8(1))
		f.Add([]byte("a: {password: x}\n---\n- token: 'y''z' # c\n  pw: &a !!str \"q\\n\"\n"), seed, uint8(1))
		f.Add([]byte(seed), "New-Value.1", uint8(0))
		f.Add([]byte(seed), "a'b\"c $d\\e", uint8(1))
	}
	f.Fuzz(func(t *testing.T, content []byte, value string, hint uint8) {
		h := []layout.Hint{layout.HintEnv, layout.HintNone, layout.HintCredential}[int(hint)%3]
		located, err := Locate("", content, h, nil)
		if err != nil || value == "" {
			return
		}
		for _, span := range located.Spans {
			require.LessOrEqual(t, span.End, len(content))
			out, err := Splice(content, span.Locator, secret.New(value))
			if err != nil {
				continue
			}
			require.Equal(t, content[:span.Start], out[:span.Start])
			tail := content[span.End:]
			require.True(t, bytes.HasSuffix(out, tail))
			again, err := Find(out, span.Locator)
			require.NoError(t, err)
			require.Equal(t, value, again.Value.RevealString())
		}
	})
}

// A private key is replaced in the way it was written down, and nothing else.
func TestPrivateKeyInAFile(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	block := func(kind string) string {
		v, err := keys.Recode(secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(rsaKey)})), kind)
		require.NoError(t, err)
		return v.RevealString()
	}
	for _, end := range []string{"\n", "\r\n"} {
		content := strings.ReplaceAll("# first\n"+block("PRIVATE KEY")+"between\n"+block("RSA PRIVATE KEY")+"# last", "\n", end)
		place := Locator{Layout: layout.PEM, Nth: 1, Part: PartValue}
		span, err := Find([]byte(content), place)
		require.NoError(t, err)
		fresh, err := keys.Generate(span.Value, "", rand.Reader)
		require.NoError(t, err)
		pkcs8, err := keys.Recode(fresh, "PRIVATE KEY")
		require.NoError(t, err)
		out, err := Splice([]byte(content), place, pkcs8)
		require.NoError(t, err)
		after, err := Find(out, place)
		require.NoError(t, err)
		assert.True(t, Same(layout.PEM, after.Value, fresh))
		assert.Contains(t, after.Value.RevealString(), "BEGIN RSA PRIVATE KEY")
		assert.Equal(t, content[:span.Start], string(out[:after.Start]))
		assert.Equal(t, content[span.End:], string(out[after.End:]))
		_, err = Splice([]byte(content), place, secret.New("no key"))
		require.ErrorIs(t, err, layout.ErrCannotCarry)
		_, err = Find([]byte(content), Locator{Layout: layout.PEM, Nth: 2, Part: PartValue})
		require.ErrorIs(t, err, layout.ErrNotThere)
	}
}
