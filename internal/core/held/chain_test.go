package held

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// issued makes a key and its certificate, which authorities signed: their own follow it.
func issued(t testing.TB, name string, authorities int) (private secret.Value, list []*x509.Certificate) {
	t.Helper()
	var above *x509.Certificate
	var by *ecdsa.PrivateKey
	for i := range authorities + 1 {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		last := i == authorities
		template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name + strings.Repeat(" above", authorities-i)}, NotAfter: time.Now().AddDate(1, 0, 0), IsCA: !last, BasicConstraintsValid: true}
		parent, signer := template, key
		if above != nil {
			parent, signer = above, by
		}
		raw, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
		require.NoError(t, err)
		if above, err = x509.ParseCertificate(raw); err != nil {
			t.Fatal(err)
		}
		by = key
		list = append([]*x509.Certificate{above}, list...)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(by)
	require.NoError(t, err)
	return secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})), list
}

func chainPlace(nth int) Locator {
	return Locator{Layout: layout.Chain, Nth: nth, Part: PartValue}
}

// A certificate is replaced with those that signed it, in files of every shape, and no other
// byte; put back, the file is what it was.
func TestCertificatesAreReplaced(t *testing.T) {
	oldKey, oldList := issued(t, "site", 2)
	newKey, newList := issued(t, "site", 1)
	otherKey, otherList := issued(t, "other", 0)
	was, will := keys.With(oldKey, keys.Joined(oldList)), keys.With(newKey, keys.Joined(newList))
	for name, c := range map[string]struct {
		content string
		nth     int
		count   int // of certificates of the new one that are written
		back    secret.Value
	}{
		"a chain":              {keys.Joined(oldList), 0, 2, was},
		"without the root":     {keys.Joined(oldList[:2]), 0, 2, keys.With(oldKey, keys.Joined(oldList[:2]))},
		"alone":                {keys.Joined(oldList[:1]), 0, 1, was},
		"no end of its line":   {strings.TrimSpace(keys.Joined(oldList)), 0, 2, was},
		"after its key":        {"# the site\n" + oldKey.RevealString() + "\n" + keys.Joined(oldList) + "# end\n", 0, 2, was},
		"before its key":       {keys.Joined(oldList) + oldKey.RevealString(), 0, 2, was},
		"after another one":    {keys.Joined(otherList) + "\n" + otherKey.RevealString() + keys.Joined(oldList), 1, 2, was},
		"with other line ends": {strings.ReplaceAll("; a\n"+keys.Joined(oldList)+"; b\n", "\n", "\r\n"), 0, 2, was},
	} {
		span, err := Find([]byte(c.content), chainPlace(c.nth))
		require.NoError(t, err, name)
		assert.True(t, Same(layout.Chain, span.Value, oldKey), name)
		assert.False(t, Same(layout.Chain, span.Value, newKey), name)
		out, err := Replace([]byte(c.content), chainPlace(c.nth), was, will)
		require.NoError(t, err, name)
		again, err := Find(out, chainPlace(c.nth))
		require.NoError(t, err, name)
		assert.True(t, Same(layout.Chain, again.Value, will), name)
		list, err := keys.ReadChain(again.Value.RevealString())
		require.NoError(t, err, name)
		assert.Len(t, list, c.count, name)
		assert.Equal(t, c.content[:span.Start], string(out[:again.Start]), name)
		assert.Equal(t, c.content[span.End:], string(out[again.End:]), name)
		assert.NotContains(t, string(out[again.Start:again.End]), "PRIVATE KEY", name)
		twice, err := Replace(out, chainPlace(c.nth), was, will)
		require.NoError(t, err, name)
		assert.Equal(t, string(out), string(twice), "what is so already is left")
		back, err := Replace(out, chainPlace(c.nth), will, c.back)
		require.NoError(t, err, name)
		assert.Equal(t, c.content, string(back), name)
	}
}

// A key that is given with its certificate is written without it.
func TestKeysAreWrittenWithoutTheirCertificates(t *testing.T) {
	oldKey, oldList := issued(t, "site", 1)
	newKey, newList := issued(t, "site", 1)
	content := keys.Joined(oldList) + oldKey.RevealString()
	place := Locator{Layout: layout.PEM, Part: PartValue}
	out, err := Replace([]byte(content), place, keys.With(oldKey, keys.Joined(oldList)), keys.With(newKey, keys.Joined(newList)))
	require.NoError(t, err)
	assert.Equal(t, keys.Joined(oldList)+newKey.RevealString(), string(out))
}

func TestCertificatesThatCannotBeReplaced(t *testing.T) {
	oldKey, oldList := issued(t, "site", 1)
	newKey, _ := issued(t, "site", 0)
	for name, c := range map[string]struct {
		content string
		nth     int
		next    secret.Value
		err     error
	}{
		"no such number": {keys.Joined(oldList), 2, oldKey, layout.ErrNotThere},
		"below zero":     {keys.Joined(oldList), -1, oldKey, layout.ErrNotThere},
		"none":           {"nothing", 0, oldKey, layout.ErrNotThere},
		"no certificate": {keys.Joined(oldList), 0, newKey, layout.ErrCannotCarry},
	} {
		_, err := Replace([]byte(c.content), chainPlace(c.nth), oldKey, c.next)
		require.ErrorIs(t, err, c.err, name)
	}
	_, err := Find([]byte("a\x00b"), chainPlace(0))
	require.Error(t, err)
}

func FuzzChain(f *testing.F) {
	oldKey, oldList := issued(f, "site", 1)
	newKey, newList := issued(f, "site", 1)
	will := keys.With(newKey, keys.Joined(newList))
	f.Add([]byte("x\n"), []byte("\ny"), 0)
	f.Add([]byte("-----BEGIN "), []byte("-----END CERTIFICATE-----"), 1)
	f.Fuzz(func(t *testing.T, before, after []byte, nth int) {
		content := append(append(bytes.Clone(before), keys.Joined(oldList)...), after...)
		span, err := Find(content, chainPlace(nth))
		if err != nil || !Same(layout.Chain, span.Value, oldKey) {
			return
		}
		out, err := Replace(content, chainPlace(nth), oldKey, will)
		if err != nil {
			return // what cannot be carried is refused
		}
		if !bytes.HasPrefix(out, content[:span.Start]) || !bytes.HasSuffix(out, content[span.End:]) {
			t.Fatal("another byte was changed")
		}
	})
}
