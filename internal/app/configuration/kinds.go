package configuration

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

func equalName(a, b string) bool { return strings.EqualFold(a, b) }

// each reads all of a kind as texts.
func each[R, T any](read func(context.Context) ([]R, error), text func(R) (string, T, int64)) func(context.Context) ([]seen[T], error) {
	return func(ctx context.Context) ([]seen[T], error) {
		list, err := read(ctx)
		out := make([]seen[T], len(list))
		for i, r := range list {
			out[i].name, out[i].text, out[i].revision = text(r)
		}
		return out, err
	}
}

func (c *Configuration) windows(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[WindowText]{
		name: "windows", wanted: d.Windows,
		now: each(c.store.AllWindows, func(v records.Window) (string, WindowText, int64) { return v.Name, windowText(v), v.Revision }),
		save: func(ctx context.Context, name string, v WindowText, revision int64) error {
			w := records.Window{Name: name, Rule: v.Rule, Begins: v.Begins, Zone: v.Zone, Minutes: v.Minutes, Labels: v.Labels, Systems: append([]string{}, v.Systems...), Description: v.Description, Revision: revision}
			for _, place := range v.Dependents {
				id, err := c.dependent(ctx, place)
				if err != nil {
					return err
				}
				w.Dependents = append(w.Dependents, records.WindowDependent{ID: id})
			}
			_, err := c.policies.SaveWindow(ctx, by, w)
			return err
		},
		remove: func(ctx context.Context, name string, revision int64) error {
			return c.policies.RemoveWindow(ctx, by, name, revision)
		},
	}.steps(ctx)
}

// loosenWindows has windows give up what they will not have, so that another one may.
func (c *Configuration) loosenWindows(ctx context.Context, by access.Actor, d Document) error {
	if d.Windows == nil {
		return nil
	}
	list, err := c.store.AllWindows(ctx)
	if err != nil {
		return err
	}
	for _, v := range list {
		want, _ := named(d.Windows, v.Name)
		was := len(v.Labels) + len(v.Systems) + len(v.Dependents)
		v.Labels = slices.DeleteFunc(v.Labels, func(l string) bool { return !slices.Contains(want.Labels, l) })
		v.Systems = slices.DeleteFunc(v.Systems, func(s string) bool { return !slices.Contains(want.Systems, s) })
		v.Dependents = slices.DeleteFunc(v.Dependents, func(p records.WindowDependent) bool {
			return !slices.Contains(want.Dependents, PlaceText{p.System, p.Place})
		})
		if len(v.Labels)+len(v.Systems)+len(v.Dependents) == was {
			continue
		}
		if _, err := c.policies.SaveWindow(ctx, by, v); err != nil {
			return fmt.Errorf("windows %s: %w", v.Name, err)
		}
	}
	return nil
}

// loosenPolicies has policies give up a precedence that they will not have.
func (c *Configuration) loosenPolicies(ctx context.Context, by access.Actor, d Document) error {
	if d.Policies == nil {
		return nil
	}
	list, err := c.store.AllPolicies(ctx)
	if err != nil {
		return err
	}
	taken := map[int]bool{}
	for _, v := range list {
		taken[v.Precedence] = true
	}
	for _, v := range d.Policies {
		taken[v.Precedence] = true
	}
	free := mostPrecedence
	for _, v := range list {
		if want, there := named(d.Policies, v.Name); !there || want.Precedence == v.Precedence {
			continue
		}
		for taken[free] {
			free--
		}
		taken[free], v.Precedence = true, free
		if _, err := c.policies.Save(ctx, by, v); err != nil {
			return fmt.Errorf("policies %s: %w", v.Name, err)
		}
	}
	return nil
}

// mostPrecedence is the highest that a policy may have.
const mostPrecedence = 1_000_000

// named is what a document has by a name.
func named[T any](all map[string]T, name string) (T, bool) {
	for key, v := range all {
		if equalName(key, name) {
			return v, true
		}
	}
	var none T
	return none, false
}

// dependent finds the one at a place.
func (c *Configuration) dependent(ctx context.Context, at PlaceText) (records.DependentID, error) {
	v, err := c.store.System(ctx, at.System)
	if err != nil {
		return 0, err
	}
	list, err := c.store.DependentsOfSystem(ctx, v.ID)
	if err != nil {
		return 0, err
	}
	var found records.DependentID
	for _, d := range list {
		if d.Place == at.Place && found != 0 {
			return 0, fmt.Errorf("%w: several dependents of %s are at %s: give it its window by hand", app.ErrInput, at.System, at.Place)
		}
		if d.Place == at.Place {
			found = d.ID
		}
	}
	if found == 0 {
		return 0, fmt.Errorf("%w: no dependent of %s is at %s", app.ErrInput, at.System, at.Place)
	}
	return found, nil
}

