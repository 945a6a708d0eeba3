// Package sealed opens and seals the values that are in custody: which one is
// current, which one a rotation made, and by which an account of ours signs in.
// It asks nobody outside: what is in force there, the custody package finds out.
package sealed

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
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
	kept, err := keeper.store.InCustody(ctx)
	if err != nil {
		return nil, err
	}
	var out []secret.Value
	for _, c := range kept {
		if spec, err := credential.Of(c.Kind); err != nil || spec.Public != nil {
			continue // known by its fingerprint
		}
		all, err := keeper.store.Secrets(ctx, c.ID)
		if err != nil {
			return out, err
		}
		retired := 0
		for _, s := range all {
			// Of those that are refused the last ones are looked for still: what holds
			// one was forgotten.
			if s.State == records.SecretRetired {
				if retired++; retired > 2 || s.Erased() {
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

// NewSecret seals a value for a credential. rotation is the one that made it, or
// 0.
func (keeper *Keeper) NewSecret(c records.Credential, rotation records.RotationID, v secret.Value) (records.Secret, error) {
	spec, err := credential.Of(c.Kind)
	if err != nil {
		return records.Secret{}, err
	}
	s := records.Secret{CredentialID: c.ID, Kind: c.Kind, AccountID: c.AccountID, SystemID: c.SystemID, RotationID: rotation, Fingerprint: keeper.base.Fingerprints.Of(v)}
	if spec.Public != nil {
		public, err := spec.Public(v)
		if err != nil {
			return s, err
		}
		s.Public = public.Fingerprint
	}
	s.Sealed, err = keeper.base.Sealer.Seal(s.Binding(), v)
	return s, err
}

// Value opens the value with a fingerprint.
func (keeper *Keeper) Value(v Values, fingerprint string) (secret.Value, error) {
	for _, s := range v.all {
		if s.Fingerprint == fingerprint && s.Erased() {
			return secret.Value{}, errors.New("the value that stands there was in custody, and is erased: it was refused for so long")
		}
		if s.Fingerprint == fingerprint {
			return keeper.base.Sealer.Open(s.Binding(), s.Sealed)
		}
	}
	return secret.Value{}, errors.New("the value that stands there is not in custody")
}

// Values are the sealed values of a credential, opened.
type Values struct {
	Current secret.Value
	all     []records.Secret
}

// Values opens what is in custody of a credential.
func (keeper *Keeper) Values(ctx context.Context, id records.CredentialID) (Values, error) {
	all, err := keeper.store.Secrets(ctx, id)
	if err != nil {
		return Values{}, err
	}
	v := Values{all: all}
	for _, s := range all {
		if s.State == records.SecretCurrent {
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
func (keeper *Keeper) OfRotation(ctx context.Context, r records.Rotation) (old, next *records.Secret, err error) {
	all, err := keeper.store.Secrets(ctx, r.CredentialID)
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
		case r.OldSecret == 0 && s.State == records.SecretCurrent: // begun by an earlier version
			old = s
		}
	}
	if after := r.Next(); after != 0 {
		// Two accounts take turns: the new value is the other one's.
		if all, err = keeper.store.Secrets(ctx, after); err != nil {
			return nil, nil, err
		}
		if at := slices.IndexFunc(all, func(s records.Secret) bool { return s.RotationID == r.ID }); at >= 0 {
			next = &all[at]
		}
	}
	return old, next, nil
}

// Current is the sealed value that is in force; nil when there is none.
func (keeper *Keeper) Current(ctx context.Context, id records.CredentialID) (*records.Secret, error) {
	all, err := keeper.store.Secrets(ctx, id)
	for i := range all {
		if all[i].State == records.SecretCurrent {
			return &all[i], err
		}
	}
	return nil, err
}

// Public is the public half of a sealed value; nil where its kind has none.
func (keeper *Keeper) Public(s records.Secret) (*credential.Public, error) {
	spec, err := credential.Of(s.Kind)
	if err != nil || spec.Public == nil {
		return nil, err
	}
	value, err := keeper.base.Sealer.Open(s.Binding(), s.Sealed)
	if err != nil {
		return nil, err
	}
	public, err := spec.Public(value)
	return &public, err
}

// Given opens a value that a person gave for a credential.
func (keeper *Keeper) Given(ctx context.Context, id records.CredentialID, fingerprint string) (secret.Value, error) {
	s, err := keeper.store.GivenValue(ctx, id, fingerprint)
	if errors.Is(err, app.ErrNotFound) {
		return secret.Value{}, fmt.Errorf("%w: the value that was given for it is not kept any more: give it again", app.ErrRefused)
	}
	if err != nil {
		return secret.Value{}, err
	}
	return keeper.base.Sealer.Open(s.Binding(), s.Sealed)
}
