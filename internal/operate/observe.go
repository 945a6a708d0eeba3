package operate

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/store"
)

// observedFor is how long a tie that comes from use stays after the use was last
// seen.
const observedFor = 90 * 24 * time.Hour

// Observe joins who was seen signed in with the hosts and units that it came
// from: they become ties, and what no configuration explains a finding.
func (o *Operator) Observe(ctx context.Context) error {
	if err := o.placeUses(ctx); err != nil {
		return err
	}
	uses, err := o.Store.SeenUses(ctx, 0)
	if err != nil {
		return err
	}
	w := &witness{Operator: o, hosts: map[int64][]store.Dependent{}, findings: map[string]*store.Finding{}}
	for _, u := range uses {
		if err := w.weigh(ctx, u); err != nil {
			return err
		}
	}
	if err := o.Store.PutObserved(ctx, w.ties, o.Now().Add(-observedFor)); err != nil {
		return err
	}
	findings := make([]store.Finding, 0, len(w.findings))
	for _, f := range w.findings {
		findings = append(findings, *f)
	}
	if len(uses) >= store.MostSeenUses {
		findings = append(findings, limitFinding("observed/", "observed use", fmt.Sprintf("%d observed log-ons or more are kept: those of the latest accounts are not weighed, so what they explain or contradict is not told", store.MostSeenUses), "import fewer days of log-on records, or leave out accounts of people"))
	}
	sort.Slice(findings, func(i, j int) bool { return findings[i].Key < findings[j].Key })
	return o.Store.SetFindings(ctx, "observed/", findings)
}

// limitFinding says that a list of something ends before its end.
func limitFinding(scope, subject, what, next string) store.Finding {
	return store.Finding{Key: scope + "limit", Kind: "limit-reached", Severity: "medium", Subject: subject, What: what, Next: next}
}

