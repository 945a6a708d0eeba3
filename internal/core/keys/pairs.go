package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

// Pair is the public half of a private key.
type Pair struct {
	Type        string // ssh-ed25519 ...
	Bits        int    // of RSA keys
	Fingerprint string // SHA256:...
	Line        string // type and key, as an entry has them (RFC 4253, section 6.6, in base64)
}

// Errors of private keys.
var (
	ErrPassphrase = errors.New("a passphrase protects the private key: it cannot be kept or proven without it")
	ErrNoKey      = errors.New("no private key in it that can be read (OpenSSH, PKCS #1, PKCS #8 or SEC 1, in PEM)")
)

// Types that Generate makes.
func Types() []string { return []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSA} }

func parse(private secret.Value) (any, ssh.Signer, error) {
	raw, err := ssh.ParseRawPrivateKey(private.Reveal())
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, nil, ErrPassphrase
	case err != nil:
		if block, _ := pem.Decode(private.Reveal()); block != nil && block.Type == "ENCRYPTED PRIVATE KEY" {
			return nil, nil, ErrPassphrase
		}
		return nil, nil, ErrNoKey // the parser's words may repeat what it read
	}
	signer, err := ssh.NewSignerFromKey(raw)
	if err != nil {
		return nil, nil, ErrNoKey
	}
	if k, ok := raw.(*ed25519.PrivateKey); ok {
		raw = *k
	}
	return raw, signer, nil
}

// PairOf returns the public half of a private key.
func PairOf(private secret.Value) (Pair, error) {
	_, signer, err := parse(private)
	if err != nil {
		return Pair{}, err
	}
	public := signer.PublicKey()
	p := Pair{Type: public.Type(), Fingerprint: ssh.FingerprintSHA256(public), Line: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))}
	if c, ok := public.(ssh.CryptoPublicKey); ok {
		if r, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok {
			p.Bits = r.N.BitLen()
		}
	}
	return p, nil
}

// Same reports whether two private keys are the same one, however each is
// written down.
func Same(a, b secret.Value) bool {
	x, errX := PairOf(a)
	y, errY := PairOf(b)
	return errX == nil && errY == nil && x.Line == y.Line
}

const rsaBits = 3072 // NIST SP 800-57 part 1, table 2: 128 bits of strength

// Generate draws a new private key that goes where like stands: of the type
// wanted, or of like's own (a weak one gives way to ed25519), written down in
// the same way as far as that can carry the type.
func Generate(like secret.Value, wanted string, random io.Reader) (secret.Value, error) {
	raw, signer, err := parse(like)
	if err != nil {
		return secret.Value{}, err
	}
	if wanted == "" {
		wanted = signer.PublicKey().Type()
		if r, ok := raw.(*rsa.PrivateKey); wanted == "ssh-dss" || ok && r.N.BitLen() < 2048 {
			wanted = ssh.KeyAlgoED25519
		}
	}
	fresh, err := drawn(wanted, random)
	if err != nil {
		return secret.Value{}, err
	}
	block, _ := pem.Decode(like.Reveal())
	return write(fresh, block.Type)
}

// Draw makes a new private key that goes nowhere yet, as PKCS #8 (RFC 5958).
func Draw(wanted string, random io.Reader) (secret.Value, error) {
	fresh, err := drawn(wanted, random)
	if err != nil {
		return secret.Value{}, err
	}
	return write(fresh, "PRIVATE KEY")
}

func drawn(wanted string, random io.Reader) (fresh crypto.PrivateKey, err error) {
	switch wanted {
	case ssh.KeyAlgoED25519:
		_, fresh, err = ed25519.GenerateKey(random)
	case ssh.KeyAlgoRSA:
		fresh, err = rsa.GenerateKey(random, rsaBits)
	case ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521:
		curve := map[string]elliptic.Curve{ssh.KeyAlgoECDSA256: elliptic.P256(), ssh.KeyAlgoECDSA384: elliptic.P384(), ssh.KeyAlgoECDSA521: elliptic.P521()}[wanted]
		fresh, err = ecdsa.GenerateKey(curve, random)
	default:
		return nil, fmt.Errorf("keys of type %q cannot be made (%s)", wanted, strings.Join(Types(), ", "))
	}
	if err != nil {
		return nil, fmt.Errorf("make a key of type %s: %w", wanted, err)
	}
	return fresh, nil
}

// Recode writes a private key down in the way that the PEM block type says, as
// far as that can carry it.
func Recode(private secret.Value, blockType string) (secret.Value, error) {
	raw, _, err := parse(private)
	if err != nil {
		return secret.Value{}, err
	}
	if block, _ := pem.Decode(private.Reveal()); block.Type == blockType {
		return private, nil // byte for byte
	}
	return write(raw, blockType)
}

func write(key crypto.PrivateKey, blockType string) (secret.Value, error) {
	var block *pem.Block
	var err error
	switch k := key.(type) {
	case *rsa.PrivateKey:
		if blockType == "RSA PRIVATE KEY" {
			block = &pem.Block{Type: blockType, Bytes: x509.MarshalPKCS1PrivateKey(k)}
		}
	case *ecdsa.PrivateKey:
		if blockType == "EC PRIVATE KEY" {
			block = &pem.Block{Type: blockType}
			block.Bytes, err = x509.MarshalECPrivateKey(k)
		}
	}
	if block == nil && blockType == "PRIVATE KEY" {
		block = &pem.Block{Type: blockType}
		block.Bytes, err = x509.MarshalPKCS8PrivateKey(key)
	}
	if block == nil {
		block, err = ssh.MarshalPrivateKey(key, "")
	}
	if err != nil {
		return secret.Value{}, fmt.Errorf("write a private key down: %w", err)
	}
	return secret.FromBytes(pem.EncodeToMemory(block)), nil
}

// Block is a private key in a file.
type Block struct {
	Start, End int // in bytes; without the line end after it
	Type       string
	Private    secret.Value
}

// Blocks finds the private keys of a file, in the order and number of ParsePEM.
func Blocks(content []byte) []Block {
	var out []Block
	for at := 0; ; {
		begin := bytes.Index(content[at:], []byte("-----BEGIN "))
		if begin < 0 {
			return out
		}
		begin += at
		block, rest := pem.Decode(content[begin:])
		if block == nil {
			at = begin + len("-----BEGIN ")
			continue
		}
		end := len(content) - len(rest)
		for end > begin && (content[end-1] == '\n' || content[end-1] == '\r') {
			end--
		}
		if _, ok := parsePrivate(pem.EncodeToMemory(block), block); ok && strings.HasSuffix(block.Type, "PRIVATE KEY") {
			out = append(out, Block{Start: begin, End: end, Type: block.Type, Private: secret.FromBytes(pem.EncodeToMemory(block))})
		}
		at = len(content) - len(rest)
	}
}
