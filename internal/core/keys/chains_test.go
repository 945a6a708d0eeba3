package keys

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// made is a certificate with its key.
type made struct {
	is  *x509.Certificate
	key *ecdsa.PrivateKey
}

func (m made) private(t testing.TB) secret.Value {
	t.Helper()
	raw, err := x509.MarshalPKCS8PrivateKey(m.key)
	require.NoError(t, err)
	return secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

var day = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// certify makes a certificate, signed by another one or by itself.
func certify(t testing.TB, by *made, change func(*x509.Certificate)) made {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "booking.larkmoor.example"}, DNSNames: []string{"booking.larkmoor.example"}, NotBefore: day.Add(-time.Hour), NotAfter: day.Add(90 * 24 * time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if change != nil {
		change(template)
	}
	parent, signer := template, key
	if by != nil {
		parent, signer = by.is, by.key
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	is, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	return made{is, key}
}

func authority(t testing.TB, name string, by *made) made {
	return certify(t, by, func(c *x509.Certificate) {
		c.Subject, c.DNSNames, c.IsCA, c.BasicConstraintsValid = pkix.Name{CommonName: name}, nil, true, true
	})
}

// What is issued takes the place of the one before it only if it serves whoever that served.
func TestCertificatesThatCannotTakeThePlace(t *testing.T) {
	root := authority(t, "root", nil)
	middle := authority(t, "middle", &root)
	before := certify(t, nil, func(c *x509.Certificate) {
		c.DNSNames, c.IPAddresses = []string{"booking.larkmoor.example", "WWW.booking.larkmoor.example"}, []net.IP{net.ParseIP("192.0.2.7")}
	}).is
	both := func(c *x509.Certificate) {
		c.DNSNames, c.IPAddresses = []string{"www.booking.larkmoor.example", "booking.larkmoor.example"}, []net.IP{net.ParseIP("192.0.2.7")}
	}
	good := certify(t, &middle, both)
	for name, c := range map[string]struct {
		is    made
		after []*x509.Certificate
		of    *made
		words string
	}{
		"in order":              {is: good, after: []*x509.Certificate{middle.is, root.is}},
		"alone":                 {is: good},
		"in another order":      {is: good, after: []*x509.Certificate{root.is, middle.is}, words: "certificate 2 of it did not sign"},
		"about another key":     {is: good, of: &middle, words: "another key"},
		"that of an authority":  {is: middle, words: "that of an authority"},
		"without an address":    {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.IPAddresses = nil }), words: "not good for 192.0.2.7"},
		"without a name":        {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.DNSNames = c.DNSNames[:1] }), words: "not good for booking.larkmoor.example"},
		"with more names":       {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.DNSNames = append(c.DNSNames, "more.example") })},
		"that has ended":        {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.NotAfter = day.Add(-time.Minute) }), words: "it has ended"},
		"not good yet":          {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.NotBefore = day.Add(time.Hour) }), words: "not good before"},
		"a clock that is ahead": {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.NotBefore = day.Add(4 * time.Minute) })},
		"for clients alone": {is: certify(t, &middle, func(c *x509.Certificate) {
			both(c)
			c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
		}), words: "not good for servers, for which the old one is"},
		"for any use": {is: certify(t, &middle, func(c *x509.Certificate) {
			both(c)
			c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny}
		})},
		"for no use that is said": {is: certify(t, &middle, func(c *x509.Certificate) { both(c); c.ExtKeyUsage = nil })},
	} {
		of := c.is
		if c.of != nil {
			of = *c.of
		}
		words := Misfit(append([]*x509.Certificate{c.is.is}, c.after...), of.private(t), before, day)
		if c.words == "" {
			assert.Empty(t, words, name)
		} else {
			assert.Contains(t, words, c.words, name)
		}
	}
}

// A request is about all names of the one before, and is signed by the new key.
func TestRequestsForCertificates(t *testing.T) {
	before := certify(t, nil, func(c *x509.Certificate) {
		c.DNSNames, c.IPAddresses = append(c.DNSNames, "www.larkmoor.example"), []net.IP{net.ParseIP("2001:db8::7")}
	}).is
	key := certify(t, nil, nil)
	raw, err := Ask(With(key.private(t), "-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----\n"), before, rand.Reader)
	require.NoError(t, err)
	request, err := x509.ParseCertificateRequest(raw)
	require.NoError(t, err)
	require.NoError(t, request.CheckSignature())
	assert.Equal(t, before.DNSNames, request.DNSNames)
	assert.True(t, before.IPAddresses[0].Equal(request.IPAddresses[0]))
	assert.Equal(t, "booking.larkmoor.example", request.Subject.CommonName)
	assert.True(t, key.key.PublicKey.Equal(request.PublicKey))

	// A subject that is no name of it is not asked for: no authority over ACME certifies it.
	other := certify(t, nil, func(c *x509.Certificate) { c.Subject = pkix.Name{Organization: []string{"Larkmoor"}} }).is
	raw, err = Ask(key.private(t), other, rand.Reader)
	require.NoError(t, err)
	request, err = x509.ParseCertificateRequest(raw)
	require.NoError(t, err)
	assert.Empty(t, request.Subject.String())

	for name, c := range map[string]func(*x509.Certificate){
		"mail": func(c *x509.Certificate) { c.EmailAddresses = []string{"a@larkmoor.example"} },
		"URI":  func(c *x509.Certificate) { c.URIs = []*url.URL{{Scheme: "spiffe", Host: "larkmoor.example"}} },
		"none": func(c *x509.Certificate) { c.DNSNames = nil },
	} {
		_, err := Ask(key.private(t), certify(t, nil, c).is, rand.Reader)
		require.Error(t, err, name)
	}
	_, err = Ask(secret.New("no key"), before, rand.Reader)
	require.Error(t, err)
}

