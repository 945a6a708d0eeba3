package keys

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"

	"golang.org/x/crypto/ssh"
)

// Certificate is one certificate.
type Certificate struct {
	Subject   string
	Issuer    string
	Names     []string // that it is good for (RFC 5280, section 4.2.1.6)
	NotBefore time.Time
	NotAfter  time.Time
	Public    string // fingerprint of its public key
	// Fingerprint is that of its public key as SSH writes it, by which its private half is
	// known; "" for a kind of key that SSH does not have.
	Fingerprint string
	Authority   bool   // it may sign others
	Trouble     string // what is wrong with it, or with what stands around it; "" for nothing
	Line        int
}

// mostNames of a certificate are told: some have hundreds.
const mostNames = 20

// Describe tells what of a certificate can be told.
func Describe(c *x509.Certificate) Certificate {
	out := Certificate{Subject: c.Subject.String(), Issuer: c.Issuer.String(), NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), Public: publicFingerprint(c.PublicKey), Authority: c.IsCA}
	if written, err := ssh.NewPublicKey(c.PublicKey); err == nil {
		out.Fingerprint = ssh.FingerprintSHA256(written)
	}
	out.Names = append(out.Names, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		out.Names = append(out.Names, ip.String())
	}
	out.Names = out.Names[:min(len(out.Names), mostNames)]
	for i, name := range out.Names {
		out.Names[i] = clipped(name)
	}
	out.Subject, out.Issuer = clipped(out.Subject), clipped(out.Issuer)
	if out.Subject == "" && len(out.Names) > 0 {
		out.Subject = "CN=" + out.Names[0]
	}
	var wrong []string
	if !c.NotBefore.Before(c.NotAfter) {
		wrong = append(wrong, "it ends before it begins")
	}
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1:
		if !bytes.Equal(c.RawSubject, c.RawIssuer) {
			wrong = append(wrong, "it is signed by "+c.SignatureAlgorithm.String()+", which clients refuse")
		}
	}
	out.Trouble = strings.Join(wrong, "; ")
	return out
}

// longestName of a certificate is told: who shows one may write a book into it.
const longestName = 300

// clipped is a name as it may be shown: one line, and not too long.
func clipped(name string) string {
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '\ufffd'
		}
		return r
	}, strings.ToValidUTF8(name, "\ufffd"))
	if runes := []rune(name); len(runes) > longestName {
		return string(runes[:longestName]) + "…"
	}
	return name
}

// Chain tells of certificates in the order in which they are shown: that of the server first,
// then those that signed it (RFC 8446, section 4.4.2). What is wrong with their order is told
// of the first. of are the fingerprints of public halves of private keys that stand beside.
func Chain(list []*x509.Certificate, of []string) []Certificate {
	out := make([]Certificate, len(list))
	for i, c := range list {
		out[i] = Describe(c)
	}
	// Authorities stand beside each other in any order.
	if len(list) == 0 || list[0].IsCA && len(of) == 0 {
		return out
	}
	wrong := []string{out[0].Trouble}
	if words := misfit(out, of); words != "" {
		wrong = append(wrong, words)
	} else if i := broken(list); i > 0 {
		wrong = append(wrong, fmt.Sprintf("the chain is not in its order: certificate %d (%s) did not sign the one before it", i+1, out[i].Subject))
	}
	out[0].Trouble = strings.TrimPrefix(strings.Join(wrong, "; "), "; ")
	return out
}

// misfit says that the first certificate is not that of a private key beside it.
func misfit(chain []Certificate, of []string) string {
	if len(of) == 0 {
		return ""
	}
	for _, key := range of {
		if key == chain[0].Public || key == "" { // one with a passphrase says nothing
			return ""
		}
	}
	for i, c := range chain {
		for _, key := range of {
			if key == c.Public {
				return fmt.Sprintf("the chain is not in its order: certificate %d is that of the key, and the first one is shown as the server's", i+1)
			}
		}
	}
	return "the private key beside it is not its own: a server with both does not start"
}

// broken is the first certificate that did not sign the one before it; 0 where the order is
// right. Names are compared, and signatures where the names agree.
func broken(list []*x509.Certificate) int {
	for i := 1; i < len(list); i++ {
		if !bytes.Equal(list[i-1].RawIssuer, list[i].RawSubject) {
			return i
		}
		var old x509.InsecureAlgorithmError // which says nothing about the signature
		if err := list[i].CheckSignature(list[i-1].SignatureAlgorithm, list[i-1].RawTBSCertificate, list[i-1].Signature); err != nil && !errors.As(err, &old) {
			return i
		}
	}
	return 0
}
