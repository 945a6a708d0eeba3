package keys

import (
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

// A certificate and its key are one credential in two parts: the key is secret, and what an
// authority signed about it is shown to everybody. A server needs both, of the same pair, and
// after the certificate those that signed it, in their order (RFC 8446, section 4.4.2).

// ErrNoCertificate is returned where one is looked for and none stands.
var ErrNoCertificate = errors.New("no certificate in PEM that can be read")

// Link is a certificate of a file, with those after it that signed one another.
type Link struct {
	Start, End int // in bytes; without the line end after the last
	List       []*x509.Certificate
}

// Whole: nothing signed it but itself, so that a server shows it alone.
func (l Link) Whole() bool {
	return bytes.Equal(l.List[0].RawIssuer, l.List[0].RawSubject)
}

// Text is the link in PEM.
func (l Link) Text() string { return Joined(l.List) }

// Joined writes certificates down, one after the other (RFC 7468, section 5.1).
func Joined(list []*x509.Certificate) string {
	var out strings.Builder
	for _, c := range list {
		_ = pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return out.String()
}

// Links finds the certificates of a file, in the order and number of ParsePEM.
func Links(content []byte) []Link {
	var out []Link
	for at := 0; ; {
		begin := bytes.Index(content[at:], []byte("-----BEGIN "))
		if begin < 0 {
			break
		}
		begin += at
		block, rest := pem.Decode(content[begin:])
		if block == nil {
			at = begin + len("-----BEGIN ")
			continue
		}
		at = len(content) - len(rest)
		if block.Type != "CERTIFICATE" {
			continue
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			end := at
			for end > begin && (content[end-1] == '\n' || content[end-1] == '\r') {
				end--
			}
			out = append(out, Link{begin, end, []*x509.Certificate{c}})
		}
	}
	for i := len(out) - 2; i >= 0; i-- {
		if next := &out[i+1]; bytes.Equal(out[i].List[0].RawIssuer, next.List[0].RawSubject) && !bytes.Equal(out[i].List[0].RawIssuer, out[i].List[0].RawSubject) && beside(content[out[i].End:next.Start]) {
			out[i].End, out[i].List = next.End, append(out[i].List, next.List...)
		}
	}
	return out
}

// beside: nothing else that programs read stands between two certificates. What people wrote
// there is about them.
func beside(between []byte) bool { return !bytes.Contains(between, []byte("-----BEGIN ")) }

// ReadChain reads a certificate with those that signed it, in PEM and in order.
func ReadChain(text string) ([]*x509.Certificate, error) {
	links := Links([]byte(text))
	if len(links) == 0 {
		return nil, ErrNoCertificate
	}
	return links[0].List, nil
}

// Alone is the private key of a value, without certificates that stand after it.
func Alone(value secret.Value) secret.Value {
	if blocks := Blocks(value.Reveal()); len(blocks) > 0 {
		return blocks[0].Private
	}
	return value
}

// With is a key with the certificate that is about it.
func With(private secret.Value, chain string) secret.Value {
	return secret.New(Alone(private).RevealString() + chain)
}

// SameCertificate reports whether two values have the same certificate. A key without one
// stands for every certificate about it.
func SameCertificate(a, b secret.Value) bool {
	x, errX := ReadChain(a.RevealString())
	y, errY := ReadChain(b.RevealString())
	if errX == nil && errY == nil {
		return bytes.Equal(x[0].Raw, y[0].Raw)
	}
	p, q := publicOf(a, x), publicOf(b, y)
	return p != "" && p == q
}

func publicOf(v secret.Value, chain []*x509.Certificate) string {
	if len(chain) > 0 {
		return publicFingerprint(chain[0].PublicKey)
	}
	_, signer, err := parse(v)
	if err != nil {
		return ""
	}
	c, ok := signer.PublicKey().(ssh.CryptoPublicKey)
	if !ok {
		return ""
	}
	return publicFingerprint(c.CryptoPublicKey())
}

// NamesOf are the names that a certificate is good for. An error where it has names of a
// kind that no authority certifies over ACME (RFC 8555, section 9.7.7; RFC 8738).
func NamesOf(c *x509.Certificate) ([]string, error) {
	if len(c.EmailAddresses)+len(c.URIs) > 0 {
		return nil, errors.New("it is about mail addresses or URIs, not only names and addresses of hosts")
	}
	out := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	if len(out) == 0 {
		return nil, errors.New("it has no name of a host (subjectAltName; RFC 5280, section 4.2.1.6)")
	}
	return out, nil
}

// Ask is a request for a certificate about a key (RFC 2986), for the names of the one before
// it.
func Ask(private secret.Value, before *x509.Certificate, random io.Reader) ([]byte, error) {
	raw, _, err := parse(Alone(private))
	if err != nil {
		return nil, err
	}
	names, err := NamesOf(before)
	if err != nil {
		return nil, err
	}
	template := &x509.CertificateRequest{DNSNames: before.DNSNames, IPAddresses: before.IPAddresses}
	// Some programs show the name in the subject, which must be one of the others.
	if slices.Contains(names, before.Subject.CommonName) {
		template.Subject = pkix.Name{CommonName: before.Subject.CommonName}
	}
	return x509.CreateCertificateRequest(random, template, raw)
}

// Misfit says why a new certificate cannot take the place of the one before it; "" when it
// can. Whoever is served by the old one must be served by the new one.
func Misfit(chain []*x509.Certificate, private secret.Value, before *x509.Certificate, now time.Time) string {
	is := chain[0]
	names, _ := NamesOf(is)
	wanted, _ := NamesOf(before)
	switch i := broken(chain); {
	case publicFingerprint(is.PublicKey) != publicOf(private, nil):
		return "it is about another key"
	case is.IsCA:
		return "it is that of an authority"
	case i > 0:
		return fmt.Sprintf("certificate %d of it did not sign the one before it", i+1)
	case !now.Before(is.NotAfter):
		return "it has ended: " + is.NotAfter.UTC().Format(time.RFC3339)
	case now.Add(clocks).Before(is.NotBefore):
		return "it is not good before " + is.NotBefore.UTC().Format(time.RFC3339)
	}
	for _, name := range wanted {
		if !slices.ContainsFunc(names, func(n string) bool { return sameName(n, name) }) {
			return "it is not good for " + clipped(name)
		}
	}
	for _, use := range before.ExtKeyUsage {
		if !slices.Contains(is.ExtKeyUsage, use) && !slices.Contains(is.ExtKeyUsage, x509.ExtKeyUsageAny) && len(is.ExtKeyUsage) > 0 {
			return "it is not good for " + useOf(use) + ", for which the old one is"
		}
	}
	return ""
}

// clocks differ by a little.
const clocks = 5 * time.Minute

func sameName(a, b string) bool {
	if x, err := netip.ParseAddr(a); err == nil {
		y, err := netip.ParseAddr(b)
		return err == nil && x.Unmap() == y.Unmap()
	}
	return strings.EqualFold(strings.TrimSuffix(a, "."), strings.TrimSuffix(b, "."))
}

func useOf(use x509.ExtKeyUsage) string {
	switch use {
	case x509.ExtKeyUsageServerAuth:
		return "servers"
	case x509.ExtKeyUsageClientAuth:
		return "clients"
	case x509.ExtKeyUsageEmailProtection:
		return "mail"
	case x509.ExtKeyUsageCodeSigning:
		return "signing programs"
	}
	return fmt.Sprintf("a use (%d)", use)
}
