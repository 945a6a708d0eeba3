package findings

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store"
)

// Kinds of finding about what runs.
const (
	KindLatent = "latent-breakage" // it will, or may, fail at its next start
	kindOld    = "runs-on-old"     // it runs on the old value, and will start with the right one
	kindDown   = "down"            // it should run by itself and does not
)

// clockMargin is how much two clocks may differ before their times are
// compared as if they were one.
const clockMargin = 3 * time.Second

// latentBreakage looks for dependents of a system that still run on a value older than
// their account's last change, or whose stored value cannot be the current one.
type latentBreakage struct {
	engine   *Engine
	system   store.System
	accounts map[int64]store.Account
	current  map[int64]string // fingerprint of the value in custody
	byPath   map[string][]store.Dependent
	derived  map[int64][]ties.Tie
}

func (engine *Engine) latentFindings(ctx context.Context, v store.System, dependents []store.Dependent, derived map[int64][]ties.Tie, scope string) ([]store.Finding, error) {
	l := &latentBreakage{engine: engine, system: v, accounts: map[int64]store.Account{}, current: map[int64]string{}, byPath: map[string][]store.Dependent{}, derived: derived}
	for _, d := range dependents {
		if d.Copy != nil {
			l.byPath[d.Path] = append(l.byPath[d.Path], d)
		}
	}
	var out []store.Finding
	for _, d := range dependents {
		var found []store.Finding
		var err error
		switch {
		case d.Kind.LogsOn():
			found, err = l.logOn(ctx, d)
		case d.Kind == estate.DependentUnit:
			found, err = l.unit(ctx, d)
		case d.Kind == estate.DependentKeytab:
			found, err = l.staleTab(ctx, d)
		}
		if err != nil {
			return nil, err
		}
		if d.Kind.Runs() && !d.Up() && d.ByItself() && d.Result != "" && !strings.HasPrefix(d.Result, "1077") {
			var of int64
			for _, t := range derived[d.ID] {
				if t.Strength == estate.StrengthRunsAs {
					of = app.Number(t.Account)
				}
			}
			severity := "high"
			if strings.HasPrefix(d.Result, "1068") {
				severity = "medium" // a consequence: what failed first is told by itself
			}
			found = append(found, store.Finding{AccountID: of, Kind: kindDown, Severity: severity, What: fmt.Sprintf("it starts by itself and is %s: %s", d.State, d.Result), Next: fmt.Sprintf("run 'moss explain %d'", d.ID)})
		}
		for _, f := range found {
			f.Key, f.Subject, f.System, f.DependentID = fmt.Sprintf("%s%s/%d", scope, f.Kind, d.ID), d.Place, v.Name, d.ID
			out = append(out, f)
		}
	}
	return out, nil
}

func (l *latentBreakage) account(ctx context.Context, id int64) (store.Account, error) {
	a, found := l.accounts[id]
	if found {
		return a, nil
	}
	a, err := l.engine.store.Account(ctx, id)
	if err != nil {
		return a, err
	}
	l.accounts[id] = a
	if !a.Custody {
		return a, nil
	}
	custody, err := l.engine.store.PasswordOf(ctx, id)
	if err != nil {
		return a, err
	}
	// A value that is refused, or that was changed elsewhere since it was last
	// accepted, says nothing of what is current.
	if custody.Verdict == "refused" || a.PasswordChanged.After(latest(custody.Verified, custody.Rotated, custody.Taken).Add(driftMargin)) {
		return a, nil
	}
	value, err := l.engine.sealed.Current(ctx, custody.ID)
	if err != nil {
		return a, err
	}
	if value != nil {
		l.current[id] = value.Fingerprint
	}
	return a, nil
}

// driftMargin is how much the directory's clock may differ from ours before a
// change of the password counts as somebody else's.
const driftMargin = 10 * time.Minute

func latest(times ...time.Time) time.Time {
	var out time.Time
	for _, t := range times {
		if t.After(out) {
			out = t
		}
	}
	return out
}

// StartedBefore reports whether what runs was started before the account's password
// was last changed, on clocks that may differ.
func StartedBefore(v store.System, d store.Dependent, a store.Account) bool {
	if d.Started.IsZero() || a.PasswordChanged.IsZero() || !d.Up() {
		return false
	}
	return d.Started.Add(-v.Facts.ClockOff).Add(clockMargin).Before(a.PasswordChanged)
}

