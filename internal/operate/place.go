package operate

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store"
)

// Place derives the ties of all dependents on the given systems, and the
// findings that follow from them.
func (o *Operator) Place(ctx context.Context, systems []store.System) error {
	known, err := o.Store.TieSource(ctx)
	if err != nil {
		return err
	}
	// Several at a time: most of it is reading.
	var all sync.WaitGroup
	slots := make(chan struct{}, placeAtOnce)
	failures := make([]error, len(systems))
	for i, v := range systems {
		if !estate.Kind(v.Kind).IsHost() {
			continue
		}
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			if err := o.placeSystem(ctx, v, known); err != nil {
				failures[i] = fmt.Errorf("%s: %w", v.Name, err)
			}
		}()
	}
	all.Wait()
	if err := errors.Join(failures...); err != nil {
		return err
	}
	if err := o.Observe(ctx); err != nil {
		return err
	}
	return o.Refresh(ctx)
}

// placeAtOnce is how many systems are placed at the same time: as many as the
// store has readers.
const placeAtOnce = 4

func (o *Operator) placeSystem(ctx context.Context, v store.System, known ties.Known) error {
	dependents, err := o.Store.DependentsOfSystem(ctx, v.ID)
	if err != nil {
		return err
	}
	unreadable := map[string]bool{}
	for _, d := range dependents {
		if d.Copy != nil && d.Copy.Unreadable != "" {
			unreadable[d.Path] = true
		}
	}
	derived := make(map[int64][]ties.Tie, len(dependents))
	var findings []store.Finding
	scope := fmt.Sprintf("place/%d/", v.ID)
	for _, d := range dependents {
		list, unplaced, err := ties.Derive(d.Dependent, store.ContextOf(v), known, unreadable)
		if err != nil {
			return err
		}
		derived[d.ID] = list
		for _, u := range unplaced {
			findings = append(findings, unplacedFinding(scope, v, d, u))
		}
		for _, t := range list {
			if t.Strength == estate.StrengthDiffers && d.Kind != estate.DependentProcess {
				findings = append(findings, store.Finding{
					Key: fmt.Sprintf("%sstale/%d/%s", scope, d.ID, t.Account), Kind: "stale-copy", Severity: "medium", Subject: d.Place, System: v.Name, AccountID: number(t.Account), DependentID: d.ID,
					What: t.Detail, Next: "find out whether anything still reads it: a program that does will be refused at its next sign-in",
				})
			}
		}
	}
	if err := o.Store.PutTies(ctx, derived); err != nil {
		return err
	}
	latent, err := o.latentFindings(ctx, v, dependents, derived, scope)
	if err != nil {
		return err
	}
	findings = append(append(findings, latent...), o.keyFindings(v, dependents, scope)...)
	findings = append(findings, processFindings(v, dependents, derived, scope)...)
	return o.Store.SetFindings(ctx, scope, findings)
}

func unplacedFinding(scope string, v store.System, d store.Dependent, u ties.Unplaced) store.Finding {
	f := store.Finding{
		Key: fmt.Sprintf("%sunplaced/%d/%s", scope, d.ID, u.Text), Kind: "unplaced-reference", Severity: "medium", Subject: d.Place, System: v.Name,
		DependentID: d.ID, What: fmt.Sprintf("\"%s\": %s", u.Text, u.Why), Next: "survey the system that it belongs to, or correct the reference",
	}
	if d.Copy == nil && u.State == naming.Unknown {
		f.Severity, f.Next = "high", "it runs as an account that is not there, or was not surveyed: survey the system that has it; if none has, it will not start again ('moss explain' weighs that)"
	}
	if d.Copy != nil {
		f.Severity = "low"
	}
	return f
}

func number(text string) int64 {
	var n int64
	_, _ = fmt.Sscan(text, &n)
	return n
}

// Refresh renews the findings that follow from the picture as a whole.
func (o *Operator) Refresh(ctx context.Context) error {
	systems, err := o.Store.AllSystems(ctx)
	if err != nil {
		return err
	}
	var findings []store.Finding
	for _, v := range systems {
		if v.State != "failed" && v.State != "incomplete" {
			continue
		}
		f := store.Finding{Key: fmt.Sprintf("reach/%d", v.ID), Kind: "unread-system", Severity: "medium", Subject: v.Name, System: v.Name, What: v.StateWords, Next: "run 'moss system check " + v.Name + "'"}
		if v.State == "incomplete" {
			f.Severity, f.What = "low", "not read completely: "+v.StateWords
		}
		findings = append(findings, f)
	}
	if err := o.Store.SetFindings(ctx, "reach/", findings); err != nil {
		return err
	}
	held, err := o.Store.HeldScopes(ctx)
	if err != nil {
		return err
	}
	var absences []store.Finding
	for _, h := range held {
		absences = append(absences, store.Finding{
			Key: fmt.Sprintf("absence/%d/%s", h.SystemID, h.Scope), Kind: "absence", Severity: "high", Subject: h.Scope, System: h.System, What: h.Why,
			Next: "look at the rights of the log-on there; if they are really gone: 'moss system confirm-absence " + h.System + "'",
		})
	}
	if err := o.Store.SetFindings(ctx, "absence/", absences); err != nil {
		return err
	}
	if err := o.refreshReuse(ctx); err != nil {
		return err
	}
	if err := o.refreshKeys(ctx); err != nil {
		return err
	}
	if err := o.refreshDeclared(ctx); err != nil {
		return err
	}
	if err := o.refreshUnused(ctx); err != nil {
		return err
	}
	return o.refreshAccounts(ctx)
}

