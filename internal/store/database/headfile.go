package database

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// HeadFile is a Witness in a file. It is replaced whole; a power failure may
// lose the latest heads, which then are older than the database's: that is
// no rollback.
type HeadFile string

// Load implements Witness.
func (f HeadFile) Load() (string, error) {
	raw, err := os.ReadFile(string(f))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(raw), err
}

// Save implements Witness.
func (f HeadFile) Save(checkpoint string) error {
	temporary := string(f) + ".new"
	if err := os.MkdirAll(filepath.Dir(string(f)), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(temporary, []byte(checkpoint), 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, string(f))
}
