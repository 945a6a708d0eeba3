package configuration

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/records"
)

// Parts of a document about what there is: systems, people with their roles, labels that
// accounts were given by hand.

// SystemText is something that can be reached. What proves it (approved host keys), where
// its secrets may go, and what the steward signs in with are no part of it.
type SystemText struct {
	Kind        string            `json:"kind" maxLength:"60"`
	Address     string            `json:"address,omitempty" maxLength:"300" doc:"Its name when absent"`
	Port        int               `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"The kind's usual one when absent"`
	Steward     string            `json:"steward,omitempty" maxLength:"63" doc:"By which it is reached"`
	Site        string            `json:"site,omitempty" maxLength:"300"`
	Environment string            `json:"environment,omitempty" maxLength:"300"`
	Owner       string            `json:"owner,omitempty" maxLength:"300"`
	Options     map[string]string `json:"options,omitempty" doc:"As GET /kinds says"`
	TrustedCA   string            `json:"trusted_ca,omitempty" maxLength:"100000" doc:"PEM of the CA that its certificate is verified against"`
}

// PersonText is what somebody may do.
type PersonText struct {
	Roles    []string `json:"roles" maxItems:"20" nullable:"false"`
	Disabled bool     `json:"disabled,omitempty"`
}

// LabelsText are those that an account was given by hand.
type LabelsText struct {
	Labels []string `json:"labels" maxItems:"200" nullable:"false"`
}

func systemText(v records.System) SystemText {
	return SystemText{v.Kind, v.Address, v.Port, v.Steward, v.Site, v.Environment, v.Owner, v.Options, v.TrustedCA}
}

func (c *Configuration) systems(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	seenOf := func(v records.System) seen[SystemText] { return seen[SystemText]{v.Name, systemText(v), v.Revision} }
	return part[SystemText]{
		name: "systems", wanted: d.Systems,
		now: each(c.store.AllSystems, func(v records.System) (string, SystemText, int64) { return v.Name, systemText(v), v.Revision }),
		at: func(ctx context.Context, name string) (seen[SystemText], error) {
			v, err := c.store.System(ctx, name)
			if errors.Is(err, records.ErrNotFound) || err == nil && !equalName(v.Name, name) { // a number is no name
				return seen[SystemText]{name: name}, nil
			}
			return seenOf(v), err
		},
		save: func(ctx context.Context, name string, v SystemText, revision int64) error {
			if v.Options == nil {
				v.Options = map[string]string{}
			}
			after := records.System{Name: name, Kind: v.Kind}
			before, err := c.store.System(ctx, name)
			switch {
			case revision == 0:
			case err != nil:
				return err
			case before.Kind != v.Kind:
				return fmt.Errorf("%w: it is a %s, and no %s: remove it first", app.ErrInput, before.Kind, v.Kind)
			default:
				after = before
			}
			after.Address, after.Port, after.Steward, after.Site, after.Environment, after.Owner, after.Options, after.TrustedCA = v.Address, v.Port, v.Steward, v.Site, v.Environment, v.Owner, v.Options, v.TrustedCA
			if revision == 0 {
				_, err := c.inventory.Add(ctx, by, after)
				return err
			}
			return c.inventory.Change(ctx, by, before, after, revision)
		},
		remove: func(ctx context.Context, name string, _ int64) error { return c.inventory.Remove(ctx, by, name) },
	}.steps(ctx)
}

// goesWith says what goes with a system.
func (c *Configuration) goesWith(ctx context.Context, name string) (string, error) {
	v, err := c.store.System(ctx, name)
	if err != nil {
		return "", err
	}
	r, err := c.store.Removal(ctx, v.ID)
	return fmt.Sprintf("%d accounts, %d dependents, %d rehearsals and %d rotations", r.Accounts, r.Dependents, r.Rehearsals, r.Rotations), err
}

