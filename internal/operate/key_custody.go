package operate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// FindKey takes a key pair by its number (key:7), its fingerprint or the
// beginning of it, or its name (with or without key: before it).
func (o *Operator) FindKey(ctx context.Context, spelling string) (store.KeyPair, error) {
	rest, found := strings.CutPrefix(spelling, "key:")
	if id := number(rest); found && id > 0 {
		return o.Store.KeyPair(ctx, id)
	}
	if found {
		spelling = rest
	}
	filter := "name=" + spelling
	if strings.HasPrefix(spelling, "SHA256:") {
		k, err := o.Store.KeyPairOf(ctx, spelling)
		if !errors.Is(err, store.ErrNotFound) || len(spelling) < len("SHA256:")+6 {
			return k, err
		}
		filter = "fingerprint~" + spelling
	}
	page, err := o.Store.KeyPairs(ctx, store.Query{Filters: []string{filter}, Limit: 10})
	switch {
	case err != nil:
		return store.KeyPair{}, err
	case len(page.Items) == 0:
		return store.KeyPair{}, fmt.Errorf("key %q: %w: 'moss key list' shows those that were seen", spelling, ErrNotFound)
	case len(page.Items) > 1:
		var all []string
		for _, k := range page.Items {
			all = append(all, k.Fingerprint)
		}
		return store.KeyPair{}, fmt.Errorf("%w: %q is ambiguous: %s", ErrInput, spelling, strings.Join(all, ", "))
	}
	return page.Items[0], nil
}

// doors are the accounts that a key pair opens, as a plan has them.
func (o *Operator) doors(ctx context.Context, k store.KeyPair) ([]rotation.KeyDoor, []store.Dependent, error) {
	all, err := o.Store.DependentsOfKey(ctx, k.Fingerprint)
	if err != nil {
		return nil, nil, err
	}
	var doors []rotation.KeyDoor
	var holders []store.Dependent
	for _, d := range all {
		if d.Kind == estate.DependentKey {
			holders = append(holders, d)
		}
	}
	slices.SortFunc(holders, func(a, b store.Dependent) int {
		return cmp.Or(cmp.Compare(a.System, b.System), cmp.Compare(a.Place, b.Place))
	})
	for _, d := range all {
		if d.Kind != estate.DependentAuthorized {
			continue
		}
		door := rotation.KeyDoor{SystemID: strconv.FormatInt(d.SystemID, 10), System: d.System, Path: d.Path, Account: d.Key.Lets}
		// Where only some addresses are admitted, the proof comes from a holder.
		if len(holders) > 0 && slices.ContainsFunc(d.Key.Options, func(o string) bool { return strings.HasPrefix(o, "from=") }) {
			door.Via = holders[0].System
		}
		doors = append(doors, door)
	}
	return doors, holders, nil
}

// privateAt says where in its file a holder's key stands.
func privateAt(d store.Dependent) held.Locator {
	nth := 0
	if rest, found := strings.CutPrefix(d.Place, d.Path+"#"); found {
		if n, err := strconv.Atoi(rest); err == nil {
			nth = n - 1
		}
	}
	return held.Locator{Layout: held.LayoutPEM, Nth: nth, Part: held.PartValue}
}

// knock signs in at a door.
func (o *Operator) knock(ctx context.Context, system string, door rotation.Door, key secret.Value) (connect.Verdict, error) {
	v, err := o.Store.System(ctx, system)
	if err != nil {
		return connect.Verdict{}, err
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return connect.Verdict{}, err
	}
	admitter, able := connector.(connect.Admitter)
	if !able {
		return connect.Verdict{}, fmt.Errorf("%w: %s cannot prove a key", ErrCannot, system)
	}
	var through *connect.Target
	if door.Via != "" {
		from, err := o.Store.System(ctx, door.Via)
		if err != nil {
			return connect.Verdict{}, err
		}
		_, t, err := o.target(ctx, from)
		if err != nil {
			return connect.Verdict{}, err
		}
		through = &t
	}
	return admitter.VerifyKey(ctx, target, connect.AccountRef{Name: door.Account}, key, through)
}

