// Package reachability asks ports from where it matters: from the service, and from hosts
// whose connector can, many at once; and keeps what came of it.
package reachability

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/reaching"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AddProbes(ctx context.Context, list []records.Probe, entries ...ledger.Entry) error
	System(ctx context.Context, idOrName string) (records.System, error)
}

// Targets says how a system is reached.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// Reachability asks. Safe for concurrent use.
type Reachability struct {
	base    *app.Base
	store   Store
	targets Targets
	places  chan struct{} // probes of the service itself, and hosts, at the same time
}

// New makes one.
func New(base *app.Base, store Store, targets Targets) *Reachability {
	return &Reachability{base: base, store: store, targets: targets, places: make(chan struct{}, 32)}
}

// Bounds of one request.
const (
	mostTargets = 100
	MostHosts   = 50 // to ask from
	mostTime    = 90 * time.Second
)

// Wish is what somebody wants to know.
type Wish struct {
	Asks []reach.Ask
	From []string // names of systems; "" for the service itself
}

// Probe asks, and keeps what came of it.
func (r *Reachability) Probe(ctx context.Context, by access.Actor, wish Wish) ([]records.Probe, error) {
	if len(wish.From) == 0 {
		wish.From = []string{""}
	}
	var words []string
	for i := range wish.Asks {
		place, err := reach.Parse(wish.Asks[i].Target)
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %w", app.ErrInput, wish.Asks[i].Target, err)
		}
		wish.Asks[i].Target = place.String()
		words = append(words, place.String())
	}
	if len(wish.Asks) == 0 || len(wish.Asks) > mostTargets || len(wish.From) > MostHosts {
		return nil, fmt.Errorf("%w: name 1 to %d targets, and at most %d systems to ask from", app.ErrInput, mostTargets, MostHosts)
	}
	var from []records.System
	for _, name := range wish.From {
		if name == "" {
			from = append(from, records.System{})
			continue
		}
		v, err := r.store.System(ctx, name)
		if err != nil {
			return nil, err
		}
		from = append(from, v)
	}
	subject := strings.Join(words[:min(len(words), 5)], ", ")
	if len(words) > 5 {
		subject += fmt.Sprintf(" and %d more", len(words)-5)
	}
	if err := access.Decide(by, access.RunProbe, access.Object{Kind: "target", Name: subject}); err != nil {
		return nil, err
	}
	if err := r.base.Record(ctx, ledger.Entry{Actor: by.Name, Act: "probe.run", Phase: ledger.Intent, Subject: subject, Detail: "from " + places(from)}); err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(ctx, mostTime)
	defer stop()
	results := make([][]reach.Result, len(from))
	var all sync.WaitGroup
	for i, v := range from {
		all.Add(1)
		go func() {
			defer all.Done()
			results[i] = r.from(ctx, v, wish.Asks)
		}()
	}
	all.Wait()
	var list []records.Probe
	open := 0
	clean := r.base.Redactor(context.WithoutCancel(ctx))
	for i, v := range from {
		for j, one := range results[i] {
			ask := wish.Asks[j]
			if one.Outcome == reach.Open {
				open++
			}
			for k := range one.Steps {
				one.Steps[k].Words = clean.Text(one.Steps[k].Words)
			}
			list = append(list, records.Probe{
				AskedBy: by.Name, From: v.Name, SystemID: v.ID, Target: ask.Target, Outcome: one.Outcome, Words: clean.Text(one.Words),
				ProbeDetail: records.ProbeDetail{Next: one.Next, Between: clean.Text(one.Between), Status: ask.Status, Contains: clean.Text(ask.Contains), Proxy: ask.Proxy, Steps: one.Steps},
			})
		}
	}
	entry := ledger.Entry{Actor: by.Name, Act: "probe.run", Phase: ledger.Outcome, Subject: subject, Result: "done", Detail: fmt.Sprintf("%d of %d open, from %s", open, len(list), places(from))}
	if err := r.store.AddProbes(context.WithoutCancel(ctx), list, entry); err != nil {
		return nil, err
	}
	r.base.Topics.Wake("all")
	return list, nil
}

func places(from []records.System) string {
	var names []string
	for _, v := range from {
		if v.Name == "" {
			names = append(names, "the service")
		} else {
			names = append(names, v.Name)
		}
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

// from asks from one place. What hinders it is what came of each.
func (r *Reachability) from(ctx context.Context, v records.System, asks []reach.Ask) []reach.Result {
	out := make([]reach.Result, len(asks))
	if v.Name != "" {
		r.places <- struct{}{}
		defer func() { <-r.places }()
		got, err := r.fromSystem(ctx, v, asks)
		if err == nil {
			return got
		}
		for i := range out {
			out[i] = reach.Result{Outcome: reach.Unprobed, Words: r.base.Redact(context.WithoutCancel(ctx), err.Error()), Steps: []reach.ProbeStep{}}
		}
		return out
	}
	var all sync.WaitGroup
	for i, ask := range asks {
		all.Add(1)
		go func() {
			defer all.Done()
			r.places <- struct{}{}
			defer func() { <-r.places }()
			out[i] = reaching.Probe(ctx, reaching.Direct, ask)
			if place, err := reach.Parse(ask.Target); err == nil && out[i].Outcome == reach.Open && out[i].Between == "" && ask.Proxy == "" && reaching.Intercepted(ctx, reaching.Direct, place.Port) {
				out[i].Between = "something takes connections to addresses where nothing is: what answers may be a proxy that nobody named"
			}
		}()
	}
	all.Wait()
	return out
}

func (r *Reachability) fromSystem(ctx context.Context, v records.System, asks []reach.Ask) ([]reach.Result, error) {
	connector, target, err := r.targets.Target(ctx, v)
	if err != nil {
		return nil, err
	}
	if !connector.Describe().Can(connect.ActReach) {
		return nil, fmt.Errorf("%w: nothing can be asked from a %s", app.ErrCannot, connector.Describe().Title)
	}
	got, err := connector.Reach(ctx, target, asks)
	if err == nil && len(got) != len(asks) {
		err = fmt.Errorf("%s answered %d of %d", v.Name, len(got), len(asks))
	}
	return got, err
}
