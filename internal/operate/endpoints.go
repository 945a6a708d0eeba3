package operate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// Where a secret may be sent is sealed (law 11). Each system has a sealed
// endpoint: where it is, how the other end is known, and which log-on is used
// there. Nothing secret is sent unless what stands in the database now is what
// was sealed. Changing it is asked by one person and approved by another; so
// whoever may change a system, or writes into the database, gets nothing sent
// to an address of their own.

// endpoint is what decides where secrets of a system go.
type endpoint struct {
	Kind     string            `json:"kind"`
	Address  string            `json:"address"`
	Port     int               `json:"port"`
	LogOn    string            `json:"logon"`
	CA       string            `json:"ca"` // SHA-256 of the trusted CA's PEM; "" for the machine's trust store
	HostKeys []string          `json:"host_keys"`
	Options  map[string]string `json:"options"`
}

// quiet are options that only say what is read.
var quiet = []string{"base", "paths", "search", "search-exclude", "database"}

func (o *Operator) endpointOf(ctx context.Context, v store.System) (endpoint, error) {
	options, err := o.optionsFor(ctx, v)
	if err != nil {
		return endpoint{}, err
	}
	e := endpoint{Kind: v.Kind, Address: or(v.Address, v.Name), Port: v.Port, LogOn: strings.ToLower(v.LogOn), HostKeys: slices.Sorted(slices.Values(v.HostKeys)), Options: map[string]string{}}
	if connector, known := connect.For(estate.Kind(v.Kind)); known && e.Port == 0 {
		e.Port = connector.DefaultPort()
	}
	if v.TrustedCA != "" {
		sum := sha256.Sum256([]byte(strings.TrimSpace(v.TrustedCA)))
		e.CA = hex.EncodeToString(sum[:])
	}
	for name, setting := range options {
		if slices.Contains(optionsOf[estate.Kind(v.Kind)], name) && !slices.Contains(quiet, name) && setting != "" {
			e.Options[name] = setting
		}
	}
	return e, nil
}

func (e endpoint) text() string {
	raw, err := json.Marshal(e) // maps are written in the order of their keys
	if err != nil {
		return err.Error()
	}
	return string(raw)
}

// fields are those of an endpoint in words, for before and after.
func (e endpoint) fields() map[string]string {
	out := map[string]string{"kind": e.Kind, "address": e.Address, "port": fmt.Sprint(e.Port), "log-on": e.LogOn, "CA": e.CA, "host key": strings.Join(e.HostKeys, " ")}
	if e.Kind == "" {
		return map[string]string{}
	}
	for name, setting := range e.Options {
		out["option "+name] = setting
	}
	return out
}

func endpointChanges(system string, before, after endpoint) []ledger.Change {
	was, is := before.fields(), after.fields()
	names := map[string]bool{}
	for name := range was {
		names[name] = true
	}
	for name := range is {
		names[name] = true
	}
	var out []ledger.Change
	for name := range names {
		if was[name] != is[name] {
			out = append(out, ledger.Change{Field: system + ": " + name, From: was[name], To: is[name]})
		}
	}
	slices.SortFunc(out, func(a, b ledger.Change) int { return strings.Compare(a.Field, b.Field) })
	return out
}

func endpointBinding(system int64) string { return fmt.Sprintf("endpoint/system=%d", system) }

// sealedEndpoint opens what was approved; the zero endpoint when nothing was.
func (o *Operator) sealedEndpoint(ctx context.Context, v store.System) (e endpoint, err error) {
	sealed, err := o.Store.Endpoint(ctx, v.ID)
	if err != nil || len(sealed) == 0 {
		return e, err
	}
	value, err := o.sealer.Open(endpointBinding(v.ID), sealed)
	if err != nil {
		return e, nil // written by somebody else: as if nothing was approved
	}
	return e, json.Unmarshal(value.Reveal(), &e)
}

// Unapproved says that nothing secret is sent to a system, and why.
type Unapproved struct {
	System   string
	Approval int64 // 0 when nobody asked: the database was changed
	AskedBy  string
	Changes  []ledger.Change
}

func (u *Unapproved) Error() string {
	var what []string
	for _, c := range u.Changes {
		_, field, _ := strings.Cut(c.Field, ": ")
		what = append(what, fmt.Sprintf("%s %q -> %q", field, c.From, c.To))
	}
	text := fmt.Sprintf("%s: where its secrets are sent is not approved (%s)", u.System, strings.Join(what, ", "))
	if u.Approval == 0 {
		return text + ": nobody asked for this change; look at who can write the database, then change the system back or again"
	}
	return fmt.Sprintf("%s: %s asked for it, another approver approves it with 'moss approval approve %d'", text, u.AskedBy, u.Approval)
}

// Is makes it an ErrRefused for callers that decide.
func (u *Unapproved) Is(target error) bool { return target == ErrRefused }

// approvedEndpoint refuses a system whose endpoint is not the sealed one.
func (o *Operator) approvedEndpoint(ctx context.Context, v store.System) error {
	now, err := o.endpointOf(ctx, v)
	if err != nil {
		return err
	}
	was, err := o.sealedEndpoint(ctx, v)
	if err != nil {
		return err
	}
	if was.text() == now.text() {
		return nil
	}
	u := &Unapproved{System: v.Name, Changes: endpointChanges(v.Name, was, now)}
	waits, err := o.Store.WaitsFor(ctx, v.ID)
	switch {
	case err == nil:
		u.Approval, u.AskedBy = waits.ID, waits.AskedBy
	case !errors.Is(err, ErrNotFound) && !errors.Is(err, store.ErrForged):
		return err
	}
	return u
}

