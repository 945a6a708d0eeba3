package operate

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

func (o *Operator) subject(ctx context.Context, c store.Credential) (Subject, error) {
	if c.KeyID != 0 {
		return o.Store.KeyPair(ctx, c.KeyID)
	}
	return o.Store.Account(ctx, c.AccountID)
}

// nameOf is how people know it.
func nameOf(s Subject) string {
	if k, isKey := s.(store.KeyPair); isKey {
		return k.Name
	}
	return s.(store.Account).Name //nolint:forcetypeassert // there are two kinds
}

// spelled is how commands take it.
func spelled(s Subject) string {
	if k, isKey := s.(store.KeyPair); isKey {
		return k.Fingerprint
	}
	return nameOf(s)
}

// systemOf is the system that decides; a key pair has doors on several.
func systemOf(s Subject) string {
	if a, isAccount := s.(store.Account); isAccount {
		return a.System
	}
	return ""
}

// rotationsOf are the filters that pick its rotations.
func rotationsOf(c store.Credential) []string {
	return []string{fmt.Sprintf("account_id=%d", c.AccountID), fmt.Sprintf("key_id=%d", c.KeyID)}
}

func driftKey(c store.Credential) string {
	if c.KeyID != 0 {
		return fmt.Sprintf("drift/key-%d", c.KeyID)
	}
	return fmt.Sprintf("drift/%d", c.AccountID)
}
