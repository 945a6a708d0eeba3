package custody

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// TakeKey takes a key pair into custody. Without a value its private half is
// read from a file that holds it. It is proven at its doors at once; one that
// refuses is told in the verdict, and by the finding drift.
func (custody *Custody) TakeKey(ctx context.Context, by string, k store.KeyPair, value secret.Value) (connect.Verdict, error) {
	var verdict connect.Verdict
	if err := custody.NotRotating(ctx, k); err != nil {
		return verdict, err
	}
	doors, holders, err := custody.picture.Doors(ctx, k)
	if err != nil {
		return verdict, err
	}
	if len(doors) == 0 {
		return verdict, fmt.Errorf("%w: no entry that lets its holder in is known, so that nothing could prove it: survey the systems that it opens", app.ErrRefused)
	}
	if err := custody.NotOurs(ctx, k); err != nil {
		return verdict, err
	}
	entry := ledger.Entry{Actor: by, Act: "custody.take", Subject: k.Name, Ref: k.Credential().String(), Detail: k.Fingerprint}
	err = custody.base.Act(ctx, entry, func() error {
		if value.Empty() {
			if value, err = custody.readPrivate(ctx, k, holders); err != nil {
				return err
			}
		}
		if blocks := keys.Blocks(value.Reveal()); len(blocks) == 1 {
			value = blocks[0].Private // without what stands around it
		}
		pair, err := keys.PairOf(value)
		if err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
		if pair.Fingerprint != k.Fingerprint {
			return fmt.Errorf("%w: that is another key: %s", app.ErrInput, pair.Fingerprint)
		}
		answers := custody.KnockAll(ctx, doors, value)
		var silent int
		verdict, silent = judged(answers)
		if !slices.ContainsFunc(answers, func(a knocked) bool { return a.Verdict.Accepted }) {
			if silent == len(answers) && silent > 0 {
				return errors.New(verdict.Words)
			}
			return fmt.Errorf("%w: no door opens with it: %s", app.ErrRefused, verdict.Words)
		}
		sealed, err := custody.sealed.NewSecret(k.Credential(), 0, 0, value)
		if err != nil {
			return err
		}
		sealed.Public = pair.Fingerprint
		keep := context.WithoutCancel(ctx)
		if err := custody.store.TakeCustody(keep, sealed, by, verdict.Words); err != nil {
			return err
		}
		return custody.keyVerdict(keep, k, verdict)
	})
	return verdict, err
}

// readPrivate reads a private key where it is held.
func (custody *Custody) readPrivate(ctx context.Context, k store.KeyPair, holders []store.Dependent) (secret.Value, error) {
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
		holder, able := connector.(connect.Holder)
		if !able {
			continue
		}
		state, err := holder.ReadCopies(ctx, target, d.Path, []held.Locator{picture.PrivateAt(d)})
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
func (custody *Custody) NotOurs(ctx context.Context, k store.KeyPair) error {
	page, err := custody.store.LogOns(ctx, store.Query{Limit: 500})
	if err != nil {
		return err
	}
	for _, l := range page.Items {
		if !l.HasKey {
			continue
		}
		full, err := custody.store.LogOn(ctx, l.Name)
		if err != nil {
			return err
		}
		value, err := custody.base.Open("logon/"+full.Name+"/key", full.SealedKey)
		if err != nil {
			return err
		}
		if pair, err := keys.PairOf(value); err == nil && pair.Fingerprint == k.Fingerprint {
			return fmt.Errorf("%w: it is the key of the stored log-on %q, with which systems are reached: give that log-on another key first", app.ErrRefused, l.Name)
		}
	}
	return nil
}

// verifyKey signs in at every door with the sealed key.
func (custody *Custody) verifyKey(ctx context.Context, by string, k store.KeyPair, value secret.Value) (connect.Verdict, error) {
	var verdict connect.Verdict
	doors, _, err := custody.picture.Doors(ctx, k)
	if err != nil {
		return verdict, err
	}
	var silent int
	entry := ledger.Entry{Actor: by, Act: "custody.verify", Subject: k.Name, Ref: k.Credential().String()}
	err = custody.base.Act(ctx, entry, func() error {
		answers := custody.KnockAll(ctx, doors, value)
		if verdict, silent = judged(answers); len(answers) == 0 {
			verdict.Code, verdict.Words = connect.VerdictWrong, "no entry lets its holder in any more"
		}
		if silent > 0 && verdict.Code == "" {
			return errors.New(verdict.Words)
		}
		return nil
	})
	keep := context.WithoutCancel(ctx)
	if err != nil {
		return verdict, errors.Join(err, custody.store.SaveVerdict(keep, k.Credential(), "unclear", err.Error()))
	}
	return verdict, custody.keyVerdict(keep, k, verdict)
}

// keyVerdict keeps a verdict, and raises or clears the finding drift.
func (custody *Custody) keyVerdict(ctx context.Context, k store.KeyPair, verdict connect.Verdict) error {
	state := "accepted"
	var drift []store.Finding
	if !verdict.Accepted {
		state = "refused"
		drift = []store.Finding{{
			Key: driftKey(k.Credential()), Kind: "drift", Severity: "high", Subject: k.Name,
			What: "the sealed key does not open every door: " + verdict.Words, Next: "somebody changed an entry: survey that system, then rehearse again, or release the key",
		}}
	}
	return errors.Join(custody.store.SetFindings(ctx, driftKey(k.Credential()), drift), custody.store.SaveVerdict(ctx, k.Credential(), state, verdict.Words))
}
