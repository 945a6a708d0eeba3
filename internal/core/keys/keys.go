// Package keys reads files that hold keys rather than passwords: SSH private
// keys and the entries that authorise them, Kerberos key tabs, certificates,
// and the key files that cloud services hand out. It tells what can be told
// without the secret part: types, fingerprints, versions, ends, protection. The
// secret part is never returned.
package keys

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/jcmturner/gokrb5/v8/keytab"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/secret"
)

// Private is a private key.
type Private struct {
	Type        string // ssh-ed25519, ssh-rsa ...
	Bits        int    // of RSA keys
	Fingerprint string // of its public half, as SSH writes it: SHA256:...; "" when it is encrypted and does not say
	Public      string // fingerprint of the public key as certificates hold it
	Encrypted   bool
	Line        int
}

// Authorized is an entry that lets the holder of a key in.
type Authorized struct {
	Type        string
	Fingerprint string
	Comment     string
	Options     []string // from="...", command="..." ...
	Line        int
}

// TabEntry is the newest key of one principal in a key tab.
type TabEntry struct {
	Principal string // primary/instance@REALM
	Version   int
	Types     []string // of encryption
}

// CloudKey is a key file of a cloud service, without its key.
type CloudKey struct {
	ID          string // of the key
	Identity    string // that it belongs to
	Project     string
	Fingerprint string // of the public half, as SSH writes it; "" where the private one cannot be read
	Type        string // ssh-rsa ...
	Bits        int
}

func lineAt(content []byte, at int) int { return 1 + bytes.Count(content[:at], []byte("\n")) }

func publicFingerprint(key crypto.PublicKey) string {
	raw, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(raw)
	return base64.RawStdEncoding.EncodeToString(sum[:])
}

// ParsePEM finds the private keys and certificates in a PEM file (RFC 7468).
// Blocks that cannot be read are passed over.
func ParsePEM(content []byte) ([]Private, []Certificate) {
	var private []Private
	var certificates []*x509.Certificate
	var lines []int
	rest := content
	for {
		begin := bytes.Index(rest, []byte("-----BEGIN "))
		if begin < 0 {
			break
		}
		at := len(content) - len(rest) + begin
		block, after := pem.Decode(rest[begin:])
		if block == nil {
			rest = rest[begin+len("-----BEGIN "):]
			continue
		}
		rest = after
		line := lineAt(content, at)
		switch {
		case block.Type == "CERTIFICATE":
			if c, err := x509.ParseCertificate(block.Bytes); err == nil {
				certificates, lines = append(certificates, c), append(lines, line)
			}
		case strings.HasSuffix(block.Type, "PRIVATE KEY"):
			if k, ok := parsePrivate(pem.EncodeToMemory(block), block); ok {
				k.Line = line
				private = append(private, k)
			}
		}
	}
	of := make([]string, len(private))
	for i, k := range private {
		of[i] = k.Public
	}
	chain := Chain(certificates, of)
	for i := range chain {
		chain[i].Line = lines[i]
	}
	return private, chain
}

func parsePrivate(text []byte, block *pem.Block) (Private, bool) {
	if block.Type == "ENCRYPTED PRIVATE KEY" { // PKCS #8: says nothing but that
		return Private{Type: "PKCS #8", Encrypted: true}, true
	}
	raw, err := ssh.ParseRawPrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		k := Private{Encrypted: true}
		if locked.PublicKey != nil {
			k.Type, k.Fingerprint = locked.PublicKey.Type(), ssh.FingerprintSHA256(locked.PublicKey)
		}
		return k, true
	}
	if err != nil {
		return Private{}, false
	}
	signer, err := ssh.NewSignerFromKey(raw)
	if err != nil {
		return Private{}, false
	}
	k := Private{Type: signer.PublicKey().Type(), Fingerprint: ssh.FingerprintSHA256(signer.PublicKey())}
	if public, ok := signer.PublicKey().(ssh.CryptoPublicKey); ok {
		k.Public = publicFingerprint(public.CryptoPublicKey())
		if r, ok := public.CryptoPublicKey().(*rsa.PublicKey); ok {
			k.Bits = r.N.BitLen()
		}
	}
	return k, true
}

// ParseAuthorized reads authorized_keys (sshd(8), "AUTHORIZED_KEYS FILE FORMAT").
// Lines that are none are counted.
func ParseAuthorized(content []byte) (entries []Authorized, bad []int) {
	number := 0
	for line := range bytes.Lines(content) {
		number++
		trimmed := bytes.TrimSpace(line)
		if len(trimmed) == 0 || trimmed[0] == '#' {
			continue
		}
		public, comment, options, _, err := ssh.ParseAuthorizedKey(trimmed)
		if err != nil {
			bad = append(bad, number)
			continue
		}
		entries = append(entries, Authorized{Type: public.Type(), Fingerprint: ssh.FingerprintSHA256(public), Comment: comment, Options: options, Line: number})
	}
	return entries, bad
}

