package keys

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"time"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

// Keys that an issuer of tokens knows have numbers: the thumbprint of the public half
// (RFC 7638). A new one is given to it as a certificate that the key signed itself: that proves
// who has the private half, which stays where it was made, and says when the key ends.

// IssuedTypes are those that issuers of tokens take (RFC 7518, section 3.1: RS256 and ES256);
// the first is usual.
func IssuedTypes() []string { return []string{ssh.KeyAlgoRSA, ssh.KeyAlgoECDSA256} }

// ErrNoNumber is returned for a key that issuers do not take.
var ErrNoNumber = errors.New("a key that signs for tokens is RSA of 2048 bits or more, or P-256")

// Number of a key is the thumbprint of its public half (RFC 7638).
func Number(public crypto.PublicKey) (string, error) {
	jwk := jose.JSONWebKey{Key: public}
	if !jwk.Valid() {
		return "", ErrNoNumber
	}
	sum, err := jwk.Thumbprint(crypto.SHA256)
	return base64.RawURLEncoding.EncodeToString(sum), err
}

// signerOf reads a private key that issuers take.
func signerOf(private secret.Value) (crypto.Signer, error) {
	raw, _, err := parse(private)
	if err != nil {
		return nil, err
	}
	switch k := raw.(type) {
	case *rsa.PrivateKey:
		if k.N.BitLen() >= 2048 {
			return k, nil
		}
	case *ecdsa.PrivateKey:
		if k.Curve == elliptic.P256() {
			return k, nil
		}
	}
	return nil, ErrNoNumber
}

// NumberOf is the number of a private key.
func NumberOf(private secret.Value) (string, error) {
	signer, err := signerOf(private)
	if err != nil {
		return "", err
	}
	return Number(signer.Public())
}

// NoEnd is how a certificate says that it has no end (RFC 5280, section 4.1.2.5).
var NoEnd = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)

// Introduce is a certificate that a private key signs for itself, in PEM: its public half,
// and the time in which it is good. A zero until is for ever.
func Introduce(private secret.Value, name string, from, until time.Time, random io.Reader) (string, error) {
	signer, err := signerOf(private)
	if err != nil {
		return "", err
	}
	serial := make([]byte, 16)
	if _, err := io.ReadFull(random, serial); err != nil {
		return "", err
	}
	serial[0] &= 0x7f // positive (RFC 5280, section 4.1.2.2)
	if until.IsZero() {
		until = NoEnd
	}
	template := &x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(serial), Subject: pkix.Name{CommonName: name[:min(len(name), 64)]},
		NotBefore: from.UTC(), NotAfter: until.UTC(), KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true,
	}
	raw, err := x509.CreateCertificate(random, template, template, signer.Public(), signer)
	if err != nil {
		return "", fmt.Errorf("make the certificate of a key: %w", err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})), nil
}

// Introduced is a key that was given as a certificate.
type Introduced struct {
	ID          string // its number
	Fingerprint string // of the public half, as SSH writes it
	From, Until time.Time
}

// ReadIntroduced reads a certificate that introduces a key: one, in PEM, of a key that issuers
// take. Its signature is not asked for: who gives it may be somebody else than who has the key.
func ReadIntroduced(text string) (Introduced, error) {
	block, rest := pem.Decode([]byte(text))
	switch {
	case block == nil:
		return Introduced{}, errors.New("no certificate in PEM")
	case block.Type != "CERTIFICATE":
		return Introduced{}, fmt.Errorf("a certificate is wanted, and this is a %s", block.Type)
	}
	if more, _ := pem.Decode(rest); more != nil {
		return Introduced{}, errors.New("one certificate is wanted, and there are several")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return Introduced{}, fmt.Errorf("the certificate cannot be read: %w", err)
	}
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		if k.N.BitLen() < 2048 {
			return Introduced{}, ErrNoNumber
		}
	case *ecdsa.PublicKey:
		if k.Curve != elliptic.P256() {
			return Introduced{}, ErrNoNumber
		}
	default:
		return Introduced{}, ErrNoNumber
	}
	out := Introduced{From: c.NotBefore.UTC(), Until: c.NotAfter.UTC()}
	if out.ID, err = Number(c.PublicKey); err != nil {
		return out, err
	}
	written, err := ssh.NewPublicKey(c.PublicKey)
	if err != nil {
		return out, err
	}
	out.Fingerprint = ssh.FingerprintSHA256(written)
	return out, nil
}

// NumberOfLine is the number of a key that is given as an entry has it: type and key.
func NumberOfLine(line string) (string, error) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return "", fmt.Errorf("no public key: %w", err)
	}
	c, ok := public.(ssh.CryptoPublicKey)
	if !ok {
		return "", ErrNoNumber
	}
	return Number(c.CryptoPublicKey())
}