// Links have the numbers that a survey gives, and what belongs together is one.
func TestLinks(t *testing.T) {
	root := authority(t, "root", nil)
	middle := authority(t, "middle", &root)
	leaf, stranger := certify(t, &middle, nil), certify(t, nil, nil)
	block := func(list ...*x509.Certificate) string { return Joined(list) }
	for name, c := range map[string]struct {
		content string
		lengths []int
	}{
		"nothing":              {"no PEM", nil},
		"a chain":              {block(leaf.is, middle.is, root.is), []int{3, 2, 1}},
		"with words between":   {"# site\n" + block(leaf.is) + "\nissued by\n" + block(middle.is), []int{2, 1}},
		"a key between":        {block(leaf.is) + leaf.private(t).RevealString() + block(middle.is), []int{1, 1}},
		"a stranger after it":  {block(leaf.is, stranger.is), []int{1, 1}},
		"signed by itself":     {block(stranger.is, stranger.is), []int{1, 1}},
		"one that is garbled":  {"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n" + block(leaf.is), []int{1}},
		"one that never ends":  {"-----BEGIN CERTIFICATE-----\nAAAA\n" + block(leaf.is), []int{1}},
		"with other line ends": {strings.ReplaceAll(block(leaf.is, middle.is), "\n", "\r\n"), []int{2, 1}},
	} {
		var lengths []int
		for _, l := range Links([]byte(c.content)) {
			lengths = append(lengths, len(l.List))
			assert.True(t, strings.HasPrefix(c.content[l.Start:], "-----BEGIN CERTIFICATE-----"), name)
			assert.True(t, strings.HasSuffix(c.content[:l.End], "-----END CERTIFICATE-----"), name)
		}
		assert.Equal(t, c.lengths, lengths, name)
		_, certificates := ParsePEM([]byte(c.content))
		assert.Len(t, certificates, len(c.lengths), name)
	}
}

// A key stands for each certificate about it, and for no other.
func TestSameCertificates(t *testing.T) {
	leaf, other := certify(t, nil, nil), certify(t, nil, nil)
	again := leaf
	again.is = func() *x509.Certificate { // renewed, about the same key
		raw, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(7), NotAfter: day.AddDate(1, 0, 0)}, leaf.is, &leaf.key.PublicKey, leaf.key)
		require.NoError(t, err)
		is, err := x509.ParseCertificate(raw)
		require.NoError(t, err)
		return is
	}()
	text := func(m made) secret.Value { return secret.New(Joined([]*x509.Certificate{m.is})) }
	assert.True(t, SameCertificate(text(leaf), leaf.private(t)))
	assert.True(t, SameCertificate(text(leaf), With(leaf.private(t), Joined([]*x509.Certificate{leaf.is}))))
	assert.True(t, SameCertificate(text(again), leaf.private(t)))
	assert.False(t, SameCertificate(text(again), text(leaf)))
	assert.False(t, SameCertificate(text(leaf), other.private(t)))
	assert.False(t, SameCertificate(secret.New("x"), secret.New("y")))
	assert.Equal(t, leaf.private(t).RevealString(), Alone(With(leaf.private(t), Joined([]*x509.Certificate{leaf.is}))).RevealString())
	// A kind of key that this knows nothing of is a certificate all the same.
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	raw, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1)}, &x509.Certificate{}, private.Public(), private)
	require.NoError(t, err)
	is, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	assert.NotEmpty(t, Describe(is).Fingerprint)
}

func FuzzLinks(f *testing.F) {
	leaf := certify(f, nil, nil)
	f.Add([]byte(Joined([]*x509.Certificate{leaf.is, leaf.is})))
	f.Add([]byte("-----BEGIN CERTIFICATE-----\n-----END CERTIFICATE-----"))
	f.Fuzz(func(t *testing.T, content []byte) {
		last := -1
		for _, l := range Links(content) {
			if l.Start <= last || l.End <= l.Start || l.End > len(content) || len(l.List) == 0 {
				t.Fatalf("%+v", l)
			}
			if !bytes.HasPrefix(content[l.Start:], []byte("-----BEGIN ")) {
				t.Fatal("it begins elsewhere")
			}
			last = l.Start
		}
	})
}
