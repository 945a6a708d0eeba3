package connect

import (
	"context"

	"mossledger.example/moss/internal/core/secret"
)

// EntryChange is a change of the entries in one file that let the holders of
// keys in (sshd(8), "AUTHORIZED_KEYS FILE FORMAT"). Keys are type and key, as
// an entry has them; they are no secrets.
type EntryChange struct {
	Path   string
	Stays  string // must have an entry before and after
	Admit  string // gets a twin of each entry of the key that stays
	Remove string // has no entry afterwards
}

// Admitter reads and changes the entries that let the holders of keys in, and
// proves that a key opens an account. ChangeEntries changes one file atomically,
// with every other byte, owner, mode and access lists kept; what is done already
// is harmless to repeat.
type Admitter interface {
	// ReadEntries tells which of the keys have an entry.
	ReadEntries(ctx context.Context, target Target, path string, keys []string) ([]bool, error)
	ChangeEntries(ctx context.Context, target Target, change EntryChange) error
	// VerifyKey signs in as an account with a private key and opens no session:
	// a command that an entry forces is not run. With a system to go through the
	// connection comes from there, for entries that admit only some addresses.
	VerifyKey(ctx context.Context, target Target, account AccountRef, key secret.Value, through *Target) (Verdict, error)
}
