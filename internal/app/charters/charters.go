// Package charters keeps charters, and holds them against what surveys read: after each
// survey, when labels change, when a charter is changed, and when somebody asks. What they
// come to is kept from when it was so until it was otherwise.
package charters

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	Accounts(ctx context.Context, q records.Query) (records.Page[records.Account], error)
	AccountsLabelled(ctx context.Context, label string, q records.Query) (records.Page[records.Account], error)
	AllCharters(ctx context.Context) ([]records.Charter, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	Charter(ctx context.Context, name string) (records.Charter, error)
	EndCharterLines(ctx context.Context, id records.CharterID, but []records.SystemID) error
	LatestProbes(ctx context.Context, system records.SystemID, targets []string) ([]records.Probe, error)
	LinesOfCharter(ctx context.Context, id records.CharterID) ([]records.CharterLine, error)
	Operations(ctx context.Context, id records.TraceID, q records.Query) (records.Page[records.TracedOperation], error)
	OpenLines(ctx context.Context, states []charter.State, most int) ([]records.CharterLine, error)
	PutCharterLines(ctx context.Context, system records.SystemID, charters []records.CharterID, lines []records.CharterLine) (int, error)
	RemoveCharter(ctx context.Context, v records.Charter, entries ...ledger.Entry) error
	SaveCharter(ctx context.Context, v records.Charter, entries ...ledger.Entry) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
	Trace(ctx context.Context, id records.TraceID) (records.Trace, error)
}

// Targets says how a system is reached; nothing is reached here.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// Charters keeps and compares them. Safe for concurrent use.
type Charters struct {
	base    *app.Base
	store   Store
	rights  *rights.Rights
	targets Targets
	reach   *reachability.Reachability

	turn sync.Mutex                    // one comparison at a time
	done map[records.SystemID][32]byte // what the lines of a system were made of
	soon chan struct{}                 // somebody wants them compared
}

// New makes one.
func New(base *app.Base, store Store, known *rights.Rights, targets Targets, ports *reachability.Reachability) *Charters {
	return &Charters{base: base, store: store, rights: known, targets: targets, reach: ports, done: map[records.SystemID][32]byte{}, soon: make(chan struct{}, 1)}
}

// Start begins to compare when it is asked to (Kick), until the service ends.
func (charters *Charters) Start() {
	if !charters.base.Begin() {
		return
	}
	go func() {
		defer charters.base.Work.Done()
		for {
			select {
			case <-charters.base.Context.Done():
				return
			case <-charters.soon:
			}
			if _, err := charters.Compare(charters.base.Context); err != nil && charters.base.Context.Err() == nil {
				charters.base.Log.Error("charters could not be compared", "error", err)
			}
		}
	}()
}

// Kick has all of them compared soon: what they speak of may be otherwise.
func (charters *Charters) Kick() {
	select {
	case charters.soon <- struct{}{}:
	default:
	}
}

// Save keeps a charter as it is written: a new one when the version that was seen is 0.
func (charters *Charters) Save(ctx context.Context, by access.Actor, name, text string, seen int64) (records.Charter, error) {
	if err := access.Decide(by, access.SaveCharter, access.Object{Kind: "charter", Name: name}); err != nil {
		return records.Charter{}, err
	}
	d, err := parse(text)
	if err != nil {
		return records.Charter{}, err
	}
	if slices.Contains([]string{"schema", "ready", "lines", "preview", "draft"}, d.Name) {
		return records.Charter{}, fmt.Errorf("%w: no charter is named %s: that is a word of the interface", app.ErrInput, d.Name)
	}
	if d.Name != name {
		return records.Charter{}, fmt.Errorf("%w: the text says charter: %s; it is kept under the name that it says", app.ErrInput, d.Name)
	}
	v := records.Charter{Name: d.Name, Label: d.Label, Description: d.Description, Document: text, ChangedBy: by.Name}
	before := &charter.Document{}
	if seen > 0 {
		was, err := charters.store.Charter(ctx, name)
		if err != nil {
			return v, err
		}
		v.ID, v.Version = was.ID, seen
		if before, err = charter.Parse(was.Document); err != nil {
			before = &charter.Document{} // written by another version of the program
		}
	}
	entry := ledger.Entry{Actor: by.Name, Act: "charter.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done"}
	for _, c := range charter.Diff(before, d) {
		entry.Changes = append(entry.Changes, ledger.Change{Field: c.Field, From: c.From, To: c.To})
	}
	if err := charters.store.SaveCharter(ctx, v, entry); err != nil {
		return v, err
	}
	charters.base.Topics.Wake("all")
	charters.Kick()
	return charters.store.Charter(ctx, name)
}

func parse(text string) (*charter.Document, error) {
	d, err := charter.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return d, nil
}

