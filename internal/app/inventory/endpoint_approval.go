package inventory

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// carryEndpoints seals the endpoints that were approved: what is sealed is what was
// held against the request, whatever somebody makes of the systems meanwhile.
func (inventory *Inventory) carryEndpoints(ctx context.Context, by, _ access.Actor, v records.Approval) error {
	endpoints, err := inventory.asAsked(ctx, v)
	if err != nil {
		return err
	}
	words := fmt.Sprintf("asked by %s, approved by %s", v.AskedBy, by.Name)
	return inventory.seal(ctx, endpoints, words, ledger.Entry{Actor: by.Name, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: v.Subject, Result: "done", Detail: words, Ref: fmt.Sprintf("approval/%d", v.ID), Changes: v.Changes})
}

func (inventory *Inventory) systemsOf(ctx context.Context, v records.Approval) ([]records.System, error) {
	var out []records.System
	for _, id := range v.SystemIDs {
		system, err := inventory.store.SystemByID(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, system)
	}
	return out, nil
}

// sameEndpoints: the changes that were asked for are those that stand there.
func (inventory *Inventory) sameEndpoints(ctx context.Context, v records.Approval) error {
	_, err := inventory.asAsked(ctx, v)
	return err
}

// asAsked returns the endpoints that a request is about, by system, when they are
// what was asked for.
func (inventory *Inventory) asAsked(ctx context.Context, v records.Approval) (map[records.SystemID]endpoint, error) {
	systems, err := inventory.systemsOf(ctx, v)
	if err != nil {
		return nil, err
	}
	out := map[records.SystemID]endpoint{}
	var changes []ledger.Change
	for _, system := range systems {
		now, err := inventory.endpointOf(ctx, system)
		if err != nil {
			return nil, err
		}
		was, err := inventory.sealedEndpoint(ctx, system)
		if err != nil {
			return nil, err
		}
		out[system.ID] = now
		changes = append(changes, endpointChanges(system.Name, was, now)...)
	}
	if len(changes) == 0 {
		return nil, fmt.Errorf("%w: there is nothing to approve any more: everything is as it was approved before", app.ErrRefused)
	}
	for _, c := range changes {
		if !hasChange(v.Changes, c) {
			return nil, fmt.Errorf("%w: %s is %q now, which is not what was asked for: ask again by changing the system again", app.ErrRefused, c.Field, c.To)
		}
	}
	return out, nil
}

func hasChange(list []ledger.Change, want ledger.Change) bool {
	for _, c := range list {
		if c == want {
			return true
		}
	}
	return false
}

// trust seals the endpoints of systems as they are, or asks for it when
// somebody else has to approve them. What is sealed already is left alone, and
// so is a system to which nothing secret could be sent.
//
// Each system has a request of its own, so that one that changes again does not
// touch those of others. The requests that were made are returned.
func (inventory *Inventory) trust(ctx context.Context, by, reason string, systems ...records.System) (waiting []records.ApprovalID, err error) {
	ctx = context.WithoutCancel(ctx) // the systems are changed already
	var changed, harmless []records.System
	var each [][]ledger.Change
	for _, v := range systems {
		now, err := inventory.endpointOf(ctx, v)
		if err != nil {
			return nil, err
		}
		was, err := inventory.sealedEndpoint(ctx, v)
		if err != nil {
			return nil, err
		}
		if was.text() == now.text() {
			if err := inventory.withdrawOthers(ctx, v); err != nil {
				return nil, err
			}
			continue
		}
		secrets, err := inventory.store.HoldsSecretsOf(ctx, v.ID)
		if err != nil {
			return nil, err
		}
		if v.Steward == "" && !secrets {
			harmless = append(harmless, v)
			continue
		}
		changed = append(changed, v)
		each = append(each, endpointChanges(v.Name, was, now))
	}
	if len(harmless) > 0 {
		if err := inventory.sealEndpoints(ctx, harmless, "nothing secret goes there", ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: named(harmless), Result: "done", Detail: "nothing secret goes there yet"}); err != nil {
			return nil, err
		}
	}
	if len(changed) == 0 {
		return nil, nil
	}
	alone, err := inventory.approval.Alone(ctx, by)
	if err != nil {
		return nil, err
	}
	if alone {
		return nil, inventory.sealEndpoints(ctx, changed, by+" alone: nobody else could approve it", ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: named(changed), Result: "done", Reason: reason, Detail: "alone: nobody else could approve it", Changes: slices.Concat(each...)})
	}
	for i, v := range changed {
		request := records.Approval{Kind: approval.KindEndpoint, Subject: v.Name, What: "send secrets to " + v.Name + " as described", Changes: each[i], Reason: reason, AskedBy: by, SystemIDs: []records.SystemID{v.ID}}
		id, err := inventory.approval.Ask(ctx, request, ledger.Entry{Act: "endpoint.trust", System: v.Name})
		if err != nil {
			return waiting, err
		}
		waiting = append(waiting, id)
	}
	inventory.base.Topics.Wake("all")
	return waiting, nil
}

// withdrawOthers ends a request that is moot: the endpoint is the sealed one.
func (inventory *Inventory) withdrawOthers(ctx context.Context, v records.System) error {
	waits, err := inventory.store.WaitsFor(ctx, v.ID)
	if err != nil {
		if errors.Is(err, app.ErrNotFound) || errors.Is(err, records.ErrForged) {
			err = nil
		}
		return err
	}
	return inventory.store.DecideApproval(ctx, waits.ID, records.ApprovalSuperseded, "", "it was changed back")
}

func named(systems []records.System) string {
	if len(systems) == 1 {
		return systems[0].Name
	}
	return app.Counted(len(systems))
}

func (inventory *Inventory) sealEndpoints(ctx context.Context, systems []records.System, words string, entry ledger.Entry) error {
	endpoints := map[records.SystemID]endpoint{}
	for _, v := range systems {
		e, err := inventory.endpointOf(ctx, v)
		if err != nil {
			return err
		}
		endpoints[v.ID] = e
	}
	return inventory.seal(ctx, endpoints, words, entry)
}

func (inventory *Inventory) seal(ctx context.Context, endpoints map[records.SystemID]endpoint, words string, entry ledger.Entry) error {
	sealed := map[records.SystemID][]byte{}
	for id, e := range endpoints {
		var err error
		if sealed[id], err = inventory.base.Sealer.Seal(endpointBinding(id), secret.New(e.text())); err != nil {
			return err
		}
	}
	return inventory.store.TrustEndpoints(ctx, sealed, words, entry)
}

// trustChanged looks at all systems after something that many share changed.
func (inventory *Inventory) trustChanged(ctx context.Context, by, reason string) error {
	all, err := inventory.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	// Those that were not approved before are left as they are.
	var approved []records.System
	for _, v := range all {
		if e, err := inventory.sealedEndpoint(ctx, v); err != nil {
			return err
		} else if e.Kind != "" {
			approved = append(approved, v)
		}
	}
	_, err = inventory.trust(ctx, by, reason, approved...)
	return err
}
