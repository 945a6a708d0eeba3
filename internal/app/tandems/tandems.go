// Package tandems says which two accounts take turns: while one works, the other one
// rests; when its turn comes it gets a new value, everything is moved to it, and the one
// rests. So a value changes without a moment in which a dependent is refused, also where
// the authority accepts one value at a time. How they change places is a rotation
// (packages rotate and core/rotation); here is who does, and what must be so for it.
package tandems

import (
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddTandem(ctx context.Context, v records.Tandem, entries ...ledger.Entry) (records.TandemID, error)
	DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error)
	RemoveTandem(ctx context.Context, v records.Tandem, entries ...ledger.Entry) error
	Tandem(ctx context.Context, id records.TandemID) (records.Tandem, error)
}

// Tandems adds and removes them.
type Tandems struct {
	base      *app.Base
	store     Store
	inventory *inventory.Inventory
	custody   *custody.Custody
}

// New makes Tandems.
func New(base *app.Base, store Store, inventory *inventory.Inventory, custody *custody.Custody) *Tandems {
	return &Tandems{base, store, inventory, custody}
}

// shown is how many dependents of a resting account are named.
const shown = 5

// Add has two accounts take turns, of which one works now. Nothing is changed on any
// system: the other one rests from its first turn on.
func (t *Tandems) Add(ctx context.Context, by access.Actor, working, resting records.Credential, reason string) (records.Tandem, error) {
	if err := access.Decide(by, access.AddTandem, access.Object{Kind: "tandem", Name: working.Name}); err != nil {
		return records.Tandem{}, err
	}
	var sides [2]records.Account
	for i, c := range []records.Credential{working, resting} {
		var err error
		if sides[i], err = t.fit(ctx, c); err != nil {
			return records.Tandem{}, err
		}
	}
	was, next := sides[0], sides[1]
	switch {
	case was.ID == next.ID:
		return records.Tandem{}, fmt.Errorf("%w: %s takes turns with another account, not with itself", app.ErrInput, was.Name)
	case was.SystemID != next.SystemID:
		return records.Tandem{}, fmt.Errorf("%w: accounts that take turns are of one system: %s is of %s, and %s of %s", app.ErrInput, was.Name, was.System, next.Name, next.System)
	}
	if err := t.unused(ctx, next); err != nil {
		return records.Tandem{}, err
	}
	connector, target, err := t.inventory.Authority(ctx, was)
	if err != nil {
		return records.Tandem{}, err
	}
	if !connector.Describe().Can(connect.ActTurns) {
		return records.Tandem{}, fmt.Errorf("%w: accounts of %s do not take turns", app.ErrCannot, was.System)
	}
	can, why, err := connector.Alternates(ctx, target, connect.Point{Account: inventory.RefOf(was), Next: inventory.RefOf(next)})
	switch {
	case err != nil:
		return records.Tandem{}, err
	case !can:
		return records.Tandem{}, fmt.Errorf("%w: %s and %s cannot take turns: %s", app.ErrRefused, was.Name, next.Name, why)
	}
	v := records.Tandem{Working: records.TandemSide{CredentialID: working.ID, AccountID: was.ID, Account: was.Name}, Resting: records.TandemSide{CredentialID: resting.ID, AccountID: next.ID, Account: next.Name}, Reason: reason, AddedBy: by.Name}
	id, err := t.store.AddTandem(ctx, v, ledger.Entry{Actor: by.Name, Act: "tandem.add", Phase: ledger.Outcome, Subject: was.Name + " and " + next.Name, System: was.System, Reason: reason, Result: "done"})
	if err != nil {
		return v, err
	}
	t.base.Topics.Wake("all")
	return t.store.Tandem(ctx, id)
}

// fit refuses what does not take turns whatever the other one is.
func (t *Tandems) fit(ctx context.Context, c records.Credential) (records.Account, error) {
	switch {
	case c.Kind != credential.Password:
		return records.Account{}, fmt.Errorf("%w: %s: accounts with passwords take turns; a key is added beside the former one", app.ErrInput, c.Name)
	case !c.InCustody():
		return records.Account{}, fmt.Errorf("%w: %s is not in custody: take it with 'moss custody take' first", app.ErrRefused, c.Name)
	}
	a, err := t.store.Account(ctx, c.AccountID)
	if err != nil {
		return a, err
	}
	if a.Type == "managed" || a.Type == "computer" {
		return a, fmt.Errorf("%w: %s is a %s account, whose password its directory or host sets", app.ErrRefused, a.Name, a.Type)
	}
	ours, err := t.custody.MayBeOurs(ctx)
	if err == nil && ours(a) {
		err = fmt.Errorf("%w: we may sign in with %s ourselves: it does not rest", app.ErrRefused, a.Name)
	}
	return a, err
}

// unused refuses an account that something uses: it would stop when the account rests.
func (t *Tandems) unused(ctx context.Context, a records.Account) error {
	list, err := t.store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return err
	}
	var uses []string
	for _, d := range list {
		if words := picture.Uses(d, a.ID); words != "" {
			uses = append(uses, fmt.Sprintf("%s on %s %s %s", d.Place, d.System, words, a.Name))
		}
	}
	if len(uses) == 0 {
		return nil
	}
	more := ""
	if len(uses) > shown {
		more = fmt.Sprintf(" and %d more", len(uses)-shown)
	}
	return fmt.Errorf("%w: %s cannot rest: %s%s; move them to the other account first, or name the accounts the other way round", app.ErrRefused, a.Name, strings.Join(uses[:min(len(uses), shown)], "; "), more)
}

// Remove has two accounts take turns no more. Both stay as they are: the one that rests
// goes on resting.
func (t *Tandems) Remove(ctx context.Context, by access.Actor, id records.TandemID, reason string) error {
	if err := access.Decide(by, access.RemoveTandem, access.Object{Kind: "tandem", Name: fmt.Sprint(int64(id))}); err != nil {
		return err
	}
	v, err := t.store.Tandem(ctx, id)
	if err != nil {
		return err
	}
	if err := t.store.RemoveTandem(ctx, v, ledger.Entry{Actor: by.Name, Act: "tandem.remove", Phase: ledger.Outcome, Subject: v.Working.Account + " and " + v.Resting.Account, System: v.System, Reason: reason, Result: "done"}); err != nil {
		return err
	}
	t.base.Topics.Wake("all")
	return nil
}
