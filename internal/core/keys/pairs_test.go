package keys

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
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

func keyAs(t testing.TB, bits int, blockType string) secret.Value {
	k, err := rsa.GenerateKey(rand.Reader, bits)
	require.NoError(t, err)
	v, err := write(k, blockType)
	require.NoError(t, err)
	return v
}

func TestGenerateGoesWhereTheOldOneStands(t *testing.T) {
	rsaOld := keyAs(t, 2048, "RSA PRIVATE KEY")
	weak := keyAs(t, 1024, "RSA PRIVATE KEY")
	for _, c := range []struct {
		like         secret.Value
		wanted, kind string
		block        string
	}{
		{rsaOld, "", ssh.KeyAlgoRSA, "RSA PRIVATE KEY"},
		{rsaOld, ssh.KeyAlgoED25519, ssh.KeyAlgoED25519, "OPENSSH PRIVATE KEY"}, // PKCS #1 cannot carry it
		{rsaOld, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA256, "OPENSSH PRIVATE KEY"},
		{weak, "", ssh.KeyAlgoED25519, "OPENSSH PRIVATE KEY"},
	} {
		fresh, err := Generate(c.like, c.wanted, rand.Reader)
		require.NoError(t, err)
		p, err := PairOf(fresh)
		require.NoError(t, err)
		assert.Equal(t, c.kind, p.Type)
		assert.True(t, strings.HasPrefix(p.Line, p.Type+" AAAA"))
		assert.Equal(t, c.block, Blocks(fresh.Reveal())[0].Type)
		for _, way := range []string{"RSA PRIVATE KEY", "EC PRIVATE KEY", "PRIVATE KEY", "OPENSSH PRIVATE KEY"} {
			again, err := Recode(fresh, way)
			require.NoError(t, err)
			assert.True(t, Same(fresh, again), "%s as %s", c.kind, way)
		}
		assert.False(t, Same(fresh, c.like))
	}
	_, err := Generate(rsaOld, "ssh-dss", rand.Reader)
	require.Error(t, err)
	closed, err := ssh.MarshalPrivateKeyWithPassphrase(mustRaw(t, rsaOld), "", []byte("pass"))
	require.NoError(t, err)
	_, err = PairOf(secret.FromBytes(pem.EncodeToMemory(closed)))
	require.ErrorIs(t, err, ErrPassphrase)
	_, err = PairOf(secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: []byte("x")})))
	require.ErrorIs(t, err, ErrPassphrase)
	_, err = PairOf(secret.New("Berth-Quay-7!"))
	require.ErrorIs(t, err, ErrNoKey)
	require.NotContains(t, err.Error(), "Berth")
}

func mustRaw(t *testing.T, v secret.Value) *rsa.PrivateKey {
	block, _ := pem.Decode(v.Reveal())
	k, err := x509.ParsePKCS1PrivateKey(block.Bytes)
	require.NoError(t, err)
	return k
}

// Whatever else stands in the file: admitting a key and dismissing it again
// gives the file back byte for byte, and the entries get the old one's options.
func TestAdmitAndDismiss(t *testing.T) {
	var lines []string
	for range 3 {
		p, err := PairOf(mustGenerate(t))
		require.NoError(t, err)
		lines = append(lines, p.Line)
	}
	old, fresh, other := lines[0], lines[1], lines[2]
	for name, content := range map[string]string{
		"alone":               old + "\n",
		"no line end":         "# berth\n" + other + " x\n" + old,
		"options and comment": "from=\"192.0.2.0/24\",command=\"echo \\\"ssh-ed25519 no\\\"\" " + old + " backup of the berths\n" + other + "\n",
		"line ends of two":    "\r\n# c\r\n" + old + " a\r\n" + other + "\r\n",
		"twice":               old + " one\n\nrestrict " + old + " two\n",
		"blanks":              "  " + old + "   c \n not a key\n",
		"in a comment":        "# " + old + "\n" + old + "\n",
		"not text":            "\xff\xfe\x00\n" + old + "\n",
	} {
		with, err := Admit([]byte(content), old, fresh)
		require.NoError(t, err, name)
		assert.True(t, Lets(with, fresh) && Lets(with, old), name)
		again, err := Admit(with, old, fresh)
		require.NoError(t, err)
		assert.Equal(t, string(with), string(again), "%s: once is enough", name)
		back, err := Dismiss(with, fresh, old)
		require.NoError(t, err)
		assert.Equal(t, content, string(back), name)
		only, err := Dismiss(with, old, fresh)
		require.NoError(t, err)
		assert.False(t, Lets(only, old), name)
		was, _ := ParseAuthorized([]byte(content))
		now, _ := ParseAuthorized(only)
		require.Len(t, now, len(was), name)
		for i := range was {
			assert.Equal(t, was[i].Options, now[i].Options, name)
			assert.Equal(t, was[i].Comment, now[i].Comment, name)
		}
		_, err = Dismiss([]byte(content), old, fresh)
		require.ErrorIs(t, err, ErrEntries, "%s: the account would be shut", name)
		_, err = Admit([]byte("# "+old+"\n"), old, fresh)
		require.ErrorIs(t, err, ErrEntries, name)
	}
}

func mustGenerate(t testing.TB) secret.Value {
	v, err := Generate(keyAs(t, 1024, "RSA PRIVATE KEY"), ssh.KeyAlgoED25519, rand.Reader)
	require.NoError(t, err)
	return v
}

func FuzzEntries(f *testing.F) {
	old, err := PairOf(mustGenerate(f))
	require.NoError(f, err)
	fresh, err := PairOf(mustGenerate(f))
	require.NoError(f, err)
	f.Add([]byte("x\n"), []byte("restrict "), []byte(" c\r\n"))
	f.Fuzz(func(t *testing.T, before, options, after []byte) {
		content := append(append(append(append([]byte(nil), before...), options...), old.Line...), after...)
		with, err := Admit(content, old.Line, fresh.Line)
		if err != nil {
			return
		}
		back, err := Dismiss(with, fresh.Line, old.Line)
		if err != nil || !bytes.Equal(back, content) {
			t.Fatalf("%q became %q (%v)", content, back, err)
		}
	})
}
