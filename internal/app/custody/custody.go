// Package custody takes credentials, keeps them sealed, verifies and releases
// them: the password of an account, or a key pair with the doors that it opens.
package custody

import (
	"context"
	"fmt"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// Custody takes credentials and keeps them.
type Custody struct {
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	inventory *inventory.Inventory
	picture   *picture.Picture
	survey    *survey.Surveys

	lock     sync.Mutex
	settling bool // values whose fate is not known are being asked for
}

// New makes a Custody.
func New(base *app.Base, store Store, values *sealed.Keeper, systems *inventory.Inventory, pictures *picture.Picture, surveys *survey.Surveys) *Custody {
	return &Custody{base: base, store: store, sealed: values, inventory: systems, picture: pictures, survey: surveys}
}

// ownPassword refuses accounts whose password somebody else sets: a directory
// that changes it by itself, or the machine that it belongs to.
func ownPassword(a store.Account) error {
	switch a.Type {
	case "managed":
		return fmt.Errorf("%w: the directory changes the password of %s by itself, and the hosts that may use it fetch it there: setting one would break them", app.ErrRefused, a.Name)
	case "computer":
		return fmt.Errorf("%w: %s is a computer: its password belongs to the machine itself, which would lose its place in the domain", app.ErrRefused, a.Name)
	}
	return nil
}

// Take takes an account with its known password, which is verified at
// the authority at once.
func (custody *Custody) Take(ctx context.Context, by string, a store.Account, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{}, fmt.Errorf("%w: no password was given", app.ErrInput)
	}
	if err := ownPassword(a); err != nil {
		return connect.Verdict{}, err
	}
	if err := custody.NotRotating(ctx, a); err != nil {
		return connect.Verdict{}, err
	}
	_, target, verifier, err := custody.inventory.Authority(ctx, a)
	if err != nil {
		return connect.Verdict{}, err
	}
	sealed, err := custody.sealed.NewSecret(a.Credential(), a.SystemID, 0, value)
	if err != nil {
		return connect.Verdict{}, err
	}
	var verdict connect.Verdict
	entry := ledger.Entry{Actor: by, Act: "custody.take", Subject: a.Name, System: a.System, Ref: fmt.Sprintf("account/%d", a.ID)}
	err = custody.base.Act(ctx, entry, func() error {
		var err error
		if verdict, err = verifier.Verify(ctx, target, inventory.RefOf(a), value); err != nil {
			return err
		}
		if !verdict.Accepted {
			return fmt.Errorf("%w: %s does not accept it: %s", app.ErrRefused, target.Name, verdict.Words)
		}
		return custody.store.TakeCustody(context.WithoutCancel(ctx), sealed, by, verdict.Words)
	})
	if err != nil {
		return verdict, err
	}
	if _, err := custody.LinkStewards(context.WithoutCancel(ctx), by, a, &value); err != nil {
		return verdict, err
	}
	return verdict, custody.afterCustody(ctx, a)
}

// NotRotating refuses a credential whose rotation is not finished.
func (custody *Custody) NotRotating(ctx context.Context, s Subject) error {
	page, err := custody.store.Rotations(ctx, store.Query{Filters: append(RotationsOf(s.Credential()), "mode!=finished"), Limit: 1})
	if err != nil {
		return err
	}
	if len(page.Items) > 0 {
		return fmt.Errorf("%w: rotation %d of %s is not finished", app.ErrRefused, page.Items[0].ID, NameOf(s))
	}
	return nil
}

// afterCustody looks again at held copies, which can now be compared.
func (custody *Custody) afterCustody(ctx context.Context, s Subject) error {
	ctx = context.WithoutCancel(ctx)
	custody.base.ForgetKnown()
	if err := custody.store.SetFindings(ctx, driftKey(s.Credential()), nil); err != nil {
		return err
	}
	if kept, err := custody.store.Custody(ctx, s.Credential()); err == nil && !kept.Taken.IsZero() {
		custody.survey.SearchLater()
	}
	if s.Credential().KeyID != 0 {
		return nil // where it is known by its fingerprint
	}
	systems, err := custody.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	return custody.picture.Place(ctx, systems)
}

// Release ends custody.
func (custody *Custody) Release(ctx context.Context, by, reason string, s Subject) error {
	if reason == "" {
		return fmt.Errorf("%w: give a reason: the sealed values are removed", app.ErrInput)
	}
	if a, isAccount := s.(store.Account); isAccount {
		// Law 2, for our own log-ons: they get the value before it is removed.
		if err := custody.unlinkStewards(ctx, by, a); err != nil {
			return err
		}
	}
	err := custody.store.ReleaseCustody(ctx, s.Credential(), ledger.Entry{Actor: by, Act: "custody.release", Phase: ledger.Outcome, Subject: NameOf(s), System: SystemOf(s), Reason: reason, Result: "done"})
	if err != nil {
		return err
	}
	return custody.afterCustody(ctx, s)
}
