// Package masterkey keeps the key that all others stand on in a file of its own.
package masterkey

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"

	"mossledger.example/moss/internal/core/secret"
)

// The master key lies in a file of its own, outside the database, readable by
// the owner only. With a passphrase the file holds the key encrypted
// (XChaCha20-Poly1305 under an argon2id key), and the passphrase is needed at
// each start.
const (
	keyPlain     = "moss-master-key-1 "
	keyProtected = "moss-master-key-1-passphrase "
)

// Argon2id parameters of a protected key file (RFC 9106, section 4). They belong
// to the form of the file.
const (
	sealTime    = 3
	sealMemory  = 64 << 10 // KiB
	sealThreads = 2
	sealKeySize = 32
)

// Load reads the key file, or makes it when it is not there yet and
// create is set.
func Load(path string, passphrase secret.Value, create bool) ([]byte, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && create {
		return makeMasterKey(path, passphrase)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("master key file %s is not there, but the database is: without its key the sealed values cannot be opened. Put the file back from your backup", path)
	}
	if err != nil {
		return nil, fmt.Errorf("master key: %w", err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("master key: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("master key file %s can be read by others (mode %o): run chmod 600 on it", path, info.Mode().Perm())
	}
	text := strings.TrimSpace(string(raw))
	if encoded, found := strings.CutPrefix(text, keyProtected); found {
		return openProtected(path, encoded, passphrase)
	}
	encoded, found := strings.CutPrefix(text, keyPlain)
	key, err := base64.RawStdEncoding.DecodeString(encoded)
	if !found || err != nil || len(key) != secret.KeySize {
		return nil, fmt.Errorf("master key file %s does not hold a master key", path)
	}
	return key, nil
}

func makeMasterKey(path string, passphrase secret.Value) ([]byte, error) {
	key := make([]byte, secret.KeySize)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	text := keyPlain + base64.RawStdEncoding.EncodeToString(key)
	if !passphrase.Empty() {
		salt := make([]byte, 16)
		nonce := make([]byte, chacha20poly1305.NonceSizeX)
		if _, err := rand.Read(salt); err != nil {
			return nil, err
		}
		if _, err := rand.Read(nonce); err != nil {
			return nil, err
		}
		aead, err := chacha20poly1305.NewX(argon2.IDKey(passphrase.Reveal(), salt, sealTime, sealMemory, sealThreads, sealKeySize))
		if err != nil {
			return nil, err
		}
		text = keyProtected + base64.RawStdEncoding.EncodeToString(aead.Seal(append(salt, nonce...), nonce, key, []byte(keyProtected)))
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("master key: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("master key: %w", err)
	}
	_, err = f.WriteString(text + "\n")
	return key, errors.Join(err, f.Sync(), f.Close())
}

func openProtected(path, encoded string, passphrase secret.Value) ([]byte, error) {
	if passphrase.Empty() {
		return nil, fmt.Errorf("master key file %s is protected by a passphrase: give it with --passphrase-file", path)
	}
	raw, err := base64.RawStdEncoding.DecodeString(encoded)
	if err != nil || len(raw) < 16+chacha20poly1305.NonceSizeX {
		return nil, fmt.Errorf("master key file %s does not hold a master key", path)
	}
	aead, err := chacha20poly1305.NewX(argon2.IDKey(passphrase.Reveal(), raw[:16], sealTime, sealMemory, sealThreads, sealKeySize))
	if err != nil {
		return nil, err
	}
	nonce := raw[16 : 16+chacha20poly1305.NonceSizeX]
	key, err := aead.Open(nil, nonce, raw[16+chacha20poly1305.NonceSizeX:], []byte(keyProtected))
	if err != nil || len(key) != secret.KeySize {
		return nil, fmt.Errorf("master key file %s does not open with this passphrase", path)
	}
	return key, nil
}
