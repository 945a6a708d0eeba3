// Package labels puts labels on accounts: by rules, which are applied after each survey,
// and by hand. What a rule would do is seen before it is kept.
package labels

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
)

// Labels applies rules and keeps what people say. Safe for concurrent use.
type Labels struct {
	base   *app.Base
	store  Store
	turn   sync.Mutex    // one application at a time
	looks  chan struct{} // places of previews: each goes through all accounts
	after  func()        // called when rules were applied; nil for nobody
	byHand func()        // called when a label was put or dropped by hand; nil for nobody
	ours   func(ctx context.Context) (func(records.Account) bool, error)
}

// Ours has f say of accounts whether we may sign in with them ourselves: no rule takes those.
func (labels *Labels) Ours(f func(ctx context.Context) (func(records.Account) bool, error)) {
	labels.ours = f
}

// After has f called whenever rules were applied.
func (labels *Labels) After(f func()) { labels.after = f }

// ByHand has f called whenever a label was put or dropped by hand.
func (labels *Labels) ByHand(f func()) { labels.byHand = f }

// previewsAtOnce is how many previews are made at the same time; others wait.
const previewsAtOnce = 2

// New makes one.
func New(base *app.Base, store Store) *Labels {
	return &Labels{base: base, store: store, looks: make(chan struct{}, previewsAtOnce)}
}

// metaApplied is when the rules that are kept were last applied to all accounts.
const metaApplied = "rules-applied"

// Recover applies rules that were saved and not applied, because the service ended in
// between. It returns at once; the work ends with the service.
func (labels *Labels) Recover(ctx context.Context) error {
	list, err := labels.store.AllRules(ctx)
	if err != nil {
		return err
	}
	raw, err := labels.store.Meta(ctx, metaApplied)
	if err != nil && !errors.Is(err, app.ErrNotFound) {
		return err
	}
	applied, _ := time.Parse(time.RFC3339Nano, string(raw)) // none: never
	if !slices.ContainsFunc(list, func(r records.Rule) bool { return !r.Changed.Before(applied) }) || !labels.base.Begin() {
		return nil
	}
	go func() {
		defer labels.base.Work.Done()
		if _, err := labels.Apply(labels.base.Context); err != nil && labels.base.Context.Err() == nil {
			labels.base.Log.Error("rules that were saved before the service ended could not be applied", "error", err)
		}
	}()
	return nil
}

// atOnce is how many accounts are read at once.
const atOnce = 1000

// Applied says what applying the rules did.
type Applied struct {
	Accounts int // looked at
	Changed  int // whose rules are others than before
}

// Apply applies all rules to all accounts, in one pass. Rules that cannot be applied are
// findings.
func (labels *Labels) Apply(ctx context.Context) (Applied, error) {
	labels.turn.Lock()
	defer labels.turn.Unlock()
	list, err := labels.store.AllRules(ctx)
	if err != nil {
		return Applied{}, err
	}
	if len(list) == 0 {
		return Applied{}, labels.store.SetFindings(ctx, "rule/", nil) // what rules matched went with them
	}
	plain := plainRules(list)
	sets := make([]*rules.Set, max(1, runtime.GOMAXPROCS(0)))
	for i := range sets {
		sets[i] = rules.NewSet(plain)
	}
	out, now := Applied{}, labels.base.Now()
	// What came of a page is written while the next one is looked at.
	var writing chan error
	written := func() (err error) {
		if writing != nil {
			err, writing = <-writing, nil
		}
		return err
	}
	err = labels.each(ctx, sets[0].NeedsDependents(), func(page []records.Labelling) error {
		matched := make([][]rules.Rule, len(page))
		if err := together(sets, len(page), func(set *rules.Set, i int) (err error) {
			matched[i], err = set.Match(ctx, page[i].Name, factsOf(page[i], now), clock)
			return err
		}); err != nil {
			return err
		}
		var write []records.Relabelled
		for i, v := range page {
			ids := idsOf(matched[i])
			if !slices.Equal(ids, v.Matched) {
				write = append(write, records.Relabelled{AccountID: v.ID, Matched: ids})
			}
		}
		out.Accounts, out.Changed = out.Accounts+len(page), out.Changed+len(write)
		if err := written(); err != nil || len(write) == 0 {
			return err
		}
		ended := make(chan error, 1)
		writing = ended
		go func() { ended <- labels.store.Relabel(ctx, write) }()
		return nil
	})
	if err = errors.Join(err, written()); err != nil {
		return out, fmt.Errorf("apply rules: %w", err)
	}
	if err := labels.store.SetMeta(ctx, metaApplied, []byte(now.UTC().Format(time.RFC3339Nano))); err != nil {
		return out, err
	}
	if labels.after != nil {
		labels.after()
	}
	return out, labels.store.SetFindings(ctx, "rule/", failures(list, sets))
}

