package keys

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file of a certificate is judged as a server would take it: the first one is its own, those
// after it signed the one before, and the key beside it is the first one's.
func TestChainsInFiles(t *testing.T) {
	made := func(name string, by *x509.Certificate, signer *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey, string, string) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: name}, NotBefore: time.Unix(1700000000, 0), NotAfter: time.Unix(1800000000, 0), IsCA: name != "site", BasicConstraintsValid: true}
		if name == "site" {
			template.DNSNames = []string{"booking.larkmoor.example"}
		}
		if by == nil {
			by, signer = template, key
		}
		raw, err := x509.CreateCertificate(rand.Reader, template, by, &key.PublicKey, signer)
		require.NoError(t, err)
		c, err := x509.ParseCertificate(raw)
		require.NoError(t, err)
		private, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		return c, key, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	}
	root, rootKey, rootPEM, _ := made("root", nil, nil)
	middle, middleKey, middlePEM, _ := made("middle", root, rootKey)
	_, _, site, siteKey := made("site", middle, middleKey)
	_, _, _, otherKey := made("site", middle, middleKey)
	for name, c := range map[string]struct{ content, trouble string }{
		"in order":            {site + middlePEM + rootPEM, ""},
		"with its key":        {siteKey + site + middlePEM, ""},
		"key in between":      {site + siteKey + middlePEM, ""},
		"alone":               {site, ""},
		"in the wrong order":  {site + rootPEM + middlePEM, "certificate 2 (CN=root) did not sign the one before it"},
		"its own one last":    {siteKey + middlePEM + site, "certificate 2 is that of the key"},
		"another one's key":   {otherKey + site + middlePEM, "the private key beside it is not its own"},
		"a list of roots":     {rootPEM + middlePEM, ""},
		"with text around it": {"Bag Attributes\n" + site + "\nsubject=x\n" + middlePEM, ""},
	} {
		_, list := ParsePEM([]byte(c.content))
		require.NotEmpty(t, list, name)
		if c.trouble == "" {
			assert.Empty(t, list[0].Trouble, name)
		} else {
			assert.Contains(t, list[0].Trouble, c.trouble, name)
		}
		for _, other := range list[1:] {
			assert.Empty(t, other.Trouble, name)
		}
	}
	_, list := ParsePEM([]byte(site))
	assert.Equal(t, []string{"booking.larkmoor.example"}, list[0].Names)

	// OpenSSL agrees about which chain is one.
	folder := t.TempDir()
	for file, content := range map[string]string{"root": rootPEM, "middle": middlePEM, "site": site} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, file), []byte(content), 0o600))
	}
	out, err := exec.CommandContext(t.Context(), "openssl", "verify", "-attime", "1750000000", "-CAfile", filepath.Join(folder, "root"), "-untrusted", filepath.Join(folder, "middle"), filepath.Join(folder, "site")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	out, err = exec.CommandContext(t.Context(), "openssl", "verify", "-attime", "1750000000", "-CAfile", filepath.Join(folder, "root"), filepath.Join(folder, "site")).CombinedOutput()
	require.Error(t, err, "%s", out)
}

// Who shows a certificate writes its names: they are one line each, and not too long.
func TestNamesOfCertificatesAreClipped(t *testing.T) {
	d := Describe(&x509.Certificate{Subject: pkix.Name{CommonName: "a\nb\x1b[31m" + strings.Repeat("x", 5000)}, DNSNames: append(make([]string, 0, 99), strings.Split(strings.Repeat("n,", 99), ",")...), NotAfter: time.Unix(1, 0)})
	assert.NotContains(t, d.Subject, "\n")
	assert.NotContains(t, d.Subject, "\x1b")
	assert.LessOrEqual(t, len([]rune(d.Subject)), 301)
	assert.Len(t, d.Names, 20)
}
