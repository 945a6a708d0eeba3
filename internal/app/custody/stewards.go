package custody

import (
	"context"
	"errors"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// spellings are all ways in which a steward may name an account.
func spellings(a records.Account) []string { return []string{a.Name, a.DN, a.UPN, a.SID} }

// mayMean: the steward's account may be this one; which system it is used on
// decides.
func mayMean(name string, a records.Account) bool {
	ref, err := naming.Parse(name)
	for _, s := range spellings(a) {
		if s != "" && (strings.EqualFold(s, name) || err == nil && strings.EqualFold(s, ref.Name)) {
			return true
		}
	}
	return strings.EqualFold(name, a.DN)
}

// MayBeOurs says of accounts whether we may sign in to some system with one, by how our
// stewards are spelt: whether it is really that one is not looked up.
func (custody *Custody) MayBeOurs(ctx context.Context) (func(records.Account) bool, error) {
	page, err := custody.store.Stewards(ctx, records.Query{Limit: 1000})
	return func(a records.Account) bool {
		for _, l := range page.Items {
			if mayMean(l.Account, a) {
				return true
			}
		}
		return false
	}, err
}

// ownUses returns the systems that are reached with an account.
func (custody *Custody) ownUses(ctx context.Context, a records.Account) ([]records.System, error) {
	ours := map[string]bool{}
	page, err := custody.store.Stewards(ctx, records.Query{Limit: 1000})
	if err != nil {
		return nil, err
	}
	for _, l := range page.Items {
		if l.HasPassword && mayMean(l.Account, a) {
			ours[strings.ToLower(l.Name)] = true
		}
	}
	if len(ours) == 0 {
		return nil, nil
	}
	lookup, err := custody.store.Lookup(ctx)
	if err != nil {
		return nil, err
	}
	all, err := custody.store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	var out []records.System
	for _, v := range all {
		if !ours[strings.ToLower(v.Steward)] {
			continue
		}
		l, err := custody.store.Steward(ctx, v.Steward)
		if err != nil {
			return nil, err
		}
		res, err := naming.Resolve(l.Account, store.ContextOf(v), lookup)
		if err != nil {
			return nil, err
		}
		mine := res.State == naming.Resolved && app.Number[records.AccountID](res.Accounts[0].ID) == a.ID
		// A data store or a host knows the account by its bare name.
		if !mine && v.ID == a.SystemID && strings.EqualFold(l.Account, a.Name) {
			mine = true
		}
		if mine {
			out = append(out, v)
		}
	}
	return out, nil
}

// LinkStewards links the systems that are reached with an account in custody to
// it. With only set, just those whose steward has that value.
func (custody *Custody) LinkStewards(ctx context.Context, by access.Actor, a records.Account, only *secret.Value) ([]records.System, error) {
	uses, err := custody.ownUses(ctx, a)
	if err != nil || len(uses) == 0 {
		return nil, err
	}
	var links []records.StewardLink
	var linked []records.System
	var names []string
	for _, v := range uses {
		if have, err := custody.store.StewardLinkOf(ctx, v.ID); err == nil && have.AccountID == a.ID && strings.EqualFold(have.Steward, v.Steward) {
			linked = append(linked, v)
			continue
		}
		if only != nil {
			l, err := custody.store.Steward(ctx, v.Steward)
			if err != nil {
				return nil, err
			}
			stored, err := custody.base.Open(sealed.StewardPassword(l.Name), l.SealedPassword)
			if err != nil {
				return nil, err
			}
			if !stored.Equal(*only) {
				continue // it does not work now, and is not made to
			}
		}
		sealed, err := custody.base.Sealer.Seal(sealed.StewardBinding(v.ID, v.Steward), secret.New(a.ID.String()))
		if err != nil {
			return nil, err
		}
		links = append(links, records.StewardLink{SystemID: v.ID, Steward: v.Steward, AccountID: a.ID, Sealed: sealed})
		linked = append(linked, v)
		names = append(names, v.Name)
	}
	if len(links) == 0 {
		return linked, nil
	}
	return linked, custody.store.LinkStewards(ctx, links, ledger.Entry{Actor: by.Name, Act: "steward.link", Phase: ledger.Outcome, Subject: a.Name, System: a.System, Result: "done", Detail: "systems that are reached with it sign in with its value in custody: " + strings.Join(names, ", ")})
}

// unlinkStewards gives the stewards the value that is in force, before
// custody ends.
func (custody *Custody) unlinkStewards(ctx context.Context, by access.Actor, c records.Credential) error {
	links, err := custody.store.StewardLinks(ctx, c.AccountID)
	if err != nil || len(links) == 0 {
		return err
	}
	own, err := custody.sealed.Values(ctx, c.ID)
	if err != nil || own.Current.Empty() {
		return err
	}
	seen := map[string]bool{}
	for _, link := range links {
		if seen[strings.ToLower(link.Steward)] {
			continue
		}
		seen[strings.ToLower(link.Steward)] = true
		l, err := custody.store.Steward(ctx, link.Steward)
		if errors.Is(err, app.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		key, err := custody.base.Open(sealed.StewardKey(l.Name), l.SealedKey)
		if err != nil {
			return err
		}
		if err := custody.inventory.SaveSteward(ctx, access.Following(by), l.Name, l.Account, own.Current, key); err != nil {
			return err
		}
	}
	return nil
}
