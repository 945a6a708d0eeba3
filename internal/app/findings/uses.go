package findings

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sort"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/store"
)

// JudgeUses raises the findings about uses that nothing explains.
func (engine *Engine) JudgeUses(ctx context.Context, unexplained []picture.Unexplained, limited bool) error {
	byKey := map[string]store.Finding{}
	for _, u := range unexplained {
		key := fmt.Sprintf("observed/%d/%s/%s%s", u.Use.AccountID, u.Use.Client, u.Use.Unit, u.Use.Program)
		byKey[key] = store.Finding{Key: key, Kind: "unexplained-client", Severity: "high", Subject: u.Use.Account, System: cmp.Or(u.Host, u.Use.System), AccountID: u.Use.AccountID, What: u.What, Next: u.Next}
	}
	findings := slices.Collect(maps.Values(byKey))
	if limited {
		findings = append(findings, LimitFinding("observed/", "observed use", fmt.Sprintf("%d observed uses or more are kept: those of the latest accounts are not weighed, so what they explain or contradict is not told", store.MostSeenUses), "import fewer days of log-on records, or leave out accounts of people"))
	}
	sort.Slice(findings, func(i, j int) bool { return findings[i].Key < findings[j].Key })
	return engine.store.SetFindings(ctx, "observed/", findings)
}

// refreshDeclared ends declarations whose time is over, and says so.
func (engine *Engine) refreshDeclared(ctx context.Context) error {
	all, err := engine.store.Declarations(ctx, 0)
	if err != nil {
		return err
	}
	var findings []store.Finding
	for _, d := range all {
		if d.Until.IsZero() || d.Until.After(engine.base.Now()) {
			continue
		}
		findings = append(findings, store.Finding{
			Key: fmt.Sprintf("declared/%d", d.ID), Kind: "declaration-ended", Severity: "medium", Subject: d.Account, System: d.System, AccountID: d.AccountID, DependentID: d.DependentID,
			What: fmt.Sprintf("%s said that %s uses it until %s: that time is over", d.SaidBy, d.Place, app.Day(d.Until)), Next: fmt.Sprintf("ask, then declare it anew or run 'moss use withdraw %d'", d.ID),
		})
	}
	return engine.store.SetFindings(ctx, "declared/", findings)
}

// unusedAfter is how long an account's last log-on must be ago before it counts
// as unused.
const unusedAfter = 90 * 24 * time.Hour

// refreshUnused: accounts for programs that nothing was found to use, with what
// that statement rests on.
func (engine *Engine) refreshUnused(ctx context.Context) error {
	names, err := engine.store.UnusedAccounts(ctx, engine.base.Now().Add(-unusedAfter))
	if err != nil {
		return err
	}
	covered, err := picture.ReadCoverage(ctx, engine.store)
	if err != nil {
		return err
	}
	var findings []store.Finding
	for _, a := range names {
		f := store.Finding{Key: fmt.Sprintf("unused/%d", a.ID), Kind: "unused-account", Severity: "low", Subject: a.Name, System: a.System, AccountID: a.ID}
		f.What = "nothing was found that uses it; " + covered.Words()
		if !a.LastLogOn.IsZero() {
			f.What += "; its last log-on was on " + a.LastLogOn.UTC().Format(time.DateOnly)
		}
		if f.Next = "ask its owner, disable it for a while, then delete it"; len(covered.Incomplete) > 0 {
			f.Next = "read what is missing first: the account may be used there"
		}
		findings = append(findings, f)
	}
	if len(names) >= store.MostUnused {
		findings = append(findings, LimitFinding("unused/", "unused accounts", fmt.Sprintf("%d accounts or more seem to be unused: the first %d are told", store.MostUnused, store.MostUnused), "deal with those that are told: the others follow"))
	}
	return engine.store.SetFindings(ctx, "unused/", findings)
}
