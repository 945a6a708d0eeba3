package inventory

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// commonFields are what systems may have in common.
var commonFields = []string{"site", "environment", "owner", "kind"}

// SetCommonOption gives an option to all systems that have a value in a field.
func (inventory *Inventory) SetCommonOption(ctx context.Context, by access.Actor, c records.CommonOption) error {
	if err := access.Decide(by, access.SetCommonOption, access.Object{}); err != nil {
		return err
	}
	if !slices.Contains(commonFields, c.Field) || strings.TrimSpace(c.Value) == "" {
		return fmt.Errorf("%w: systems are chosen by FIELD=VALUE with one of the fields %s", app.ErrInput, strings.Join(commonFields, ", "))
	}
	var kinds []string
	var of connect.Description
	for _, d := range connect.Descriptions() {
		if _, has := d.Option(c.Name); has {
			kinds, of = append(kinds, string(d.Kind)), d
		}
	}
	if len(kinds) == 0 {
		return fmt.Errorf("%w: no system has an option %q", app.ErrInput, c.Name)
	}
	if c.Field == "kind" && !slices.Contains(kinds, c.Value) {
		return fmt.Errorf("%w: the option %s is for systems of kind %s", app.ErrInput, c.Name, strings.Join(kinds, ", "))
	}
	if c.Setting == "" {
		return fmt.Errorf("%w: the option %s has no setting: to take it away, remove it", app.ErrInput, c.Name)
	}
	if err := of.Valid(map[string]string{c.Name: c.Setting}); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	c.SetBy = by.Name
	if err := inventory.store.SetCommonOption(ctx, c, ledger.Entry{Actor: by.Name, Act: "option.set", Phase: ledger.Outcome, Subject: c.Field + "=" + c.Value, Detail: c.Name + "=" + c.Setting, Result: "done"}); err != nil {
		return err
	}
	return inventory.trustChanged(context.WithoutCancel(ctx), by.Name, "common option "+c.Name)
}

// RemoveCommonOption takes one away.
func (inventory *Inventory) RemoveCommonOption(ctx context.Context, by access.Actor, id records.CommonOptionID) error {
	if err := access.Decide(by, access.RemoveCommonOption, access.Object{}); err != nil {
		return err
	}
	page, err := inventory.store.CommonOptions(ctx, records.Query{Filters: []string{fmt.Sprintf("id=%d", id)}})
	if err != nil {
		return err
	}
	if len(page.Items) == 0 {
		return fmt.Errorf("common option %d: %w: 'moss system option list' shows them", id, app.ErrNotFound)
	}
	c := page.Items[0]
	err = inventory.store.RemoveCommonOption(ctx, id, ledger.Entry{Actor: by.Name, Act: "option.remove", Phase: ledger.Outcome, Subject: c.Field + "=" + c.Value, Detail: c.Name + "=" + c.Setting, Result: "done"})
	if err != nil {
		return err
	}
	return inventory.trustChanged(context.WithoutCancel(ctx), by.Name, "common option "+c.Name)
}

// optionsFor are the options of a system with those that it shares.
func (inventory *Inventory) optionsFor(ctx context.Context, v records.System) (map[string]string, error) {
	common, err := inventory.store.CommonOptionsOf(ctx, v)
	if err != nil || len(common) == 0 {
		return v.Options, err
	}
	out := maps.Clone(v.Options)
	if out == nil {
		out = map[string]string{}
	}
	d := describe(v)
	for _, c := range common {
		option, has := d.Option(c.Name)
		own := out[c.Name]
		switch {
		case !has:
		case option.Shared != "": // not every system has what many share
			out[option.Shared] = strings.TrimPrefix(out[option.Shared]+";"+c.Setting, ";")
		case own == "":
			out[c.Name] = c.Setting
		case slices.Contains(option.Choices, own) || !option.Adds:
		case slices.Contains(option.Choices, c.Setting):
			out[c.Name] = c.Setting
		default:
			out[c.Name] = own + ";" + c.Setting
		}
	}
	return out, nil
}

// describe is the description of a system's kind; an empty one of a kind that
// nothing here reaches.
func describe(v records.System) connect.Description {
	if connector, ok := connect.For(estate.Kind(v.Kind)); ok {
		return connector.Describe()
	}
	return connect.Description{Kind: estate.Kind(v.Kind)}
}
