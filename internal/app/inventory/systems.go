// Package inventory keeps the systems: adding, importing and changing them, their
// options and host keys, whether and how they are reached, and where what is
// secret may be sent (law 11). It is the only way to a connector's target.
package inventory

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/records"
)

// Inventory keeps the systems.
type Inventory struct {
	base     *app.Base
	store    Store
	sealed   *sealed.Keeper
	approval *approval.Approvals
	traced   func(records.SystemID) connect.Tracer // what is sent to a system is told to; nil for nobody
}

// New makes an Inventory. It carries out approvals of endpoints.
func New(base *app.Base, store Store, values *sealed.Keeper, approvals *approval.Approvals) *Inventory {
	inventory := &Inventory{base: base, store: store, sealed: values, approval: approvals}
	approvals.Carry(approval.KindEndpoint, approval.Carrier{Action: access.TrustEndpoint, Still: inventory.sameEndpoints, CarryOut: inventory.carryEndpoints})
	return inventory
}

// Valid checks what a person may give.
func (inventory *Inventory) Valid(ctx context.Context, v records.System) error {
	if err := roster.CheckName(v.Name); err != nil {
		return fmt.Errorf("%w: name: %w", app.ErrInput, err)
	}
	if host, port, err := net.SplitHostPort(v.Address); err == nil && host != "" && port != "" {
		return fmt.Errorf("%w: address %q: the port is given apart from it: address %s, port %s", app.ErrInput, v.Address, host, port)
	}
	if err := roster.CheckName(v.Address); v.Address != "" && err != nil {
		return fmt.Errorf("%w: address: %w", app.ErrInput, err)
	}
	if _, ok := connect.For(estate.Kind(v.Kind)); !ok {
		return fmt.Errorf("%w: unknown kind %q (known: %v)", app.ErrInput, v.Kind, connect.Kinds())
	}
	if v.Port < 0 || v.Port > 65535 {
		return fmt.Errorf("%w: port %d is outside 1 to 65535", app.ErrInput, v.Port)
	}
	if v.Steward != "" {
		if _, err := inventory.store.Steward(ctx, v.Steward); err != nil {
			return fmt.Errorf("%w: %w: add it with 'moss steward add'", app.ErrInput, err)
		}
	}
	if err := describe(v).Valid(v.Options); err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return nil
}

// Add adds one system.
func (inventory *Inventory) Add(ctx context.Context, by access.Actor, v records.System) (records.SystemID, error) {
	if err := access.Decide(by, access.AddSystem, access.Object{Kind: "system", Name: v.Name}); err != nil {
		return 0, err
	}
	if err := inventory.Valid(ctx, v); err != nil {
		return 0, err
	}
	id, err := inventory.add(ctx, by.Name, v)
	if err != nil {
		return 0, err
	}
	if v, err = inventory.store.System(ctx, v.Name); err != nil {
		return id, err
	}
	_, err = inventory.trust(ctx, by.Name, "", v)
	return id, err
}

func (inventory *Inventory) add(ctx context.Context, by string, v records.System) (records.SystemID, error) {
	return inventory.store.AddSystem(ctx, v, ledger.Entry{Actor: by, Act: "system.add", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done", Changes: systemChanges(records.System{}, v)})
}

// Change replaces what a person may change of a system. When that decides
// where its secrets go, nothing secret goes there until somebody else approves.
func (inventory *Inventory) Change(ctx context.Context, by access.Actor, before, after records.System, revision int64) error {
	if err := access.Decide(by, access.ChangeSystem, access.Object{Kind: "system", Name: before.Name}); err != nil {
		return err
	}
	if err := inventory.Valid(ctx, after); err != nil {
		return err
	}
	entry := ledger.Entry{Actor: by.Name, Act: "system.change", Phase: ledger.Outcome, Subject: after.Name, System: after.Name, Result: "done", Changes: systemChanges(before, after)}
	if err := inventory.store.ChangeSystem(ctx, after, revision, entry); err != nil {
		return err
	}
	now, err := inventory.store.SystemByID(context.WithoutCancel(ctx), after.ID)
	if err != nil {
		return err
	}
	_, err = inventory.trust(ctx, by.Name, "", now)
	return err
}

func systemChanges(before, after records.System) []ledger.Change {
	port := func(n int) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	fields := [][3]string{
		{"kind", before.Kind, after.Kind},
		{"address", before.Address, after.Address},
		{"port", port(before.Port), port(after.Port)},
		{"steward", before.Steward, after.Steward},
		{"site", before.Site, after.Site},
		{"environment", before.Environment, after.Environment},
		{"owner", before.Owner, after.Owner},
		{"CA", before.TrustedCA, after.TrustedCA},
	}
	names := map[string]bool{}
	for name := range before.Options {
		names[name] = true
	}
	for name := range after.Options {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		fields = append(fields, [3]string{"option " + name, before.Options[name], after.Options[name]})
	}
	return ledger.Diff(fields...)
}

// Remove removes a system with all that was seen on it.
func (inventory *Inventory) Remove(ctx context.Context, by access.Actor, idOrName string) error {
	v, err := inventory.store.System(ctx, idOrName)
	if err != nil {
		return err
	}
	if err := access.Decide(by, access.RemoveSystem, access.Object{Kind: "system", Name: v.Name}); err != nil {
		return err
	}
	return inventory.store.RemoveSystem(ctx, v.ID, ledger.Entry{Actor: by.Name, Act: "system.remove", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done"})
}
