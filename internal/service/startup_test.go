package service

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/store/database"
)

// What the service refuses to start with, and what it says: nothing is made
// anew in silence, and nothing is served from files that others can change.
func TestWhatTheServiceDoesNotStartWith(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(data string) error
		says  string
	}{
		"the database is gone":         {func(data string) error { return os.Remove(filepath.Join(data, database.FileName)) }, "missing or empty"},
		"the database is empty":        {func(data string) error { return os.Truncate(filepath.Join(data, database.FileName), 0) }, "missing or empty"},
		"the master key is gone":       {func(data string) error { return os.Remove(filepath.Join(data, "master.key")) }, "backup"},
		"the database is damaged":      {damage, "damaged"},
		"others can change it":         {func(data string) error { return os.Chmod(filepath.Join(data, database.FileName), 0o666) }, "chmod go-rwx"},
		"others can change the folder": {func(data string) error { return os.Chmod(data, 0o777) }, "chmod go-rwx"},
		"others can read the key":      {func(data string) error { return os.Chmod(filepath.Join(data, "master.key"), 0o644) }, "read by others"},
	} {
		t.Run(name, func(t *testing.T) {
			data := filepath.Join(t.TempDir(), "data")
			r := start(t, func(c *Config) { c.Data = data })
			r.setUp()
			r.stop()
			require.NoError(t, c.spoil(data))
			ready := false
			err := Run(context.Background(), Config{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Ready: func(string, string) { ready = true }})
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.False(t, ready)
		})
	}
	err := Run(context.Background(), Config{Data: t.TempDir(), Listen: "127.0.0.1:0", KeyPEM: "key.pem", Log: slog.New(slog.DiscardHandler)})
	assert.ErrorIs(t, err, ErrStart)
	assert.ErrorContains(t, err, "--tls-cert")
}

// damage overwrites pages in the middle of the file.
func damage(data string) error {
	path := filepath.Join(data, database.FileName)
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for i := len(raw) / 4; i < len(raw)*3/4; i++ {
		raw[i] = 0x5a
	}
	return os.WriteFile(path, raw, 0o600)
}