// placeUses finds out whose the recorded log-ons are.
func (o *Operator) placeUses(ctx context.Context) error {
	unplaced, err := o.Store.UnplacedUses(ctx)
	if err != nil || len(unplaced) == 0 {
		return err
	}
	lookup, err := o.Store.Lookup(ctx)
	if err != nil {
		return err
	}
	for system, names := range unplaced {
		v, err := o.Store.SystemByID(ctx, system)
		if err != nil {
			return err
		}
		for _, name := range names {
			where := store.ContextOf(v)
			res, err := naming.Resolve(name, where, lookup)
			if err != nil {
				return err
			}
			if res.State == naming.Ambiguous && !where.Host { // of several, the one of that system
				var own []naming.Known
				for _, k := range res.Accounts {
					if k.System == where.System {
						own = append(own, k)
					}
				}
				if len(own) == 1 {
					res.State, res.Accounts = naming.Resolved, own
				}
			}
			if res.State == naming.Resolved {
				if err := o.Store.PlaceUse(ctx, system, name, number(res.Accounts[0].ID)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// witness weighs what was seen against what is configured.
type witness struct {
	*Operator
	hosts    map[int64][]store.Dependent
	ties     []store.ObservedTie
	findings map[string]*store.Finding
}

func (w *witness) dependents(ctx context.Context, host int64) ([]store.Dependent, error) {
	list, found := w.hosts[host]
	if found {
		return list, nil
	}
	list, err := w.Store.DependentsOfSystem(ctx, host)
	w.hosts[host] = list
	return list, err
}

func from(u store.SeenUse) string {
	where := u.Client
	switch {
	case u.Host != "":
		where = u.Host
	case where == "":
		return u.System + " itself"
	}
	if u.Unit != "" {
		return u.Unit + " on " + where
	}
	if u.Program != "" {
		return u.Program + " on " + where
	}
	return where
}

func (w *witness) weigh(ctx context.Context, u store.SeenUse) error {
	if u.Failed || u.Client == "" {
		return nil
	}
	detail := fmt.Sprintf("signs in to %s from %s", u.System, from(u))
	if u.Application != "" {
		detail += fmt.Sprintf(", which calls itself %q", u.Application)
	}
	if u.HostID == 0 {
		w.find(u, "", fmt.Sprintf("%s %s, an address that no known system has", u.Account, detail), "add that system and survey it: nothing is known of what would break there")
		return nil
	}
	list, err := w.dependents(ctx, u.HostID)
	if err != nil {
		return err
	}
	var unit *store.Dependent
	explained, mentioned, unread := false, "", ""
	files := map[string]bool{} // that hold the account's value or name it beside one
	for i := range list {
		d := &list[i]
		if d.Kind == estate.DependentUnit && d.Place == u.Unit {
			unit = d
		}
		for _, t := range d.Ties {
			if t.AccountID != u.AccountID || t.Evidence == string(estate.Observed) {
				continue
			}
			if t.Strength == string(estate.StrengthMentions) {
				mentioned = d.Path
				continue
			}
			explained = true
			if d.Copy != nil {
				files[d.Path] = true
			}
		}
		if d.Copy != nil && d.Copy.Unreadable != "" {
			unread = d.Path
		}
	}
	if unit != nil {
		w.ties = append(w.ties, store.ObservedTie{AccountID: u.AccountID, DependentID: unit.ID, Detail: detail, Seen: u.Last})
	}
	if explained {
		return nil
	}
	next := "find out what it signs in with: look at the files that it has open, its environment, and its arguments"
	if unit != nil {
		var parts []string
		if unit.Executable != "" {
			parts = append(parts, "its command "+unit.Executable)
		}
		if len(unit.Uses) > 0 {
			parts = append(parts, "the files that it names: "+strings.Join(unit.Uses, ", "))
		}
		if len(parts) > 0 {
			next = "most likely the password is built into the program or kept where the search does not look; begin with " + strings.Join(parts, " and ")
		}
	}
	switch {
	case unread != "":
		next += "; " + unread + " could not be read"
	case mentioned != "":
		next += "; " + mentioned + " mentions the account"
	}
	w.find(u, u.Host, fmt.Sprintf("%s %s, and nothing that is configured there explains it: it would break", u.Account, detail), next)
	return nil
}

func (w *witness) find(u store.SeenUse, host, what, next string) {
	key := fmt.Sprintf("observed/%d/%s/%s%s", u.AccountID, u.Client, u.Unit, u.Program)
	system := u.System
	if host != "" {
		system = host
	}
	w.findings[key] = &store.Finding{Key: key, Kind: "unexplained-client", Severity: "high", Subject: u.Account, System: system, AccountID: u.AccountID, What: what, Next: next}
}

// Declared is what a person says of an account's use.
type Declared struct {
	Place       string
	System      string // name; that of the account when empty
	DependentID int64
	Reason      string
	Until       time.Time
}

// Declare records that an account is used somewhere, because a person says so.
func (o *Operator) Declare(ctx context.Context, by string, a store.Account, d Declared) (int64, error) {
	switch {
	case strings.TrimSpace(d.Reason) == "":
		return 0, fmt.Errorf("%w: say why: a declaration needs a reason", ErrInput)
	case d.DependentID == 0 && strings.TrimSpace(d.Place) == "":
		return 0, fmt.Errorf("%w: say where: name a dependent, or describe the place", ErrInput)
	case !d.Until.IsZero() && !d.Until.After(o.Now()):
		return 0, fmt.Errorf("%w: its end lies in the past", ErrInput)
	}
	system, subject := a.SystemID, d.Place
	if d.System != "" {
		v, err := o.Store.System(ctx, d.System)
		if err != nil {
			return 0, err
		}
		system = v.ID
	}
	if d.DependentID != 0 {
		dependent, err := o.Store.Dependent(ctx, d.DependentID)
		if err != nil {
			return 0, err
		}
		subject = dependent.Place
	}
	entry := ledger.Entry{Actor: by, Act: "use.declare", Subject: a.Name + ": " + subject, Reason: d.Reason, Phase: ledger.Outcome, Result: "done"}
	return o.Store.Declare(ctx, store.Declaration{AccountID: a.ID, DependentID: d.DependentID, Place: strings.TrimSpace(d.Place), Reason: d.Reason, Until: d.Until, SaidBy: by}, system, entry)
}

// Withdraw ends a declaration.
func (o *Operator) Withdraw(ctx context.Context, by string, id int64) error {
	return o.Store.Withdraw(ctx, id, by, ledger.Entry{Actor: by, Act: "use.withdraw", Subject: fmt.Sprintf("declaration %d", id), Phase: ledger.Outcome, Result: "done"})
}

// refreshDeclared ends declarations whose time is over, and says so.
func (o *Operator) refreshDeclared(ctx context.Context) error {
	all, err := o.Store.Declarations(ctx, 0)
	if err != nil {
		return err
	}
	var findings []store.Finding
	for _, d := range all {
		if d.Until.IsZero() || d.Until.After(o.Now()) {
			continue
		}
		findings = append(findings, store.Finding{
			Key: fmt.Sprintf("declared/%d", d.ID), Kind: "declaration-ended", Severity: "medium", Subject: d.Account, System: d.System, AccountID: d.AccountID, DependentID: d.DependentID,
			What: fmt.Sprintf("%s said that %s uses it until %s: that time is over", d.SaidBy, d.Place, day(d.Until)), Next: fmt.Sprintf("ask, then declare it anew or run 'moss use withdraw %d'", d.ID),
		})
	}
	return o.Store.SetFindings(ctx, "declared/", findings)
}

// unusedAfter is how long an account's last log-on must be ago before it counts
// as unused.
const unusedAfter = 90 * 24 * time.Hour

// refreshUnused: accounts for programs that nothing was found to use, with what
// that statement rests on.
func (o *Operator) refreshUnused(ctx context.Context) error {
	names, err := o.Store.UnusedAccounts(ctx, o.Now().Add(-unusedAfter))
	if err != nil {
		return err
	}
	covered, err := o.Coverage(ctx)
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
		findings = append(findings, limitFinding("unused/", "unused accounts", fmt.Sprintf("%d accounts or more seem to be unused: the first %d are told", store.MostUnused, store.MostUnused), "deal with those that are told: the others follow"))
	}
	return o.Store.SetFindings(ctx, "unused/", findings)
}

// Coverage says how much of the estate a statement rests on.
type Coverage struct {
	Systems    int         `json:"systems" doc:"Systems that are known"`
	Incomplete []Uncovered `json:"incomplete" nullable:"false" doc:"Those that were not read completely"`
}

// Uncovered is a system that was not read completely.
type Uncovered struct {
	System string    `json:"system"`
	State  string    `json:"state"`
	Why    string    `json:"why"`
	Since  time.Time `json:"since,omitzero" doc:"When it was last read completely; absent for never"`
}

// Words is the coverage in a sentence: "4 of 61 systems not read since Tuesday".
func (c Coverage) Words() string {
	switch n := len(c.Incomplete); {
	case c.Systems == 0:
		return "no system is known"
	case n == 0 && c.Systems == 1:
		return "the only system was read completely"
	case n == 0:
		return fmt.Sprintf("all %d systems were read completely", c.Systems)
	default:
		var oldest time.Time
		never := false
		for _, u := range c.Incomplete {
			never = never || u.Since.IsZero()
			if oldest.IsZero() || u.Since.Before(oldest) {
				oldest = u.Since
			}
		}
		text := fmt.Sprintf("%d of %d systems not read completely", n, c.Systems)
		if !never {
			text += " since " + oldest.UTC().Format("Monday, 2 January")
		}
		if n <= 3 {
			var names []string
			for _, u := range c.Incomplete {
				names = append(names, u.System)
			}
			text += " (" + strings.Join(names, ", ") + ")"
		}
		return text
	}
}

// Coverage tells which systems were not read completely.
func (o *Operator) Coverage(ctx context.Context) (Coverage, error) {
	unread, all, err := o.Store.Unread(ctx)
	if err != nil {
		return Coverage{}, err
	}
	out := Coverage{Systems: all, Incomplete: []Uncovered{}}
	for _, v := range unread {
		why := v.Words
		if why == "" {
			why = "not surveyed yet"
		}
		out.Incomplete = append(out.Incomplete, Uncovered{System: v.Name, State: v.State, Why: why, Since: v.Complete})
	}
	return out, nil
}

// LogOnRecords takes in what a directory recorded of log-ons, and places it.
func (o *Operator) LogOnRecords(ctx context.Context, by string, v store.System, list []estate.Use) error {
	entry := ledger.Entry{Actor: by, Act: "use.import", Subject: fmt.Sprintf("%d kinds of log-on of %s", len(list), v.Name), Phase: ledger.Outcome, Result: "done"}
	if err := o.Record(ctx, entry); err != nil {
		return err
	}
	if err := o.Store.PutUses(ctx, v.ID, list); err != nil {
		return err
	}
	return o.Observe(ctx)
}