// knocked is what one door answered.
type knocked struct {
	system  string
	door    rotation.Door
	verdict connect.Verdict
	err     error
}

func (k knocked) name() string { return k.door.Account + " on " + k.system }

// knockAll signs in at every door of a key that says whom it lets in, a few at
// the same time.
func (o *Operator) knockAll(ctx context.Context, doors []rotation.KeyDoor, key secret.Value) []knocked {
	var out []knocked
	seen := map[string]bool{}
	for _, d := range doors {
		k := knocked{system: d.System, door: rotation.Door{Account: d.Account, Via: d.Via}}
		if d.Account != "" && !seen[k.name()] {
			seen[k.name()] = true
			out = append(out, k)
		}
	}
	var all sync.WaitGroup
	slots := make(chan struct{}, o.Parallel)
	for i := range out {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			out[i].verdict, out[i].err = o.knock(ctx, out[i].system, out[i].door, key)
		}()
	}
	all.Wait()
	return out
}

// judged sums up what doors answered: accepted when every one that could be
// asked opened, and one did. unclear counts those that could not be asked.
func judged(answers []knocked) (verdict connect.Verdict, unclear int) {
	var opened, refused, silent []string
	for _, k := range answers {
		switch {
		case k.err != nil:
			silent = append(silent, k.name()+" ("+k.err.Error()+")")
		case k.verdict.Accepted:
			opened = append(opened, k.name())
		default:
			refused = append(refused, k.name())
		}
	}
	verdict = connect.Verdict{Accepted: len(opened) > 0 && len(refused) == 0, Words: fmt.Sprintf("%d of %d doors opened", len(opened), len(answers))}
	if len(opened) > 0 {
		verdict.Words += ": " + strings.Join(opened, ", ")
	}
	if len(refused) > 0 {
		verdict.Code = connect.VerdictWrong
		verdict.Words += "; refused by " + strings.Join(refused, ", ")
	}
	if len(silent) > 0 {
		verdict.Words += "; could not be asked: " + strings.Join(silent, ", ")
	}
	return verdict, len(silent)
}

// TakeKey takes a key pair into custody. Without a value its private half is
// read from a file that holds it. It is proven at its doors at once; one that
// refuses is told in the verdict, and by the finding drift.
func (o *Operator) TakeKey(ctx context.Context, by string, k store.KeyPair, value secret.Value) (connect.Verdict, error) {
	var verdict connect.Verdict
	if err := o.notRotating(ctx, k); err != nil {
		return verdict, err
	}
	doors, holders, err := o.doors(ctx, k)
	if err != nil {
		return verdict, err
	}
	if len(doors) == 0 {
		return verdict, fmt.Errorf("%w: no entry that lets its holder in is known, so that nothing could prove it: survey the systems that it opens", ErrRefused)
	}
	if err := o.notOurs(ctx, k); err != nil {
		return verdict, err
	}
	entry := ledger.Entry{Actor: by, Act: "custody.take", Subject: k.Name, Ref: k.Credential().String(), Detail: k.Fingerprint}
	err = o.act(ctx, entry, func() error {
		if value.Empty() {
			if value, err = o.readPrivate(ctx, k, holders); err != nil {
				return err
			}
		}
		if blocks := keys.Blocks(value.Reveal()); len(blocks) == 1 {
			value = blocks[0].Private // without what stands around it
		}
		pair, err := keys.PairOf(value)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrInput, err)
		}
		if pair.Fingerprint != k.Fingerprint {
			return fmt.Errorf("%w: that is another key: %s", ErrInput, pair.Fingerprint)
		}
		answers := o.knockAll(ctx, doors, value)
		var silent int
		verdict, silent = judged(answers)
		if !slices.ContainsFunc(answers, func(a knocked) bool { return a.verdict.Accepted }) {
			if silent == len(answers) && silent > 0 {
				return errors.New(verdict.Words)
			}
			return fmt.Errorf("%w: no door opens with it: %s", ErrRefused, verdict.Words)
		}
		sealed, err := o.newSecret(k.Credential(), 0, 0, value)
		if err != nil {
			return err
		}
		sealed.Public = pair.Fingerprint
		keep := context.WithoutCancel(ctx)
		if err := o.Store.TakeCustody(keep, sealed, by, verdict.Words); err != nil {
			return err
		}
		return o.keyVerdict(keep, k, verdict)
	})
	return verdict, err
}