// Remove removes the charter that was seen, and what it came to. Its versions stay.
func (charters *Charters) Remove(ctx context.Context, by access.Actor, name string, seen int64) error {
	if err := access.Decide(by, access.RemoveCharter, access.Object{Kind: "charter", Name: name}); err != nil {
		return err
	}
	was, err := charters.store.Charter(ctx, name)
	if err != nil {
		return err
	}
	was.Version = seen
	entry := ledger.Entry{Actor: by.Name, Act: "charter.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done"}
	if d, err := charter.Parse(was.Document); err == nil {
		for _, c := range charter.Diff(d, &charter.Document{}) {
			entry.Changes = append(entry.Changes, ledger.Change{Field: c.Field, From: c.From, To: c.To})
		}
	}
	if err := charters.store.RemoveCharter(ctx, was, entry); err != nil {
		return err
	}
	charters.base.Topics.Wake("all")
	charters.Kick()
	return nil
}

// mostLooked is how many accounts a preview looks at.
const mostLooked = 50

// Preview says what a text would come to; nothing is kept.
func (charters *Charters) Preview(ctx context.Context, by access.Actor, text string) (records.CharterPreview, error) {
	out := records.CharterPreview{Problems: []charter.Fault{}, Lines: []records.CharterLine{}}
	if err := access.Decide(by, access.PreviewCharter, access.Object{Kind: "charter"}); err != nil {
		return out, err
	}
	d, err := charter.Parse(text)
	var wrong *charter.Error
	if errors.As(err, &wrong) {
		out.Problems = wrong.Problems
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Name, out.Label = d.Name, d.Label
	if d.Label == "" {
		return out, nil
	}
	page, err := charters.store.AccountsLabelled(ctx, d.Label, records.Query{Filters: []string{"gone="}, Limit: mostLooked})
	if err != nil {
		return out, err
	}
	out.Accounts, out.Looked = page.Total, len(page.Items)
	by1 := bySystem(page.Items)
	systems, err := charters.systems(ctx)
	if err != nil {
		return out, err
	}
	for id, list := range by1 {
		v, there := systems[id]
		if !there {
			continue
		}
		lines, err := charters.hold(ctx, v, []bound{{document: d, accounts: list}}, page.Items)
		if err != nil {
			return out, err
		}
		out.Lines = append(out.Lines, lines...)
	}
	sortLines(out.Lines)
	return out, nil
}

func (charters *Charters) systems(ctx context.Context) (map[records.SystemID]records.System, error) {
	all, err := charters.store.AllSystems(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[records.SystemID]records.System, len(all))
	for _, v := range all {
		out[v.ID] = v
	}
	return out, nil
}

// mostDrafted is how many accounts a charter is drafted from.
const mostDrafted = 200

// Draft writes a charter from what accounts have, and from what traces show to be sent; nothing
// is kept.
func (charters *Charters) Draft(ctx context.Context, by access.Actor, name string, accounts []records.AccountID, traces ...records.TraceID) (records.CharterDraft, error) {
	if err := access.Decide(by, access.PreviewCharter, access.Object{Kind: "charter", Name: name}); err != nil {
		return records.CharterDraft{}, err
	}
	if len(accounts) == 0 && len(traces) == 0 || len(accounts) > mostDrafted {
		return records.CharterDraft{}, fmt.Errorf("%w: name 1 to %d accounts to draft it from, or a trace", app.ErrInput, mostDrafted)
	}
	systems, err := charters.systems(ctx)
	if err != nil {
		return records.CharterDraft{}, err
	}
	out := records.CharterDraft{Unread: []string{}, NotRead: []string{}}
	var list []records.Account
	for _, id := range accounts {
		a, err := charters.store.Account(ctx, id)
		if err != nil {
			return out, err
		}
		list = append(list, a)
	}
	var samples []charter.Sample
	for id, here := range bySystem(list) {
		v := systems[id]
		var also []privilege.Principal
		for _, a := range here {
			also = append(also, privilege.Principal{ID: a.StableID, Kind: privilege.KindAccount, Name: a.Name})
		}
		model, read, err := charters.rights.Model(ctx, v, also...)
		if err != nil {
			return out, err
		}
		if read.Never || read.Why != "" {
			out.Unread = append(out.Unread, v.Name)
		}
		for _, a := range here {
			samples = append(samples, charter.Sample{Account: a.Account, System: v.Name, Kind: v.Kind, Model: model})
		}
	}
	slices.SortFunc(samples, func(a, b charter.Sample) int {
		return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Account.Name, b.Account.Name))
	})
	slices.Sort(out.Unread)
	d := charter.Draft(name, name, samples)
	if len(traces) > 0 {
		if err := charters.fromTraces(ctx, d, traces, &out); err != nil {
			return out, err
		}
	}
	if out.Document, err = d.Text(); err != nil {
		return out, err
	}
	_, err = parse(out.Document)
	return out, err
}