var encryptionNames = map[int32]string{1: "des-cbc-crc", 3: "des-cbc-md5", 16: "des3-cbc-sha1", 17: "aes128-cts-hmac-sha1-96", 18: "aes256-cts-hmac-sha1-96", 19: "aes128-cts-hmac-sha256-128", 20: "aes256-cts-hmac-sha384-192", 23: "rc4-hmac"}

// WeakEncryption reports whether a type of encryption is broken or deprecated
// (RFC 6649, RFC 8429).
func WeakEncryption(name string) bool {
	return strings.HasPrefix(name, "des") || strings.HasPrefix(name, "rc4")
}

// ParseKeytab reads a key tab (the format of MIT Kerberos, versions 1 and 2).
func ParseKeytab(content []byte) (entries []TabEntry, err error) {
	defer func() { // the parser trusts lengths
		if r := recover(); r != nil {
			entries, err = nil, fmt.Errorf("not a whole key tab: %v", r)
		}
	}()
	if len(content) < 2 || content[0] != 5 {
		return nil, errors.New("not a key tab: it does not begin with 5")
	}
	if err := wholeRecords(content); err != nil {
		return nil, err
	}
	tab := keytab.New()
	if err := tab.Unmarshal(content); err != nil {
		return nil, fmt.Errorf("not a whole key tab: %w", err)
	}
	newest := map[string]*TabEntry{}
	for _, e := range tab.Entries {
		principal := strings.Join(e.Principal.Components, "/") + "@" + e.Principal.Realm
		version := int(e.KVNO)
		if version == 0 {
			version = int(e.KVNO8)
		}
		t := newest[principal]
		switch {
		case t == nil:
			t = &TabEntry{Principal: principal, Version: version}
			newest[principal] = t
		case version < t.Version:
			continue
		case version > t.Version:
			t.Version, t.Types = version, nil
		}
		name := encryptionNames[e.Key.KeyType]
		if name == "" {
			name = fmt.Sprintf("type %d", e.Key.KeyType)
		}
		t.Types = append(t.Types, name)
	}
	for _, t := range newest {
		sort.Strings(t.Types)
		entries = append(entries, *t)
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Principal < entries[j].Principal })
	return entries, nil
}

// wholeRecords walks the records of a key tab by their lengths; a negative one
// is a hole.
func wholeRecords(content []byte) error {
	var order binary.ByteOrder = binary.BigEndian
	if content[1] == 1 {
		order = binary.NativeEndian
	}
	for at := 2; at+4 <= len(content); {
		n := int(int32(order.Uint32(content[at:])))
		if n < 0 {
			n = -n
		}
		at += 4
		if n > len(content)-at {
			return fmt.Errorf("not a whole key tab: a record of %d bytes at byte %d, and %d are left", n, at-4, len(content)-at)
		}
		at += n
	}
	return nil
}

// ParseCloud reads a JSON key file of the kind that names its key and holds the
// private half.
func ParseCloud(content []byte) (CloudKey, bool) {
	var file struct {
		KeyID      string `json:"private_key_id"`
		PrivateKey string `json:"private_key"`
		Identity   string `json:"client_email"`
		ClientID   string `json:"client_id"`
		Project    string `json:"project_id"`
	}
	if json.Unmarshal(content, &file) != nil || file.KeyID == "" || !strings.Contains(file.PrivateKey, "PRIVATE KEY") {
		return CloudKey{}, false
	}
	if file.Identity == "" {
		file.Identity = file.ClientID
	}
	out := CloudKey{ID: file.KeyID, Identity: file.Identity, Project: file.Project}
	if pair, err := PairOf(secret.New(file.PrivateKey)); err == nil {
		out.Fingerprint, out.Type, out.Bits = pair.Fingerprint, pair.Type, pair.Bits
	}
	return out, true
}

var pkcs12 = []byte{0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07} // content types of PKCS #7, of which it is made

// Container tells a file that keeps keys behind a password: a PKCS #12 store
// (RFC 7292) or a Java key store. What is in it cannot be told without that.
func Container(content []byte) string {
	switch {
	case bytes.HasPrefix(content, []byte{0xfe, 0xed, 0xfe, 0xed}), bytes.HasPrefix(content, []byte{0xce, 0xce, 0xce, 0xce}):
		return "Java key store"
	case len(content) > 40 && content[0] == 0x30 && bytes.Contains(content[:40], []byte{0x02, 0x01, 0x03}) && bytes.Contains(content[:40], pkcs12):
		return "PKCS #12"
	}
	return ""
}
