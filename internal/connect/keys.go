package connect

import (
	"context"

	"mossledger.example/moss/internal/core/secret"
)

// EntryChange is a change of the entries in one file that let the holders of
// keys in (sshd(8), "AUTHORIZED_KEYS FILE FORMAT"), as a rehearsal is asked about
// it. Keys are type and key, as an entry has them; they are no secrets.
type EntryChange struct {
	Path  string
	Stays string // must have an entry before and after
}

// Admitter proves that a key opens an account. A file of entries is a Point: of a
// key that it shall accept beside another one it gets a twin of each entry of that
// one; the file is changed atomically, with every other byte, owner, mode and
// access lists kept.
type Admitter interface {
	// VerifyKey signs in as an account with a private key and opens no session:
	// a command that an entry forces is not run. With a system to go through the
	// connection comes from there, for entries that admit only some addresses.
	VerifyKey(ctx context.Context, target Target, account AccountRef, key secret.Value, through *Target) (Verdict, error)
}
