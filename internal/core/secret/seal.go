package secret

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/crypto/hkdf"
)

// KeySize is the length of a master key in bytes.
const KeySize = 32

const sealVersion = 1

// ErrDoesNotOpen is returned when a sealed value was made under another master
// key, belongs to another record, or was altered.
var ErrDoesNotOpen = errors.New("sealed value does not open: wrong master key, moved from another record, or altered")

// Sealer seals values under a master key. Each value gets a data key of its
// own, which is wrapped by a key derived from the master key; both layers are
// bound to the record's name, so that a ciphertext copied to another row does
// not open there. Safe for concurrent use.
type Sealer struct {
	wrapping [KeySize]byte
	marking  [KeySize]byte
	random   io.Reader
}

// NewSealer derives a Sealer from a master key of KeySize bytes. random is
// where data keys and nonces come from (crypto/rand.Reader in the product).
func NewSealer(master []byte, random io.Reader) (*Sealer, error) {
	if len(master) != KeySize {
		return nil, fmt.Errorf("master key has %d bytes, want %d", len(master), KeySize)
	}
	s := &Sealer{random: random}
	if err := derive(master, "moss seal wrapping key v1", s.wrapping[:]); err != nil {
		return nil, err
	}
	if err := derive(master, "moss mark key v1", s.marking[:]); err != nil {
		return nil, err
	}
	return s, nil
}

// Mark authenticates a text for a purpose: without the master key nobody makes
// the mark of another text (HMAC-SHA-256, RFC 2104). It tells nothing of it.
func (s *Sealer) Mark(purpose, text string) string {
	mac := hmac.New(sha256.New, s.marking[:])
	mac.Write([]byte(purpose + "\x00" + text))
	return hex.EncodeToString(mac.Sum(nil))
}

func derive(master []byte, purpose string, out []byte) error {
	_, err := io.ReadFull(hkdf.New(sha256.New, master, nil, []byte(purpose)), out)
	return err
}

// Seal encrypts a value for the record named by binding.
func (s *Sealer) Seal(binding string, v Value) ([]byte, error) {
	data := make([]byte, KeySize)
	if _, err := io.ReadFull(s.random, data); err != nil {
		return nil, fmt.Errorf("draw a data key: %w", err)
	}
	sealed := []byte{sealVersion}
	sealed, err := s.encrypt(sealed, s.wrapping[:], "key\x00"+binding, data)
	if err != nil {
		return nil, err
	}
	return s.encrypt(sealed, data, "value\x00"+binding, v.Reveal())
}

func (s *Sealer) encrypt(out, key []byte, binding string, plain []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	if _, err := io.ReadFull(s.random, nonce); err != nil {
		return nil, fmt.Errorf("draw a nonce: %w", err)
	}
	return aead.Seal(append(out, nonce...), nonce, plain, []byte(binding)), nil
}

// Open decrypts what Seal made for the same binding.
func (s *Sealer) Open(binding string, sealed []byte) (Value, error) {
	const nonce, tag = chacha20poly1305.NonceSizeX, chacha20poly1305.Overhead
	wrapped := nonce + KeySize + tag
	if len(sealed) < 1+wrapped+nonce+tag || sealed[0] != sealVersion {
		return Value{}, ErrDoesNotOpen
	}
	data, err := decrypt(s.wrapping[:], "key\x00"+binding, sealed[1:1+wrapped])
	if err != nil {
		return Value{}, err
	}
	plain, err := decrypt(data, "value\x00"+binding, sealed[1+wrapped:])
	if err != nil {
		return Value{}, err
	}
	return FromBytes(plain), nil
}

func decrypt(key []byte, binding string, sealed []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	plain, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], []byte(binding))
	if err != nil {
		return nil, ErrDoesNotOpen
	}
	return plain, nil
}

// Fingerprinter computes keyed fingerprints: two equal values have equal
// fingerprints, and without the key a fingerprint tells nothing that a guess
// could be checked against.
type Fingerprinter struct{ key []byte }

// NewFingerprinter derives the fingerprint key from a master key.
func NewFingerprinter(master []byte) (*Fingerprinter, error) {
	key := make([]byte, KeySize)
	if err := derive(master, "moss fingerprint key v1", key); err != nil {
		return nil, err
	}
	return &Fingerprinter{key: key}, nil
}

// Key returns the fingerprint key, for a connector that computes fingerprints
// where it reads.
func (f *Fingerprinter) Key() Value { return FromBytes(f.key) }

// FingerprinterFromKey makes a Fingerprinter of a key got from Key.
func FingerprinterFromKey(key Value) *Fingerprinter { return &Fingerprinter{key: key.Reveal()} }

// Of returns the fingerprint of a value as 32 hexadecimal digits.
func (f *Fingerprinter) Of(v Value) string {
	mac := hmac.New(sha256.New, f.key)
	mac.Write(v.Reveal())
	return hex.EncodeToString(mac.Sum(nil)[:16])
}
