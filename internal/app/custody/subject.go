package custody

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/store"
)

// Subject is what is taken into custody and rotated: the password of a
// store.Account, or a store.KeyPair.
type Subject interface {
	Credential() store.Credential
}

// Subject reads what a credential belongs to.
func (custody *Custody) Subject(ctx context.Context, c store.Credential) (Subject, error) {
	if c.KeyID != 0 {
		return custody.store.KeyPair(ctx, c.KeyID)
	}
	return custody.store.Account(ctx, c.AccountID)
}

// NameOf is how people know it.
func NameOf(s Subject) string {
	if k, isKey := s.(store.KeyPair); isKey {
		return k.Name
	}
	return s.(store.Account).Name //nolint:forcetypeassert // there are two kinds
}

// Spelled is how commands take it.
func Spelled(s Subject) string {
	if k, isKey := s.(store.KeyPair); isKey {
		return k.Fingerprint
	}
	return NameOf(s)
}

// SystemOf is the system that decides; a key pair has doors on several.
func SystemOf(s Subject) string {
	if a, isAccount := s.(store.Account); isAccount {
		return a.System
	}
	return ""
}

// RotationsOf are the filters that pick its rotations.
func RotationsOf(c store.Credential) []string {
	return []string{fmt.Sprintf("account_id=%d", c.AccountID), fmt.Sprintf("key_id=%d", c.KeyID)}
}

func driftKey(c store.Credential) string {
	if c.KeyID != 0 {
		return fmt.Sprintf("drift/key-%d", c.KeyID)
	}
	return fmt.Sprintf("drift/%d", c.AccountID)
}
