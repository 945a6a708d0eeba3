// Package custody takes credentials of any kind, keeps them sealed, verifies and
// releases them.
package custody

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Custody takes credentials and keeps them.
type Custody struct {
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	inventory *inventory.Inventory
	picture   *picture.Picture
	survey    *survey.Surveys

	twoPeople func(ctx context.Context, by access.Actor, account records.AccountID) (why string, err error) // nil: one is always enough

	turns    app.Turns // at credentials whose value is changed, taken or released
	lock     sync.Mutex
	settling bool // values whose fate is not known are being asked for
}

// NeedsTwo has f say why one person is not enough to change an account's password; what is in
// custody is then neither reset nor released past that.
func (custody *Custody) NeedsTwo(f func(ctx context.Context, by access.Actor, account records.AccountID) (why string, err error)) {
	custody.twoPeople = f
}

// enough refuses what would go round the second person that a rotation needs.
func (custody *Custody) enough(ctx context.Context, by access.Actor, c records.Credential, act string) error {
	if custody.twoPeople == nil || !c.InCustody() {
		return nil
	}
	why, err := custody.twoPeople(ctx, by, c.AccountID)
	if err != nil || why == "" {
		return err
	}
	return fmt.Errorf("%w: a second person is needed to change %s, for %s, and %s would go round that: rotate it ('moss rotate run', in an emergency with --emergency), or have the requirement lifted", app.ErrRefused, c.Name, why, act)
}

// New makes a Custody.
func New(base *app.Base, store Store, values *sealed.Keeper, systems *inventory.Inventory, pictures *picture.Picture, surveys *survey.Surveys) *Custody {
	return &Custody{base: base, store: store, sealed: values, inventory: systems, picture: pictures, survey: surveys}
}

// ownPassword refuses accounts whose password somebody else sets: a directory
// that changes it by itself, or the machine that it belongs to.
func ownPassword(a records.Account) error {
	switch a.Type {
	case "managed":
		return fmt.Errorf("%w: the directory changes the password of %s by itself, and the hosts that may use it fetch it there: setting one would break them", app.ErrRefused, a.Name)
	case "computer":
		return fmt.Errorf("%w: %s is a computer: its password belongs to the machine itself, which would lose its place in the domain", app.ErrRefused, a.Name)
	}
	return nil
}

// mayKeep refuses a credential that is not ours to change.
func (custody *Custody) mayKeep(ctx context.Context, c records.Credential) error {
	if c.Kind != credential.Password {
		return custody.NotOurs(ctx, c)
	}
	a, err := custody.store.Account(ctx, c.AccountID)
	if err != nil {
		return err
	}
	return ownPassword(a)
}

// errSilent: points could not be asked.
var errSilent = errors.New("not every point could be asked")

// Note gives the password of an account a row as a credential, unless it has one. What a
// service identity is proven by are keys: the one that is meant is found.
func (custody *Custody) Note(ctx context.Context, by access.Actor, account records.AccountID) (records.Credential, error) {
	a, err := custody.store.Account(ctx, account)
	if err != nil {
		return records.Credential{}, err
	}
	if err := access.Decide(by, access.NoteCredential, access.Object{Kind: "account", Name: a.Name}); err != nil {
		return records.Credential{}, err
	}
	if a.Type == estate.TypeServiceIdentity {
		return custody.keyOf(ctx, a)
	}
	return custody.store.NotePassword(ctx, a.ID)
}

