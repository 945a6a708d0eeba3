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
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// scopeUses is where findings about uses are.
const scopeUses = "observed/"

// unexplainedUses: uses that nothing which is configured explains.
func unexplainedUses(unexplained []picture.Unexplained, limited bool) []records.Finding {
	byKey := map[string]records.Finding{}
	for _, u := range unexplained {
		key := fmt.Sprintf(scopeUses+"%d/%s/%s%s", u.Use.AccountID, u.Use.Client, u.Use.Unit, u.Use.Program)
		byKey[key] = records.Finding{Key: key, Kind: "unexplained-client", Severity: "high", Subject: u.Use.Account, System: cmp.Or(u.Host, u.Use.System), AccountID: u.Use.AccountID, What: u.What, Next: u.Next}
	}
	findings := slices.Collect(maps.Values(byKey))
	if limited {
		findings = append(findings, LimitFinding(scopeUses, "observed use", fmt.Sprintf("%d observed uses or more are kept: those of the latest accounts are not weighed, so what they explain or contradict is not told", store.MostSeenUses), "import fewer days of records, or leave out accounts of people"))
	}
	sort.Slice(findings, func(i, j int) bool { return findings[i].Key < findings[j].Key })
	return findings
}

func readDeclarations(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	s.Declarations, err = from.Declarations(ctx, 0)
	return err
}

// endedDeclarations: what people said of a use, whose time is over.
func endedDeclarations(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, d := range s.Declarations {
		if d.Until.IsZero() || d.Until.After(s.Now) {
			continue
		}
		findings = append(findings, records.Finding{
			Key: fmt.Sprintf("declared/%d", d.ID), Kind: "declaration-ended", Severity: "medium", Subject: d.Account, System: d.System, AccountID: d.AccountID, DependentID: d.DependentID,
			What: fmt.Sprintf("%s said that %s uses it until %s: that time is over", d.SaidBy, d.Place, app.Day(d.Until)), Next: fmt.Sprintf("ask, then declare it anew or run 'moss use withdraw %d'", d.ID),
		})
	}
	return findings
}

// unusedAfter is how long an account's last log-on must be ago before it counts
// as unused.
const unusedAfter = 90 * 24 * time.Hour

func readUnused(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	if s.Unused, err = from.UnusedAccounts(ctx, s.Now.Add(-unusedAfter)); err != nil {
		return err
	}
	s.Coverage, err = picture.ReadCoverage(ctx, from)
	return err
}

// unusedAccounts: accounts for programs that nothing was found to use, with what
// that statement rests on.
func unusedAccounts(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, a := range s.Unused {
		if a.Verdict == "rests" { // it is there for its turn
			continue
		}
		f := records.Finding{Key: fmt.Sprintf("unused/%d", a.ID), Kind: "unused-account", Severity: "low", Subject: a.Name, System: a.System, AccountID: a.ID}
		f.What = "nothing was found that uses it; " + s.Coverage.Words()
		if !a.LastLogOn.IsZero() {
			f.What += "; its last log-on was on " + a.LastLogOn.UTC().Format(time.DateOnly)
		}
		if f.Next = "ask its owner, disable it for a while, then delete it"; len(s.Coverage.Incomplete) > 0 {
			f.Next = "read what is missing first: the account may be used there"
		}
		findings = append(findings, f)
	}
	if len(s.Unused) >= store.MostUnused {
		findings = append(findings, LimitFinding("unused/", "unused accounts", fmt.Sprintf("%d accounts or more seem to be unused: the first %d are told", store.MostUnused, store.MostUnused), "deal with those that are told: the others follow"))
	}
	return findings
}
