package custody

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
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
		case d.Kind == estate.DependentCertificate:
			continue // about it, and not it
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

// keyOf is the key of a service identity that is meant where nobody says which: the one in
// custody, the one that something holds, or the only one.
func (custody *Custody) keyOf(ctx context.Context, a records.Account) (records.Credential, error) {
	page, err := custody.store.Credentials(ctx, records.Query{Filters: []string{"kind=" + string(credential.CloudKey), "account_id=" + a.ID.String()}, Limit: 100})
	if err != nil {
		return records.Credential{}, err
	}
	for _, meant := range []func(records.Credential) bool{
		records.Credential.InCustody,
		func(c records.Credential) bool { return c.Locations > 0 },
		func(records.Credential) bool { return true },
	} {
		var found []records.Credential
		for _, c := range page.Items {
			if meant(c) {
				found = append(found, c)
			}
		}
		if len(found) == 1 {
			return found[0], nil
		}
	}
	if len(page.Items) == 0 {
		return records.Credential{}, fmt.Errorf("%w: %s on %s is proven by keys, and none of it is known: run a survey of %s", app.ErrRefused, a.Name, a.System, a.System)
	}
	var all []string
	for _, c := range page.Items {
		all = append(all, c.Name+" ("+c.Fingerprint+")")
	}
	return records.Credential{}, fmt.Errorf("%w: %s on %s is proven by keys, and has several: name one by its fingerprint: %s", app.ErrInput, a.Name, a.System, strings.Join(all, ", "))
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
