// Package risks ranks accounts after each survey: what each could do, times how weakly it is
// held.
package risks

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/risk"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AllSystems(ctx context.Context) ([]records.System, error)
	PutRisks(ctx context.Context, system records.SystemID, scores map[records.AccountID]risk.Score) error
	ToRank(ctx context.Context, system records.SystemID, among []records.AccountID) ([]records.Account, error)
	TiedTo(ctx context.Context, system records.SystemID) (hosts map[records.AccountID]int, findings map[records.AccountID][]string, err error)
}

// Risks ranks. Safe for concurrent use.
type Risks struct {
	base   *app.Base
	store  Store
	rights *rights.Rights
	turn   sync.Mutex // one ranking at a time
}

// New makes one.
func New(base *app.Base, store Store, known *rights.Rights) *Risks {
	return &Risks{base: base, store: store, rights: known}
}

// Rank ranks the accounts of all systems anew. A system that fails holds up no other.
func (risks *Risks) Rank(ctx context.Context) error {
	risks.turn.Lock()
	defer risks.turn.Unlock()
	systems, err := risks.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	over, failed := risks.over(ctx, systems)
	for _, v := range systems {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := risks.system(ctx, v, over); err != nil {
			failed = fmt.Errorf("accounts of %s: %w", v.Name, err)
		}
	}
	return failed
}

// over are the hosts that accounts of directories have power over. A host that fails holds up
// no other.
func (risks *Risks) over(ctx context.Context, systems []records.System) (out map[records.AccountID][]risk.Over, failed error) {
	out = map[records.AccountID][]risk.Over{}
	homes := rights.Homes{}
	for _, v := range systems {
		if estate.Kind(v.Kind) != estate.KindWindowsHost || ctx.Err() != nil {
			continue
		}
		there, err := risks.rights.Elsewhere(ctx, v, homes)
		if err != nil {
			failed = fmt.Errorf("who may do what on %s: %w", v.Name, err)
			continue
		}
		bearer := there.Model.Bearer()
		for id, guest := range there.Guests {
			if !bearer.Of(guest.ID) {
				continue
			}
			list, _ := held(v, there.Model, bearer, guest.ID)
			if o, power := risk.HostOf(v.Name, list); power {
				out[id] = append(out[id], o)
			}
		}
	}
	return out, failed
}

// mostRights is how many rights of one account are looked at: an administrator of a large
// directory has more than anybody counts.
const mostRights = 2000

func (risks *Risks) system(ctx context.Context, v records.System, over map[records.AccountID][]risk.Over) error {
	hosts, findings, err := risks.store.TiedTo(ctx, v.ID)
	if err != nil {
		return err
	}
	model, _, err := risks.rights.Model(ctx, v)
	if err != nil {
		return err
	}
	bearer := model.Bearer()
	scores := map[records.AccountID]risk.Score{}
	among := slices.Collect(maps.Keys(hosts))
	accounts, err := risks.store.ToRank(ctx, v.ID, slices.AppendSeq(among, maps.Keys(over)))
	if err != nil {
		return err
	}
	for _, a := range accounts {
		f := risk.Facts{Kind: estate.Kind(v.Kind), Account: a.Account, Hosts: hosts[a.ID], Over: over[a.ID], Findings: findings[a.ID], NoOwner: v.Owner == "", Now: risks.base.Now()}
		if bearer.Of(a.StableID) {
			f.Rights, f.Groups = held(v, model, bearer, a.StableID)
		}
		if s := risk.Of(f); s.Power > 0 {
			scores[a.ID] = s
		}
	}
	return risks.store.PutRisks(ctx, v.ID, scores)
}

// held are an account's own rights that no other entry takes back, and its groups.
func held(v records.System, model *privilege.Model, bearer *privilege.Bearer, id string) (out []privilege.Right, groups []string) {
	bearer.Each(nil, func(_, _, at int) {
		if len(out) < mostRights {
			if r := bearer.Right(at); !rights.Void(v, model, id, r) {
				out = append(out, r)
			}
		}
	})
	for _, chain := range model.Graph.Effective(id) {
		groups = append(groups, chain[len(chain)-1].Name)
	}
	return out, groups
}