// logOn judges a dependent whose log-on its system keeps.
func (l *latentBreakage) logOn(ctx context.Context, d store.Dependent) ([]store.Finding, error) {
	if !d.Stores {
		return nil, nil
	}
	for _, t := range l.derived[d.ID] {
		if t.Strength != estate.StrengthRunsAs {
			continue
		}
		id := app.Number(t.Account)
		a, err := l.account(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		stored := d.Stored
		if stored == "" && d.GivenTo == id {
			stored = d.Given
		}
		repair := fmt.Sprintf("give it the current password: 'moss rotate repair %s'", a.Name)
		if !a.Custody {
			repair = fmt.Sprintf("take %s into custody, then 'moss rotate repair %s'", a.Name, a.Name)
		}
		f := store.Finding{Kind: KindLatent, Severity: "high", AccountID: id, Next: repair}
		current := l.current[id]
		older := StartedBefore(l.system, d, a)
		switch {
		case stored != "" && current != "" && stored != current:
			f.What = fmt.Sprintf("will fail at its next start: the password stored for %s is not the current one", a.Name)
		case stored != "" && stored == current && older:
			f.Kind, f.Severity = kindOld, "medium"
			f.What = fmt.Sprintf("runs since %s on the password from before the change of %s on %s; the current one is stored, so it will start", app.Day(d.Started), a.Name, app.Day(a.PasswordChanged))
			f.Next = "restart it when it suits"
		case stored != "" && stored == current:
			continue
		case older:
			f.What = fmt.Sprintf("will fail at its next start, unless somebody stored the new password since: %s was changed on %s, and it runs since %s", a.Name, app.Day(a.PasswordChanged), app.Day(d.Started))
		default:
			continue
		}
		return []store.Finding{f}, nil
	}
	return nil, nil
}

// unit judges a unit by the copies that it reads.
func (l *latentBreakage) unit(ctx context.Context, d store.Dependent) ([]store.Finding, error) {
	for _, path := range d.Uses {
		for _, held := range l.byPath[path] {
			for _, t := range l.derived[held.ID] {
				if t.Strength != estate.StrengthDiffers && t.Strength != estate.StrengthMatches {
					continue
				}
				a, err := l.account(ctx, app.Number(t.Account))
				if errors.Is(err, store.ErrNotFound) {
					continue
				}
				if err != nil {
					return nil, err
				}
				older := StartedBefore(l.system, d, a)
				f := store.Finding{AccountID: a.ID}
				switch {
				case t.Strength == estate.StrengthDiffers && d.Up():
					if l.alsoMatches(d, a.ID) {
						continue
					}
					f.Kind, f.Severity = KindLatent, "high"
					f.What = fmt.Sprintf("will fail at its next start: it reads %s, which holds another password than the current one of %s", path, a.Name)
					f.Next = fmt.Sprintf("give it the current password: 'moss rotate repair %s'", a.Name)
				case t.Strength == estate.StrengthMatches && older && l.current[a.ID] == "":
					f.Kind, f.Severity = KindLatent, "high"
					f.What = fmt.Sprintf("will fail at its next start: %s was changed elsewhere on %s, and it reads %s, which holds the value from before", a.Name, app.Day(a.PasswordChanged), path)
					f.Next = fmt.Sprintf("take %s into custody with its new password, or rotate it", a.Name)
				case t.Strength == estate.StrengthMatches && older:
					f.Kind, f.Severity = kindOld, "medium"
					f.What = fmt.Sprintf("runs since %s on the password from before the change of %s on %s; its file holds the current one, so it will start", app.Day(d.Started), a.Name, app.Day(a.PasswordChanged))
					f.Next = "restart it when it suits"
				default:
					continue
				}
				return []store.Finding{f}, nil
			}
		}
	}
	return nil, nil
}

// alsoMatches: another file of the unit holds the current value, so which one
// counts is not known.
func (l *latentBreakage) alsoMatches(d store.Dependent, account int64) bool {
	return slices.ContainsFunc(d.Uses, func(path string) bool {
		return slices.ContainsFunc(l.byPath[path], func(held store.Dependent) bool {
			return slices.ContainsFunc(l.derived[held.ID], func(t ties.Tie) bool {
				return app.Number(t.Account) == account && t.Strength == estate.StrengthMatches
			})
		})
	})
}
