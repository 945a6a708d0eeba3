// Package standin holds what the stand-ins have in common: a certificate
// authority made at start, which exists nowhere else.
package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"
)

// Authority signs certificates for stand-ins.
type Authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	PEM  string
}

// NewAuthority makes one with a fresh key.
func NewAuthority() (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Stand-in authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &Authority{cert: cert, key: key, PEM: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}, nil
}

// Server makes a server's TLS configuration for names and addresses.
func (a *Authority) Server(names ...string) (*tls.Config, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := a.sign(&key.PublicKey, time.Now().Add(-time.Hour), time.Now().AddDate(1, 0, 0), names...)
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, MinVersion: tls.VersionTLS12}, nil
}

// Issue makes a key and a certificate for names and addresses, in PEM, as programs read them.
func (a *Authority) Issue(from, until time.Time, names ...string) (certificate, key string, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	der, err := a.sign(&private.PublicKey, from, until, names...)
	if err != nil {
		return "", "", err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return "", "", err
	}
	block := func(kind string, of []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: of}))
	}
	return block("CERTIFICATE", der) + a.PEM, block("PRIVATE KEY", raw), nil
}

// Certify signs a certificate about a public half that somebody else has the private one of,
// with the authority's own after it, in PEM.
func (a *Authority) Certify(public crypto.PublicKey, from, until time.Time, names ...string) (string, error) {
	der, err := a.sign(public, from, until, names...)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})) + a.PEM, err
}

func (a *Authority) sign(public crypto.PublicKey, from, until time.Time, names ...string) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: names[0]}, NotBefore: from,
		NotAfter: until, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	return x509.CreateCertificate(rand.Reader, template, a.cert, public, a.key)
}
