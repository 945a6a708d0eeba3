package custody

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// readPrivate reads a private key where it is held.
func (custody *Custody) readPrivate(ctx context.Context, k records.Credential, holders []records.Dependent) (secret.Value, error) {
	var reasons []string
	for _, d := range holders {
		switch {
		case d.Key.Encrypted:
			reasons = append(reasons, fmt.Sprintf("%s on %s: %v", d.Path, d.System, keys.ErrPassphrase))
			continue
		case ctx.Err() != nil:
			return secret.Value{}, ctx.Err()
		}
		v, err := custody.store.System(ctx, d.System)
		if err != nil {
			return secret.Value{}, err
		}
		connector, target, err := custody.inventory.Target(ctx, v)
		if err != nil {
			return secret.Value{}, err
		}
		if !connector.Describe().Can(connect.ActHold) {
			continue
		}
		state, err := connector.ReadCopies(ctx, target, d.Path, []held.Locator{picture.PrivateAt(d)})
		if err != nil {
			reasons = append(reasons, err.Error())
			continue
		}
		if pair, err := keys.PairOf(state.Found[0]); err == nil && pair.Fingerprint == k.Fingerprint {
			return state.Found[0], nil
		}
		reasons = append(reasons, fmt.Sprintf("%s on %s holds another key by now: run a survey", d.Path, d.System))
	}
	if len(reasons) == 0 {
		reasons = []string{"no file that was read holds it"}
	}
	return secret.Value{}, fmt.Errorf("%w: its private half could not be read (%s): give it yourself", app.ErrRefused, strings.Join(reasons, "; "))
}

// NotOurs refuses the keys with which we sign in ourselves: who changes the
// lock must not stand outside meanwhile.
func (custody *Custody) NotOurs(ctx context.Context, k records.Credential) error {
	page, err := custody.store.Stewards(ctx, records.Query{Limit: 500})
	if err != nil {
		return err
	}
	for _, l := range page.Items {
		if !l.HasKey {
			continue
		}
		full, err := custody.store.Steward(ctx, l.Name)
		if err != nil {
			return err
		}
		value, err := custody.base.Open(sealed.StewardKey(full.Name), full.SealedKey)
		if err != nil {
			return err
		}
		if pair, err := keys.PairOf(value); err == nil && pair.Fingerprint == k.Fingerprint {
			return fmt.Errorf("%w: it is the key of the steward %q, with which systems are reached: give that steward another key first", app.ErrRefused, l.Name)
		}
	}
	return nil
}
