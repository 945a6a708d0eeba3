package keys

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// The key of RFC 7638, section 3.1, has the number that stands there.
func TestNumberOfTheStandardsExample(t *testing.T) {
	n, err := base64.RawURLEncoding.DecodeString("0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw")
	require.NoError(t, err)
	number, err := Number(&rsa.PublicKey{N: new(big.Int).SetBytes(n), E: 65537})
	require.NoError(t, err)
	assert.Equal(t, "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs", number)
}

func TestIntroduce(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	for _, kind := range IssuedTypes() {
		private, err := Draw(kind, rand.Reader)
		require.NoError(t, err)
		number, err := NumberOf(private)
		require.NoError(t, err)
		pair, err := PairOf(private)
		require.NoError(t, err)
		byLine, err := NumberOfLine(pair.Line)
		require.NoError(t, err)
		assert.Equal(t, number, byLine)

		for _, until := range []time.Time{now.Add(90 * 24 * time.Hour), {}} {
			text, err := Introduce(private, "kiosktimes@feeds.larkmoor.example", now, until, rand.Reader)
			require.NoError(t, err)
			read, err := ReadIntroduced(text)
			require.NoError(t, err)
			want := until
			if want.IsZero() {
				want = NoEnd
			}
			assert.Equal(t, Introduced{ID: number, Fingerprint: pair.Fingerprint, From: now, Until: want}, read)
			assert.NotContains(t, text, "PRIVATE")

			// OpenSSL, which we did not write, reads it, and finds that the key signed it.
			cmd := exec.CommandContext(t.Context(), "openssl", "x509", "-noout", "-enddate", "-subject")
			cmd.Stdin = strings.NewReader(text)
			said, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", said)
			assert.Contains(t, string(said), "notAfter="+want.Format("Jan _2 15:04:05 2006")+" GMT")
			assert.Contains(t, string(said), "kiosktimes@feeds.larkmoor.example")
			block, _ := pem.Decode([]byte(text))
			c, err := x509.ParseCertificate(block.Bytes)
			require.NoError(t, err)
			require.NoError(t, c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature))
		}
	}
}

func TestKeysThatIssuersDoNotTake(t *testing.T) {
	small, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	other, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	for name, key := range map[string]crypto.Signer{"small": small, "of another curve": other} {
		raw, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		private := secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
		_, err = NumberOf(private)
		require.ErrorIs(t, err, ErrNoNumber, name)
		_, err = Introduce(private, "x", time.Now(), time.Time{}, rand.Reader)
		require.ErrorIs(t, err, ErrNoNumber, name)
		template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
		require.NoError(t, err)
		_, err = ReadIntroduced(string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
		require.ErrorIs(t, err, ErrNoNumber, name)
	}
	ed, err := Draw("ssh-ed25519", rand.Reader)
	require.NoError(t, err)
	_, err = NumberOf(ed)
	require.ErrorIs(t, err, ErrNoNumber)

	private, err := Draw("ecdsa-sha2-nistp256", rand.Reader)
	require.NoError(t, err)
	good, err := Introduce(private, "x", time.Now(), time.Time{}, rand.Reader)
	require.NoError(t, err)
	for words, text := range map[string]string{
		"no certificate in PEM":      "",
		"this is a PRIVATE KEY":      private.RevealString(),
		"there are several":          good + good,
		"cannot be read":             "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
		"no certificate in PEM ":     "eyJhbGciOiJub25lIn0.e30.",
		"certificate cannot be read": strings.Replace(good, "\nMI", "\nMJ", 1),
	} {
		_, err := ReadIntroduced(text)
		require.ErrorContains(t, err, strings.TrimSpace(words))
		assert.NotContains(t, err.Error(), "BEGIN")
	}
}
