package inventory

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/store"
)

// commonFields are what systems may have in common.
var commonFields = []string{"site", "environment", "owner", "kind"}

// added are options whose settings are lists: a system has its own and those
// that it shares. Of the others its own counts.
var added = []string{"search", "search-exclude"}

// SetCommonOption gives an option to all systems that have a value in a field.
func (inventory *Inventory) SetCommonOption(ctx context.Context, by string, c store.CommonOption) error {
	if !slices.Contains(commonFields, c.Field) || strings.TrimSpace(c.Value) == "" {
		return fmt.Errorf("%w: systems are chosen by FIELD=VALUE with one of the fields %s", app.ErrInput, strings.Join(commonFields, ", "))
	}
	var kinds []string
	for _, kind := range estate.Kinds() {
		if slices.Contains(optionsOf[kind], c.Name) {
			kinds = append(kinds, string(kind))
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
	if err := validOptions(store.System{Kind: kinds[0], Options: map[string]string{c.Name: c.Setting}}); err != nil {
		return err
	}
	c.SetBy = by
	if err := inventory.store.SetCommonOption(ctx, c, ledger.Entry{Actor: by, Act: "option.set", Phase: ledger.Outcome, Subject: c.Field + "=" + c.Value, Detail: c.Name + "=" + c.Setting, Result: "done"}); err != nil {
		return err
	}
	return inventory.trustChanged(context.WithoutCancel(ctx), by, "common option "+c.Name)
}

// RemoveCommonOption takes one away.
func (inventory *Inventory) RemoveCommonOption(ctx context.Context, by string, id int64) error {
	page, err := inventory.store.CommonOptions(ctx, store.Query{Filters: []string{fmt.Sprintf("id=%d", id)}})
	if err != nil {
		return err
	}
	if len(page.Items) == 0 {
		return fmt.Errorf("common option %d: %w: 'moss system option list' shows them", id, app.ErrNotFound)
	}
	c := page.Items[0]
	err = inventory.store.RemoveCommonOption(ctx, id, ledger.Entry{Actor: by, Act: "option.remove", Phase: ledger.Outcome, Subject: c.Field + "=" + c.Value, Detail: c.Name + "=" + c.Setting, Result: "done"})
	if err != nil {
		return err
	}
	return inventory.trustChanged(context.WithoutCancel(ctx), by, "common option "+c.Name)
}

// optionsFor are the options of a system with those that it shares.
func (inventory *Inventory) optionsFor(ctx context.Context, v store.System) (map[string]string, error) {
	common, err := inventory.store.CommonOptionsOf(ctx, v)
	if err != nil || len(common) == 0 {
		return v.Options, err
	}
	out := maps.Clone(v.Options)
	if out == nil {
		out = map[string]string{}
	}
	for _, c := range common {
		own := out[c.Name]
		switch {
		case !slices.Contains(optionsOf[estate.Kind(v.Kind)], c.Name):
		case c.Name == unixhost.OptionPaths: // not every host has every file
			out[unixhost.OptionMaybe] = strings.TrimPrefix(out[unixhost.OptionMaybe]+";"+c.Setting, ";")
		case own == "":
			out[c.Name] = c.Setting
		case own == "off" || !slices.Contains(added, c.Name):
		case c.Setting == "off":
			out[c.Name] = c.Setting
		default:
			out[c.Name] = own + ";" + c.Setting
		}
	}
	return out, nil
}

// optionsOf are the options that systems of a kind have.
var optionsOf = map[estate.Kind][]string{
	estate.KindDirectory:   {"base", "servers"},
	estate.KindUnixHost:    {"paths", "setpw", "search", "search-exclude"},
	estate.KindWindowsHost: {"signin", "realm", "kdc", "service"},
	estate.KindPostgreSQL:  {"tls", "database"},
	estate.KindMariaDB:     {"tls", "procedure"},
	estate.KindRedis:       {"tls"},
}

func validOptions(v store.System) error {
	for _, name := range []string{"paths", "search", "search-exclude"} {
		for _, p := range strings.Split(v.Options[name], ";") {
			if p = strings.TrimSpace(p); p != "" && !path.IsAbs(p) && !(name == "search" && p == "off") {
				return fmt.Errorf("%w: option %s: %q is not an absolute path", app.ErrInput, name, p)
			}
		}
	}
	if tls := v.Options["tls"]; tls != "" && tls != "off" && tls != "on" {
		return fmt.Errorf("%w: option tls: on or off, not %q", app.ErrInput, tls)
	}
	if _, err := roster.Addresses(v.Options["servers"]); err != nil {
		return fmt.Errorf("%w: option servers: %w", app.ErrInput, err)
	}
	known := optionsOf[estate.Kind(v.Kind)]
	for name := range v.Options {
		if !slices.Contains(known, name) {
			return fmt.Errorf("%w: unknown option %q (known for a %s: %s)", app.ErrInput, name, v.Kind, strings.Join(known, ", "))
		}
	}
	switch v.Options["signin"] {
	case "", "kerberos", "ntlm", "basic":
	default:
		return fmt.Errorf("%w: option signin: %q is none of kerberos, ntlm and basic", app.ErrInput, v.Options["signin"])
	}
	return nil
}
