// Package sealed opens and seals the values that are in custody: which one is
// current, which one a rotation made, and by which an account of ours signs in.
// It asks nobody outside: what is in force there, the custody package finds out.
package sealed

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// Keeper opens and seals the values in custody.
type Keeper struct {
	base  *app.Base
	store Store
}

// New makes a Keeper.
func New(base *app.Base, store Store) *Keeper { return &Keeper{base, store} }

// LookedFor opens all values that are looked for on hosts, weak ones left out:
// their text stands anywhere.
func (keeper *Keeper) LookedFor(ctx context.Context) ([]secret.Value, error) {
	custodies, err := keeper.store.Custodies(ctx)
	if err != nil {
		return nil, err
	}
	var out []secret.Value
	for _, c := range custodies {
		if c.KeyID != 0 {
			continue // known by its fingerprint
		}
		all, err := keeper.store.Secrets(ctx, c)
		if err != nil {
			return out, err
		}
		retired := 0
		for _, s := range all {
			// Of those that are refused the last ones are looked for still: what holds
			// one was forgotten.
			if s.State == store.SecretRetired {
				if retired++; retired > 2 {
					continue
				}
			}
			v, err := keeper.base.Sealer.Open(s.Binding(), s.Sealed)
			if err != nil {
				return out, fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
			if secret.Weak(v) == "" {
				out = append(out, v)
			}
		}
	}
	return out, nil
}

// NewSecret seals a value for a credential. system is that of its account; 0
// for a key pair.
func (keeper *Keeper) NewSecret(c store.Credential, system, rotation int64, v secret.Value) (store.Secret, error) {
	s := store.Secret{Credential: c, SystemID: system, RotationID: rotation, Fingerprint: keeper.base.Fingerprints.Of(v)}
	sealed, err := keeper.base.Sealer.Seal(s.Binding(), v)
	s.Sealed = sealed
	return s, err
}

// Value opens the value with a fingerprint.
func (keeper *Keeper) Value(v Values, fingerprint string) (secret.Value, error) {
	for _, s := range v.all {
		if s.Fingerprint == fingerprint {
			return keeper.base.Sealer.Open(s.Binding(), s.Sealed)
		}
	}
	return secret.Value{}, errors.New("the value that stands there is not in custody")
}

// Values are the sealed values of a credential, opened.
type Values struct {
	Current secret.Value
	all     []store.Secret
}

// Values opens what is in custody of a credential.
func (keeper *Keeper) Values(ctx context.Context, c store.Credential) (Values, error) {
	all, err := keeper.store.Secrets(ctx, c)
	if err != nil {
		return Values{}, err
	}
	v := Values{all: all}
	for _, s := range all {
		if s.State == store.SecretCurrent {
			if v.Current, err = keeper.base.Sealer.Open(s.Binding(), s.Sealed); err != nil {
				return v, fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
		}
	}
	return v, nil
}

// OfRotation finds the two sealed values of a rotation: the one it made, and the one
// that was current when it began. What an earlier rotation made and gave up is
// neither, however new it is.
func (keeper *Keeper) OfRotation(ctx context.Context, r store.Rotation) (old, next *store.Secret, err error) {
	all, err := keeper.store.Secrets(ctx, r.Credential())
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		s := &all[i]
		switch {
		case s.RotationID == r.ID && next == nil:
			next = s
		case s.RotationID == r.ID:
		case r.OldSecret != 0 && s.ID == r.OldSecret:
			old = s
		case r.OldSecret == 0 && s.State == store.SecretCurrent: // begun by an earlier version
			old = s
		}
	}
	return old, next, nil
}

// Current is the sealed value that is in force; nil when there is none.
func (keeper *Keeper) Current(ctx context.Context, c store.Credential) (*store.Secret, error) {
	all, err := keeper.store.Secrets(ctx, c)
	for i := range all {
		if all[i].State == store.SecretCurrent {
			return &all[i], err
		}
	}
	return nil, err
}

// KeyPair is the public half of a sealed key.
func (keeper *Keeper) KeyPair(s store.Secret) (*store.KeyPair, error) {
	value, err := keeper.base.Sealer.Open(s.Binding(), s.Sealed)
	if err != nil {
		return nil, err
	}
	pair, err := keys.PairOf(value)
	return &store.KeyPair{Fingerprint: pair.Fingerprint, Type: pair.Type, Bits: pair.Bits}, err
}
