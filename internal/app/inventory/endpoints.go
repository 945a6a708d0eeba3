package inventory

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Where a secret may be sent is sealed (law 11). Each system has a sealed
// endpoint: where it is, how the other end is known, and which steward is used
// there. Nothing secret is sent unless what stands in the database now is what
// was sealed. Changing it is asked by one person and approved by another; so
// whoever may change a system, or writes into the database, gets nothing sent
// to an address of their own.

// endpoint is what decides where secrets of a system go.
type endpoint struct {
	Kind     string            `json:"kind"`
	Address  string            `json:"address"`
	Port     int               `json:"port"`
	Steward  string            `json:"logon"` // as it was called when the first endpoints were sealed
	CA       string            `json:"ca"`    // SHA-256 of the trusted CA's PEM; "" for the machine's trust store
	HostKeys []string          `json:"host_keys"`
	Options  map[string]string `json:"options"`
}

func (inventory *Inventory) endpointOf(ctx context.Context, v records.System) (endpoint, error) {
	options, err := inventory.optionsFor(ctx, v)
	if err != nil {
		return endpoint{}, err
	}
	e := endpoint{Kind: v.Kind, Address: cmp.Or(v.Address, v.Name), Port: v.Port, Steward: strings.ToLower(v.Steward), HostKeys: slices.Sorted(slices.Values(v.HostKeys)), Options: map[string]string{}}
	d := describe(v)
	if e.Port == 0 {
		e.Port = d.Port
	}
	if v.TrustedCA != "" {
		sum := sha256.Sum256([]byte(strings.TrimSpace(v.TrustedCA)))
		e.CA = hex.EncodeToString(sum[:])
	}
	for name, setting := range options {
		if option, has := d.Option(name); has && !option.Reading && setting != "" {
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
	out := map[string]string{"kind": e.Kind, "address": e.Address, "port": fmt.Sprint(e.Port), "steward": e.Steward, "CA": e.CA, "host key": strings.Join(e.HostKeys, " ")}
	if e.Kind == "" {
		return map[string]string{}
	}
	for name, setting := range e.Options {
		out["option "+name] = setting
	}
	return out
}

func endpointChanges(system string, before, after endpoint) []ledger.Change {
	if before.Steward == "" {
		// Nobody had to look at where nothing secret went: all of it is new now.
		before = endpoint{}
	}
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

func endpointBinding(system records.SystemID) string {
	return fmt.Sprintf("endpoint/system=%d", system)
}

// sealedEndpoint opens what was approved; the zero endpoint when nothing was.
func (inventory *Inventory) sealedEndpoint(ctx context.Context, v records.System) (e endpoint, err error) {
	sealed, err := inventory.store.Endpoint(ctx, v.ID)
	if err != nil || len(sealed) == 0 {
		return e, err
	}
	value, err := inventory.base.Sealer.Open(endpointBinding(v.ID), sealed)
	if err != nil {
		return e, nil //nolint:nilerr // written by somebody else: as if nothing was approved
	}
	return e, json.Unmarshal(value.Reveal(), &e)
}

// Unapproved says that nothing secret is sent to a system, and why.
type Unapproved struct {
	System   string
	Approval records.ApprovalID // 0 when nobody asked: the database was changed
	AskedBy  string
	Changes  []ledger.Change
}

// Error says what is not approved and who could approve it.
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
	return fmt.Sprintf("%s: %s asked for it, another approver approves it with 'moss approval grant %d'", text, u.AskedBy, u.Approval)
}

// Is makes it an ErrRefused for callers that decide.
func (u *Unapproved) Is(target error) bool { return target == app.ErrRefused }

// approvedEndpoint refuses a system whose endpoint is not the sealed one.
func (inventory *Inventory) approvedEndpoint(ctx context.Context, v records.System) error {
	now, err := inventory.endpointOf(ctx, v)
	if err != nil {
		return err
	}
	was, err := inventory.sealedEndpoint(ctx, v)
	if err != nil {
		return err
	}
	if was.text() == now.text() {
		return nil
	}
	u := &Unapproved{System: v.Name, Changes: endpointChanges(v.Name, was, now)}
	waits, err := inventory.store.WaitsFor(ctx, v.ID)
	switch {
	case err == nil:
		u.Approval, u.AskedBy = waits.ID, waits.AskedBy
	case !errors.Is(err, app.ErrNotFound) && !errors.Is(err, records.ErrForged):
		return err
	}
	return u
}
