// Package lives judges after each survey, and once a day, what has outlived its purpose: what is
// unused for too long, disabled, ended or never changed, whose owner is gone.
package lives

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AllPolicies(ctx context.Context) ([]records.Policy, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	LivesOf(ctx context.Context, system records.SystemID, all bool) ([]records.LifeToJudge, error)
	PutOutlived(ctx context.Context, system records.SystemID, list []records.Outlived) error
}

// Lives judges. Safe for concurrent use.
type Lives struct {
	store Store
	now   func() time.Time
	turn  sync.Mutex // one judging at a time
}

// New makes one.
func New(store Store, now func() time.Time) *Lives { return &Lives{store: store, now: now} }

// Judge judges everything anew. A system that fails holds up no other.
func (lives *Lives) Judge(ctx context.Context) (failed error) {
	lives.turn.Lock()
	defer lives.turn.Unlock()
	systems, err := lives.store.AllSystems(ctx)
	if err != nil {
		return err
	}
	policies, err := lives.store.AllPolicies(ctx)
	if err != nil {
		return err
	}
	slices.SortFunc(policies, func(a, b records.Policy) int { return cmp.Compare(b.Precedence, a.Precedence) })
	for _, v := range systems {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := lives.system(ctx, v, policies); err != nil {
			failed = fmt.Errorf("lives on %s: %w", v.Name, err)
		}
	}
	return failed
}

func (lives *Lives) system(ctx context.Context, v records.System, policies []records.Policy) error {
	connector, known := connect.For(estate.Kind(v.Kind))
	if !known {
		return nil
	}
	d := connector.Describe()
	// Whoever signs in to a data store or a cloud is a program.
	list, err := lives.store.LivesOf(ctx, v.ID, d.Class == estate.ClassDataStore || d.Class == estate.ClassOther && d.Can(connect.ActEnd))
	if err != nil {
		return err
	}
	now := lives.now()
	var out []records.Outlived
	for _, l := range list {
		switch estate.Kind(v.Kind) {
		case estate.KindUnixHost:
			// A user whom nobody signs in as with a password is what services run as.
			l.Life.Enabled = l.Life.Enabled || l.What == expiry.Account && l.Dependents > 0
		case estate.KindRedis:
			if l.Name == "default" { // which no server lets anybody delete, and off is as it should be
				continue
			}
		}
		p := records.PolicyFor(policies, l.Labels, l.Custody)
		is := l.Life.Judge(now, expiry.Bounds{MaxAge: time.Duration(p.MaxAgeDays) * expiry.Day, Idle: time.Duration(p.IdleDays) * expiry.Day}, expiry.Around{
			Dependents: l.Dependents, OwnerGone: l.Owner, Delete: offers(d, expiry.Delete, l.What), Disable: offers(d, expiry.Disable, l.What),
		})
		if is.Points == 0 {
			continue
		}
		l.Points, l.Reasons, l.Remedy = is.Points, is.Reasons, is.Remedy
		out = append(out, l.Outlived)
	}
	return lives.store.PutOutlived(ctx, v.ID, out)
}

// offers: systems of a kind do an act to keys, or to what an account signs in with.
func offers(d connect.Description, act expiry.Act, what expiry.What) bool {
	return slices.ContainsFunc(d.Ends, func(p expiry.Possible) bool {
		return p.Act == act && (p.Of == expiry.Key) == (what == expiry.Key)
	})
}