func (c *Configuration) everybody(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[PersonText]{
		name: "people", wanted: inOrder(d.People, func(v PersonText) PersonText {
			v.Roles = slices.Sorted(slices.Values(v.Roles))
			return v
		}),
		now: each(func(ctx context.Context) ([]records.User, error) {
			page, err := c.store.Users(ctx, records.Query{Limit: mostPeople})
			if err == nil && page.More {
				err = fmt.Errorf("%w: there are more than %d people: change them by hand", app.ErrRefused, mostPeople)
			}
			return page.Items, err
		}, func(v records.User) (string, PersonText, int64) { return v.Name, personText(v), 1 }),
		save: func(ctx context.Context, name string, v PersonText, revision int64) error {
			if revision == 0 {
				return fmt.Errorf("%w: somebody new needs a password: add them with 'moss user add' first", app.ErrInput)
			}
			return c.people.Keep(ctx, by, name, people.Change{Roles: v.Roles, Disabled: &v.Disabled})
		},
		remove: func(context.Context, string, int64) error {
			return fmt.Errorf("%w: people are not removed by a text, for the ledger names them: name them with 'disabled: true'", app.ErrInput)
		},
	}.steps(ctx)
}

// delicate: somebody approves, or shall, and so no one person changes them.
func (c *Configuration) delicate(ctx context.Context, d Document, name string) (bool, error) {
	v, err := c.store.User(ctx, name)
	want, _ := named(d.People, name)
	return people.Delicate(append(slices.Clone(v.Roles), want.Roles...)...), err
}

// mostPeople is how many a text is about.
const mostPeople = 1000

func personText(v records.User) PersonText {
	return PersonText{slices.Sorted(slices.Values(v.Roles)), v.Disabled}
}

func (c *Configuration) handLabels(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	const why = "as the text of the configuration says"
	return part[LabelsText]{
		name: "labels", wanted: inOrder(d.Labels, func(v LabelsText) LabelsText {
			return LabelsText{slices.Compact(slices.Sorted(slices.Values(v.Labels)))}
		}),
		now: each(c.store.AllHandLabels, func(v records.HandLabels) (string, LabelsText, int64) {
			return v.Name, LabelsText{v.Labels}, int64(v.AccountID)
		}),
		save: func(ctx context.Context, name string, v LabelsText, _ int64) error {
			account, err := c.accountOf(ctx, name)
			if err != nil {
				return err
			}
			has, err := c.store.LabelsOf(ctx, account)
			if err != nil {
				return err
			}
			return c.handsOn(ctx, by, account, has, v.Labels, why)
		},
		remove: func(ctx context.Context, _ string, account int64) error {
			id := records.AccountID(account)
			has, err := c.store.LabelsOf(ctx, id)
			if err != nil {
				return err
			}
			return c.handsOn(ctx, by, id, has, nil, why)
		},
	}.steps(ctx)
}

// inOrder has lists whose order says nothing in one order; nil stays so.
func inOrder[T any](all map[string]T, sorted func(T) T) map[string]T {
	if all == nil {
		return nil
	}
	out := make(map[string]T, len(all))
	for name, v := range all {
		out[name] = sorted(v)
	}
	return out
}

// handsOn gives an account just those labels by hand.
func (c *Configuration) handsOn(ctx context.Context, by access.Actor, account records.AccountID, has []records.AccountLabel, want []string, why string) error {
	given := map[string]bool{}
	for _, l := range has {
		if !l.ByHand {
			continue
		}
		given[l.Label] = true
		if !slices.Contains(want, l.Label) {
			if err := c.labels.Drop(ctx, by, account, l.Label, why); err != nil {
				return err
			}
		}
	}
	for _, label := range want {
		if !given[label] {
			if err := c.labels.Put(ctx, by, account, label, why); err != nil {
				return err
			}
			given[label] = true
		}
	}
	return nil
}

// accountOf finds the account of a system/name.
func (c *Configuration) accountOf(ctx context.Context, spelled string) (records.AccountID, error) {
	system, name, found := strings.Cut(spelled, "/")
	if !found {
		return 0, fmt.Errorf("%w: %q is written SYSTEM/ACCOUNT", app.ErrInput, spelled)
	}
	v, err := c.store.System(ctx, system)
	if err != nil {
		return 0, err
	}
	page, err := c.store.Accounts(ctx, records.Query{Filters: []string{"system=" + v.Name, "name=" + name, "gone="}, Limit: 2})
	switch {
	case err != nil:
		return 0, err
	case len(page.Items) == 0:
		return 0, fmt.Errorf("%w: no account of %s is called %s", app.ErrInput, v.Name, name)
	case len(page.Items) > 1:
		return 0, fmt.Errorf("%w: several accounts of %s are called %s: give them their labels by hand", app.ErrInput, v.Name, name)
	}
	return page.Items[0].ID, nil
}