// refreshReuse: one password that stands for several accounts. Only keyed
// fingerprints are compared.
func (o *Operator) refreshReuse(ctx context.Context) error {
	reused, err := o.Store.Reused(ctx)
	if err != nil {
		return err
	}
	var findings []store.Finding
	for _, r := range reused {
		accounts := strings.Join(r.Accounts, ", ")
		f := store.Finding{
			Key: "reuse/" + r.Fingerprint, Kind: "reused-password", Severity: "medium", Subject: accounts, System: r.System, AccountID: r.AccountID,
			What: "one password is used for " + accounts, Next: "give each account a password of its own: rotate them one after the other",
		}
		if n := len(r.Places); n > 0 {
			f.What += fmt.Sprintf("; it stands in %s", strings.Join(r.Places[:min(n, 5)], ", "))
			if n > 5 {
				f.What += fmt.Sprintf(" and %d more places", n-5)
			}
		}
		findings = append(findings, f)
	}
	return o.Store.SetFindings(ctx, "reuse/", findings)
}

// refreshAccounts: accounts that something depends on and whose password never
// expires, or which are gone, disabled or locked.
func (o *Operator) refreshAccounts(ctx context.Context) error {
	var findings []store.Finding
	accounts, err := o.Store.AccountsWithTies(ctx)
	if err != nil {
		return err
	}
	for _, a := range accounts {
		add := func(kind, severity, what, next string) {
			findings = append(findings, store.Finding{Key: fmt.Sprintf("account/%d/%s", a.ID, kind), Kind: kind, Severity: severity, Subject: a.Name, System: a.System, AccountID: a.ID, What: what, Next: next})
		}
		uses := fmt.Sprintf("%d dependents use it", a.Dependents)
		if a.Dependents == 1 {
			uses = "one dependent uses it"
		}
		now := o.Now()
		switch {
		case !a.Gone.IsZero():
			add("account-gone", "high", uses+", and it is no longer there", "its dependents will fail at their next sign-in: move them to another account")
		case a.Enabled == estate.No && a.Kind == string(estate.KindDirectory):
			add("account-disabled", "high", uses+", and it is disabled", "find out who disabled it, and why")
		case a.Locked == estate.Yes && a.Kind == string(estate.KindDirectory):
			add("account-locked", "high", uses+", and it is locked", "something signs in with a wrong password: look for stale copies")
		}
		if a.Gone.IsZero() && !a.AccountExpires.IsZero() && a.AccountExpires.Before(now) {
			add("account-expired", "high", uses+", and the account ended on "+day(a.AccountExpires), "extend it, or move its dependents to another account")
		}
		if a.Gone.IsZero() && !a.PasswordExpires.IsZero() && a.PasswordExpires.Before(now) && !a.NeverExpire {
			add("password-expired", "high", uses+", and its password expired on "+day(a.PasswordExpires), "rotate it: what signs in with it is refused, or will be")
		}
		if a.NeverExpire && a.Kind == string(estate.KindDirectory) {
			next := "take it into custody and rotate it"
			if a.Custody {
				next = "rotate it regularly, or let the directory end it"
			}
			add("never-expires", "low", "its password never expires, and was last changed "+age(a, o), next)
		}
	}
	replaced, err := o.Store.Replaced(ctx)
	if err != nil {
		return err
	}
	for _, r := range replaced {
		what := fmt.Sprintf("%s on %s is another account than before: the one of that name vanished on %s, and this one, with another id, came on %s", r.Name, r.System, day(r.Gone), day(r.First))
		f := store.Finding{Key: fmt.Sprintf("account/%d/replaced", r.NewID), Kind: "account-replaced", Severity: "high", Subject: r.Name, System: r.System, AccountID: r.NewID, What: what, Next: "find out who made it, and why: what referred to the former one by its name now signs in as this one, with its rights"}
		if r.Custody {
			f.What += "; the former one is in custody, and its sealed values belong to nothing"
			f.Next += "; release the former one, or take this one into custody"
		}
		findings = append(findings, f)
	}
	lost, err := o.Store.CustodyGone(ctx)
	if err != nil {
		return err
	}
	for _, a := range lost {
		findings = append(findings, store.Finding{
			Key: fmt.Sprintf("account/%d/custody-gone", a.ID), Kind: "custody-gone", Severity: "high", Subject: a.Name, System: a.System, AccountID: a.ID,
			What: "it is in custody and no longer there, since " + day(a.Gone), Next: fmt.Sprintf("find out who removed it; then 'moss custody release id:%d'", a.ID),
		})
	}
	return o.Store.SetFindings(ctx, "account/", findings)
}

func age(a store.Account, o *Operator) string {
	if a.PasswordChanged.IsZero() {
		return "at an unknown time"
	}
	switch days := int(o.Now().Sub(a.PasswordChanged).Hours() / 24); days {
	case 0:
		return "today"
	case 1:
		return "yesterday"
	default:
		return fmt.Sprintf("%d days ago", days)
	}
}