// trust seals the endpoints of systems as they are, or asks for it when
// somebody else has to approve them. What is sealed already is left alone, and
// so is a system to which nothing secret could be sent.
//
// Each system has a request of its own, so that one that changes again does not
// touch those of others. The requests that were made are returned.
func (o *Operator) trust(ctx context.Context, by, reason string, systems ...store.System) (waiting []int64, err error) {
	ctx = context.WithoutCancel(ctx) // the systems are changed already
	var changed, harmless []store.System
	var each [][]ledger.Change
	for _, v := range systems {
		now, err := o.endpointOf(ctx, v)
		if err != nil {
			return nil, err
		}
		was, err := o.sealedEndpoint(ctx, v)
		if err != nil {
			return nil, err
		}
		if was.text() == now.text() {
			if err := o.withdrawOthers(ctx, v); err != nil {
				return nil, err
			}
			continue
		}
		secrets, err := o.Store.HoldsSecretsOf(ctx, v.ID)
		if err != nil {
			return nil, err
		}
		if v.LogOn == "" && !secrets {
			harmless = append(harmless, v)
			continue
		}
		changed = append(changed, v)
		each = append(each, endpointChanges(v.Name, was, now))
	}
	if len(harmless) > 0 {
		if err := o.sealEndpoints(ctx, harmless, "nothing secret goes there", ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: named(harmless), Result: "done", Detail: "nothing secret goes there yet"}); err != nil {
			return nil, err
		}
	}
	if len(changed) == 0 {
		return nil, nil
	}
	alone, err := o.alone(ctx, by)
	if err != nil {
		return nil, err
	}
	if alone {
		return nil, o.sealEndpoints(ctx, changed, by+" alone: nobody else could approve it", ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: named(changed), Result: "done", Reason: reason, Detail: "alone: nobody else could approve it", Changes: slices.Concat(each...)})
	}
	for i, v := range changed {
		request := store.Approval{Kind: approvalEndpoint, Subject: v.Name, What: "send secrets to " + v.Name + " as described", Changes: each[i], Reason: reason, AskedBy: by, SystemIDs: []int64{v.ID}}
		id, err := o.ask(ctx, request, ledger.Entry{Act: "endpoint.trust", System: v.Name})
		if err != nil {
			return waiting, err
		}
		waiting = append(waiting, id)
	}
	o.bus.wake("all")
	return waiting, nil
}

// withdrawOthers ends a request that is moot: the endpoint is the sealed one.
func (o *Operator) withdrawOthers(ctx context.Context, v store.System) error {
	waits, err := o.Store.WaitsFor(ctx, v.ID)
	if err != nil {
		if errors.Is(err, ErrNotFound) || errors.Is(err, store.ErrForged) {
			err = nil
		}
		return err
	}
	return o.Store.DecideApproval(ctx, waits.ID, store.ApprovalSuperseded, "", "it was changed back")
}

func named(systems []store.System) string {
	if len(systems) == 1 {
		return systems[0].Name
	}
	return counted(len(systems))
}

func (o *Operator) sealEndpoints(ctx context.Context, systems []store.System, words string, entry ledger.Entry) error {
	sealed := map[int64][]byte{}
	for _, v := range systems {
		e, err := o.endpointOf(ctx, v)
		if err != nil {
			return err
		}
		if sealed[v.ID], err = o.sealer.Seal(endpointBinding(v.ID), secret.New(e.text())); err != nil {
			return err
		}
	}
	return o.Store.TrustEndpoints(ctx, sealed, words, entry)
}

// trustChanged looks at all systems after something that many share changed.
func (o *Operator) trustChanged(ctx context.Context, by, reason string) error {
	all, err := o.Store.AllSystems(ctx)
	if err != nil {
		return err
	}
	// Those that were not approved before are left as they are.
	var approved []store.System
	for _, v := range all {
		if e, err := o.sealedEndpoint(ctx, v); err != nil {
			return err
		} else if e.Kind != "" {
			approved = append(approved, v)
		}
	}
	_, err = o.trust(ctx, by, reason, approved...)
	return err
}

const actBound = "service.bind"

// bindExisting takes over a database from before secrets were bound: once, and
// the ledger says so, which nobody can take back to have it done again.
func (o *Operator) bindExisting(ctx context.Context) error {
	if o.Store.LedgerTrouble() != nil {
		return nil
	}
	done, err := o.Store.HasAct(ctx, actBound)
	if err != nil || done {
		return err
	}
	all, err := o.Store.AllSystems(ctx)
	if err != nil {
		return err
	}
	custodies, err := o.Store.Custodies(ctx)
	if err != nil {
		return err
	}
	resealed := map[int64][]byte{}
	for _, c := range custodies {
		list, err := o.Store.Secrets(ctx, c)
		if err != nil {
			return err
		}
		for _, s := range list {
			if _, err := o.sealer.Open(s.Binding(), s.Sealed); err == nil {
				continue
			}
			value, err := o.sealer.Open(s.FormerBinding(), s.Sealed)
			if err != nil {
				return fmt.Errorf("sealed value %d: %w", s.ID, err)
			}
			if resealed[s.ID], err = o.sealer.Seal(s.Binding(), value); err != nil {
				return err
			}
		}
	}
	if err := o.Store.Reseal(ctx, resealed); err != nil {
		return err
	}
	if err := o.Store.MarkUsers(ctx); err != nil {
		return err
	}
	cleaned, err := o.Store.CleanTexts(ctx, o.redactor(ctx).Text)
	if err != nil {
		return err
	}
	return o.sealEndpoints(ctx, all, "as it was before endpoints were approved", ledger.Entry{
		Actor: byService, Act: actBound, Phase: ledger.Outcome, Result: "done", Detail: fmt.Sprintf("endpoints of %s sealed as they were, %d values bound to their systems, people marked, secrets taken out of %d texts", counted(len(all)), len(resealed), cleaned),
	})
}