// Take takes a credential with its known value, which is proven where it is
// accepted at once. Without a value that of a key is read from a file that holds
// it. A point that refuses while another accepts is told in the verdict, and by
// the finding drift.
func (custody *Custody) Take(ctx context.Context, by access.Actor, c records.Credential, value secret.Value) (connect.Verdict, error) {
	if err := access.Decide(by, access.TakeCustody, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	spec, err := credential.Of(c.Kind)
	if err != nil {
		return verdict, err
	}
	free, err := custody.turns.Take(ctx, c.ID.Ref())
	if err != nil {
		return verdict, err
	}
	defer free()
	if err := custody.NotRotating(ctx, c); err != nil {
		return verdict, err
	}
	if err := custody.mayKeep(ctx, c); err != nil {
		return verdict, err
	}
	points, holders, err := custody.picture.Points(ctx, c)
	if err != nil {
		return verdict, err
	}
	if err := provable(c, points); err != nil {
		return verdict, err
	}
	if value.Empty() && spec.Public == nil {
		return verdict, fmt.Errorf("%w: no %s was given", app.ErrInput, spec.Title)
	}
	entry := ledger.Entry{Actor: by.Name, Act: "custody.take", Subject: c.Name, System: c.System, Ref: c.ID.Ref(), Detail: c.Fingerprint}
	err = custody.base.Act(ctx, entry, func() error {
		if value.Empty() {
			if value, err = custody.readPrivate(ctx, c, holders); err != nil {
				return err
			}
		}
		if value, err = spec.Clean(value); err != nil {
			return fmt.Errorf("%w: %w", app.ErrInput, err)
		}
		if spec.Public != nil {
			public, err := spec.Public(value)
			if err != nil {
				return fmt.Errorf("%w: %w", app.ErrInput, err)
			}
			if public.Fingerprint != c.Fingerprint {
				return fmt.Errorf("%w: that is another key: %s", app.ErrInput, public.Fingerprint)
			}
		}
		answers := custody.TryAll(ctx, c, points, value)
		var silent error
		verdict, silent = judged(answers)
		if !slices.ContainsFunc(answers, func(a Answer) bool { return a.Err == nil && a.Verdict.Accepted }) {
			if silent != nil {
				return silent
			}
			return fmt.Errorf("%w: %s does not accept it: %s", app.ErrRefused, cmp.Or(c.System, "no door"), verdict.Words)
		}
		made, err := custody.sealed.NewSecret(c, 0, value)
		if err != nil {
			return err
		}
		return custody.store.TakeCustody(context.WithoutCancel(ctx), made, by.Name, verdict.Words)
	})
	if err != nil {
		return verdict, err
	}
	keep := context.WithoutCancel(ctx)
	if c.Kind == credential.Password {
		a, err := custody.store.Account(keep, c.AccountID)
		if err == nil {
			_, err = custody.LinkStewards(keep, by, a, &value)
		}
		if err != nil {
			return verdict, err
		}
	}
	if err := custody.afterCustody(ctx, c); err != nil {
		return verdict, err
	}
	return verdict, custody.saveVerdict(keep, c, verdict, nil)
}

// provable refuses what nothing could prove.
func provable(c records.Credential, points []building.Point) error {
	switch {
	case len(points) > 0:
		return nil
	case c.Kind == credential.Certificate:
		return fmt.Errorf("%w: no port that shows it is known, so that nothing could prove it: survey the host that serves it", app.ErrRefused)
	}
	return fmt.Errorf("%w: no entry that lets its holder in is known, so that nothing could prove it: survey the systems that it opens", app.ErrRefused)
}

// NotRotating refuses a credential whose rotation is not finished.
func (custody *Custody) NotRotating(ctx context.Context, c records.Credential) error {
	r, err := custody.store.UnfinishedOf(ctx, c.ID)
	if errors.Is(err, app.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return fmt.Errorf("%w: rotation %d of %s is not finished", app.ErrRefused, r.ID, r.Credential)
}

// afterCustody looks again at held copies, which can now be compared.
func (custody *Custody) afterCustody(ctx context.Context, c records.Credential) error {
	ctx = context.WithoutCancel(ctx)
	custody.base.ForgetKnown()
	if err := custody.store.SetFindings(ctx, driftKey(c), nil); err != nil {
		return err
	}
	if c.Fingerprint != "" {
		return nil // where it is known by its public half
	}
	if now, err := custody.store.Credential(ctx, c.ID); err == nil && now.InCustody() {
		custody.survey.SearchLater()
	}
	systems, err := custody.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	return custody.picture.Place(ctx, systems)
}

// Release ends custody.
func (custody *Custody) Release(ctx context.Context, by access.Actor, reason string, c records.Credential) error {
	if err := access.Decide(by, access.ReleaseCustody, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return err
	}
	if reason == "" {
		return fmt.Errorf("%w: give a reason: the sealed values are removed", app.ErrInput)
	}
	if err := custody.enough(ctx, by, c, "a release"); err != nil {
		return err
	}
	free, err := custody.turns.Take(ctx, c.ID.Ref())
	if err != nil {
		return err
	}
	defer free()
	if c.Kind == credential.Password {
		// Law 2, for our own stewards: they get the value before it is removed.
		if err := custody.unlinkStewards(ctx, by, c); err != nil {
			return err
		}
	}
	err = custody.store.ReleaseCustody(ctx, c.ID, ledger.Entry{Actor: by.Name, Act: "custody.release", Phase: ledger.Outcome, Subject: c.Name, System: c.System, Ref: c.ID.Ref(), Reason: reason, Result: "done"})
	if err != nil {
		return err
	}
	return custody.afterCustody(ctx, c)
}