// readPrivate reads a private key where it is held.
func (o *Operator) readPrivate(ctx context.Context, k store.KeyPair, holders []store.Dependent) (secret.Value, error) {
	var reasons []string
	for _, d := range holders {
		switch {
		case d.Key.Encrypted:
			reasons = append(reasons, fmt.Sprintf("%s on %s: %v", d.Path, d.System, keys.ErrPassphrase))
			continue
		case ctx.Err() != nil:
			return secret.Value{}, ctx.Err()
		}
		v, err := o.Store.System(ctx, d.System)
		if err != nil {
			return secret.Value{}, err
		}
		connector, target, err := o.target(ctx, v)
		if err != nil {
			return secret.Value{}, err
		}
		holder, able := connector.(connect.Holder)
		if !able {
			continue
		}
		state, err := holder.ReadCopies(ctx, target, d.Path, []held.Locator{privateAt(d)})
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
	return secret.Value{}, fmt.Errorf("%w: its private half could not be read (%s): give it yourself", ErrRefused, strings.Join(reasons, "; "))
}

// notOurs refuses the keys with which we sign in ourselves: who changes the
// lock must not stand outside meanwhile.
func (o *Operator) notOurs(ctx context.Context, k store.KeyPair) error {
	page, err := o.Store.LogOns(ctx, store.Query{Limit: 500})
	if err != nil {
		return err
	}
	for _, l := range page.Items {
		if !l.HasKey {
			continue
		}
		full, err := o.Store.LogOn(ctx, l.Name)
		if err != nil {
			return err
		}
		value, err := o.open("logon/"+full.Name+"/key", full.SealedKey)
		if err != nil {
			return err
		}
		if pair, err := keys.PairOf(value); err == nil && pair.Fingerprint == k.Fingerprint {
			return fmt.Errorf("%w: it is the key of the stored log-on %q, with which systems are reached: give that log-on another key first", ErrRefused, l.Name)
		}
	}
	return nil
}

// verifyKey signs in at every door with the sealed key.
func (o *Operator) verifyKey(ctx context.Context, by string, k store.KeyPair, value secret.Value) (connect.Verdict, error) {
	var verdict connect.Verdict
	doors, _, err := o.doors(ctx, k)
	if err != nil {
		return verdict, err
	}
	var silent int
	entry := ledger.Entry{Actor: by, Act: "custody.verify", Subject: k.Name, Ref: k.Credential().String()}
	err = o.act(ctx, entry, func() error {
		answers := o.knockAll(ctx, doors, value)
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
		return verdict, errors.Join(err, o.Store.SaveVerdict(keep, k.Credential(), "unclear", err.Error()))
	}
	return verdict, o.keyVerdict(keep, k, verdict)
}

// keyVerdict keeps a verdict, and raises or clears the finding drift.
func (o *Operator) keyVerdict(ctx context.Context, k store.KeyPair, verdict connect.Verdict) error {
	state := "accepted"
	var drift []store.Finding
	if !verdict.Accepted {
		state = "refused"
		drift = []store.Finding{{
			Key: driftKey(k.Credential()), Kind: "drift", Severity: "high", Subject: k.Name,
			What: "the sealed key does not open every door: " + verdict.Words, Next: "somebody changed an entry: survey that system, then rehearse again, or release the key",
		}}
	}
	return errors.Join(o.Store.SetFindings(ctx, driftKey(k.Credential()), drift), o.Store.SaveVerdict(ctx, k.Credential(), state, verdict.Words))
}