func (c *Configuration) policiesOf(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[PolicyText]{
		name: "policies", wanted: d.Policies,
		now: each(c.store.AllPolicies, func(v records.Policy) (string, PolicyText, int64) { return v.Name, policyText(v), v.Revision }),
		save: func(ctx context.Context, name string, v PolicyText, revision int64) error {
			_, err := c.policies.Save(ctx, by, records.Policy{Name: name, Label: v.Label, Precedence: v.Precedence, PolicySettings: v.PolicySettings, Window: v.Window, Paused: v.Paused, Description: v.Description, Revision: revision})
			return err
		},
		remove: func(ctx context.Context, name string, revision int64) error {
			return c.policies.Remove(ctx, by, name, revision)
		},
	}.steps(ctx)
}

func (c *Configuration) rules(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[RuleText]{
		name: "rules", wanted: d.Rules,
		now: each(c.store.AllRules, func(v records.Rule) (string, RuleText, int64) { return v.Name, ruleText(v), v.Revision }),
		save: func(ctx context.Context, name string, _ RuleText, _ int64) error {
			return c.labels.Keep(ctx, by, draftOf(name, d, false))
		},
		remove: func(ctx context.Context, name string, _ int64) error {
			return c.labels.Keep(ctx, by, labels.Draft{Name: name, Remove: true})
		},
	}.steps(ctx)
}

func (c *Configuration) orders(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[OrderText]{
		name: "orders", wanted: d.Orders,
		now: each(c.store.AllOrders, func(v records.Order) (string, OrderText, int64) { return v.Name, orderText(v), v.Revision }),
		save: func(ctx context.Context, name string, v OrderText, revision int64) error {
			_, err := c.policies.SaveOrder(ctx, by, records.Order{Name: name, Kind: v.Kind, AtOnce: v.AtOnce, Members: v.Members, Description: v.Description, Revision: revision})
			return err
		},
		remove: func(ctx context.Context, name string, revision int64) error {
			return c.policies.RemoveOrder(ctx, by, name, revision)
		},
	}.steps(ctx)
}

func (c *Configuration) requirements(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[RequirementText]{
		name: "requirements", wanted: d.Requirements,
		now: each(c.store.AllRequirements, func(v records.Requirement) (string, RequirementText, int64) {
			return v.Name, requirementText(v), v.Revision
		}),
		save: func(ctx context.Context, name string, v RequirementText, revision int64) error {
			return c.policies.KeepRequirement(ctx, by, records.Requirement{Name: name, Label: v.Label, Restarts: v.Restarts, Kinds: v.Kinds, Unread: v.Unread, Hours: v.Hours, Description: v.Description, Revision: revision})
		},
		remove: func(ctx context.Context, name string, revision int64) error {
			return c.policies.DropRequirement(ctx, by, name, revision)
		},
	}.steps(ctx)
}

func (c *Configuration) chartersOf(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[CharterText]{
		name: "charters", wanted: d.Charters,
		now: each(c.store.AllCharters, func(v records.Charter) (string, CharterText, int64) {
			return v.Name, CharterText{v.Document}, v.Version
		}),
		save: func(ctx context.Context, name string, v CharterText, version int64) error {
			_, err := c.charters.Save(ctx, by, name, v.Document, version)
			return err
		},
		remove: func(ctx context.Context, name string, version int64) error {
			return c.charters.Remove(ctx, by, name, version)
		},
	}.steps(ctx)
}

func (c *Configuration) recipients(ctx context.Context, by access.Actor, d Document) ([]step, error) {
	return part[RecipientText]{
		name: "recipients", wanted: d.Recipients,
		now: each(c.store.AllRecipients, func(v records.Recipient) (string, RecipientText, int64) { return v.Name, recipientText(v), v.Revision }),
		save: func(ctx context.Context, name string, v RecipientText, revision int64) error {
			_, err := c.messages.Save(ctx, by, records.Recipient{Name: name, Kind: v.Kind, Address: v.Address, RecipientSettings: v.RecipientSettings, Paused: v.Paused, Description: v.Description, Revision: revision}, secret.Value{}) // texts have none
			return err
		},
		remove: func(ctx context.Context, name string, revision int64) error {
			return c.messages.Remove(ctx, by, name, revision)
		},
	}.steps(ctx)
}
