package charters

import (
	"context"
	"fmt"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/records"
)

// asksFrom is where ports are asked from for accounts of a system: from it where something can
// be asked there, else from the service.
func asksFrom(v records.System) (records.SystemID, string) {
	if c, there := connect.For(estate.Kind(v.Kind)); there && c.Describe().Can(connect.ActReach) {
		return v.ID, v.Name
	}
	return 0, ""
}

// reached are what the ports of charters answered last for a system.
func (charters *Charters) reached(ctx context.Context, v records.System, documents []*charter.Document) (map[string]charter.Reached, []reach.Ask, error) {
	var asks []reach.Ask
	var targets []string
	for _, d := range documents {
		for _, a := range d.Reaches(v.Name, v.Kind) {
			asks, targets = append(asks, a), append(targets, a.Target)
		}
	}
	if len(asks) == 0 {
		return nil, nil, nil
	}
	id, _ := asksFrom(v)
	list, err := charters.store.LatestProbes(ctx, id, targets)
	out := make(map[string]charter.Reached, len(list))
	for _, p := range list {
		out[p.Target] = charter.Reached{Ask: reach.Ask{Target: p.Target, Status: p.Status, Contains: p.Contains}, Outcome: p.Outcome, Words: p.Words, At: p.At}
	}
	return out, asks, err
}

// probe asks the ports of a charter from where its accounts are.
func (charters *Charters) probe(ctx context.Context, by access.Actor, v records.Charter) error {
	d, err := charter.Parse(v.Document)
	if err != nil {
		return fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	if !slices.ContainsFunc(slices.Concat(d.Must, d.Never), func(i charter.Item) bool { return i.Reach != "" }) {
		return nil
	}
	accounts, err := charters.labelled(ctx, d.Label)
	if err != nil {
		return err
	}
	systems, err := charters.systems(ctx)
	if err != nil {
		return err
	}
	type round struct {
		asks []reach.Ask
		from []string
	}
	rounds := map[string]*round{} // by what is asked
	for id := range bySystem(accounts) {
		_, asks, err := charters.reached(ctx, systems[id], []*charter.Document{d})
		if err != nil {
			return err
		}
		if len(asks) == 0 {
			continue
		}
		_, from := asksFrom(systems[id])
		key := fmt.Sprint(asks)
		if rounds[key] == nil {
			rounds[key] = &round{asks: asks}
		}
		if !slices.Contains(rounds[key].from, from) {
			rounds[key].from = append(rounds[key].from, from)
		}
	}
	for _, r := range rounds {
		for part := range slices.Chunk(r.from, reachability.MostHosts) {
			if _, err := charters.reach.Probe(ctx, by, reachability.Wish{Asks: r.asks, From: part}); err != nil {
				return err
			}
		}
	}
	return nil
}