// clock is the one that rules are measured by.
var clock = rules.Clock{Now: time.Now, Within: context.WithTimeout}

// together does n things with as many sets as there are, each used by one goroutine.
func together(sets []*rules.Set, n int, do func(set *rules.Set, i int) error) error {
	var all sync.WaitGroup
	failed := make([]error, len(sets))
	for k, set := range sets {
		all.Add(1)
		go func() {
			defer all.Done()
			for i := k; i < n && failed[k] == nil; i += len(sets) {
				failed[k] = do(set, i)
			}
		}()
	}
	all.Wait()
	return errors.Join(failed...)
}

// each reads all accounts, a page at a time: the next one while something is done with the
// one before.
func (labels *Labels) each(ctx context.Context, dependents bool, do func([]records.Labelling) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	pages, failed := make(chan []records.Labelling), make(chan error, 1)
	go func() {
		defer close(pages)
		after := records.AccountID(0)
		for {
			page, err := labels.store.LabellingAfter(ctx, after, atOnce, dependents)
			if err != nil || len(page) == 0 {
				failed <- err
				return
			}
			after = page[len(page)-1].ID
			select {
			case pages <- page:
			case <-ctx.Done():
				failed <- ctx.Err()
				return
			}
		}
	}()
	var err error
	for page := range pages {
		if err == nil {
			if err = do(page); err != nil {
				cancel()
			}
		}
	}
	if read := <-failed; err == nil {
		err = read
	}
	return err
}

func plainRules(list []records.Rule) []rules.Rule {
	out := make([]rules.Rule, len(list))
	for i, r := range list {
		out[i] = rules.Rule{ID: int64(r.ID), Name: r.Name, Label: r.Label, Excludes: r.Excludes, When: r.Condition}
	}
	return out
}

func idsOf(matched []rules.Rule) []records.RuleID {
	out := make([]records.RuleID, len(matched))
	for i, r := range matched {
		out[i] = records.RuleID(r.ID)
	}
	slices.Sort(out)
	return out
}

// factsOf are what rules may ask of an account.
func factsOf(v records.Labelling, now time.Time) *rules.Facts {
	a := rules.Account{
		Name: v.Name, Type: v.Type, DN: v.DN, UPN: v.UPN, SID: v.SID, UID: v.UID, DisplayName: v.DisplayName, Description: v.Description, Owner: v.Owner, Enabled: string(v.Enabled), Locked: string(v.Locked),
		NeverExpires: v.NeverExpire, MustChange: v.MustChange, BuiltIn: v.BuiltIn, Custody: v.Custody, Groups: v.Groups, Principals: v.Principals,
		PasswordChanged: v.PasswordChanged, PasswordExpires: v.PasswordExpires, AccountExpires: v.AccountExpires, LastLogOn: v.LastLogOn, FirstSeen: v.FirstSeen, Labels: v.ByHand,
	}
	dependents := make([]rules.Dependent, len(v.Dependents))
	for i, d := range v.Dependents {
		dependents[i] = rules.Dependent(d)
	}
	return rules.NewFacts(a, rules.System{Name: v.System, Kind: v.Kind, Site: v.Site, Environment: v.Environment, Owner: v.SystemOwner}, dependents, now)
}

// failures are findings about rules that could not be applied.
func failures(list []records.Rule, sets []*rules.Set) []records.Finding {
	var out []records.Finding
	for _, r := range list {
		var f rules.Failure
		count := 0
		for _, set := range sets {
			if one, failed := set.Failed[int64(r.ID)]; failed {
				count += one.Accounts
				if f.Words == "" {
					f = one
				}
			}
		}
		if f.Words == "" {
			continue
		}
		what := "the rule cannot be applied, and matches nobody: " + f.Words
		if f.Account != "" {
			what = fmt.Sprintf("the rule could not be decided for %d accounts, %s among them, and does not match those: %s", max(1, count), f.Account, f.Words)
		}
		out = append(out, records.Finding{
			Key: fmt.Sprintf("rule/%d", r.ID), Kind: "rule-failed", Severity: "medium", Subject: r.Name, What: what,
			Next: "correct it with 'moss rule change': accounts that it does not match do not get its label, and an exclusion that does not match keeps nothing away",
		})
	}
	return out
}
