package operate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store"
)

// Kinds of finding about what runs.
const (
	kindLatent = "latent-breakage" // it will, or may, fail at its next start
	kindOld    = "runs-on-old"     // it runs on the old value, and will start with the right one
	kindDown   = "down"            // it should run by itself and does not
)

// clockMargin is how much two clocks may differ before their times are
// compared as if they were one.
const clockMargin = 3 * time.Second

// latent looks for dependents of a system that still run on a value older than
// their account's last change, or whose stored value cannot be the current one.
type latent struct {
	*Operator
	system   store.System
	accounts map[int64]store.Account
	current  map[int64]string // fingerprint of the value in custody
	byPath   map[string][]store.Dependent
	derived  map[int64][]ties.Tie
}

func (o *Operator) latentFindings(ctx context.Context, v store.System, dependents []store.Dependent, derived map[int64][]ties.Tie, scope string) ([]store.Finding, error) {
	l := &latent{Operator: o, system: v, accounts: map[int64]store.Account{}, current: map[int64]string{}, byPath: map[string][]store.Dependent{}, derived: derived}
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
					of = number(t.Account)
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

func (l *latent) account(ctx context.Context, id int64) (store.Account, error) {
	a, found := l.accounts[id]
	if found {
		return a, nil
	}
	a, err := l.Store.Account(ctx, id)
	if err != nil {
		return a, err
	}
	l.accounts[id] = a
	if !a.Custody {
		return a, nil
	}
	custody, err := l.Store.Custody(ctx, store.Credential{AccountID: id})
	if err != nil {
		return a, err
	}
	// A value that is refused, or that was changed elsewhere since it was last
	// accepted, says nothing of what is current.
	if custody.Verdict == "refused" || a.PasswordChanged.After(latest(custody.Verified, custody.Rotated, custody.Taken).Add(driftMargin)) {
		return a, nil
	}
	value, err := l.currentSecret(ctx, store.Credential{AccountID: id})
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

// before reports whether what runs was started before the account's password
// was last changed, on clocks that may differ.
func (l *latent) before(d store.Dependent, a store.Account) bool {
	if d.Started.IsZero() || a.PasswordChanged.IsZero() || !d.Up() {
		return false
	}
	return d.Started.Add(-l.system.Facts.ClockOff).Add(clockMargin).Before(a.PasswordChanged)
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// logOn judges a dependent whose log-on its system keeps.
func (l *latent) logOn(ctx context.Context, d store.Dependent) ([]store.Finding, error) {
	if !d.Stores {
		return nil, nil
	}
	for _, t := range l.derived[d.ID] {
		if t.Strength != estate.StrengthRunsAs {
			continue
		}
		id := number(t.Account)
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
		f := store.Finding{Kind: kindLatent, Severity: "high", AccountID: id, Next: repair}
		current := l.current[id]
		older := l.before(d, a)
		switch {
		case stored != "" && current != "" && stored != current:
			f.What = fmt.Sprintf("will fail at its next start: the password stored for %s is not the current one", a.Name)
		case stored != "" && stored == current && older:
			f.Kind, f.Severity = kindOld, "medium"
			f.What = fmt.Sprintf("runs since %s on the password from before the change of %s on %s; the current one is stored, so it will start", day(d.Started), a.Name, day(a.PasswordChanged))
			f.Next = "restart it when it suits"
		case stored != "" && stored == current:
			continue
		case older:
			f.What = fmt.Sprintf("will fail at its next start, unless somebody stored the new password since: %s was changed on %s, and it runs since %s", a.Name, day(a.PasswordChanged), day(d.Started))
		default:
			continue
		}
		return []store.Finding{f}, nil
	}
	return nil, nil
}

// unit judges a unit by the copies that it reads.
func (l *latent) unit(ctx context.Context, d store.Dependent) ([]store.Finding, error) {
	for _, path := range d.Uses {
		for _, held := range l.byPath[path] {
			for _, t := range l.derived[held.ID] {
				if t.Strength != estate.StrengthDiffers && t.Strength != estate.StrengthMatches {
					continue
				}
				a, err := l.account(ctx, number(t.Account))
				if errors.Is(err, store.ErrNotFound) {
					continue
				}
				if err != nil {
					return nil, err
				}
				older := l.before(d, a)
				f := store.Finding{AccountID: a.ID}
				switch {
				case t.Strength == estate.StrengthDiffers && d.Up():
					if l.alsoMatches(d, a.ID) {
						continue
					}
					f.Kind, f.Severity = kindLatent, "high"
					f.What = fmt.Sprintf("will fail at its next start: it reads %s, which holds another password than the current one of %s", path, a.Name)
					f.Next = fmt.Sprintf("give it the current password: 'moss rotate repair %s'", a.Name)
				case t.Strength == estate.StrengthMatches && older && l.current[a.ID] == "":
					f.Kind, f.Severity = kindLatent, "high"
					f.What = fmt.Sprintf("will fail at its next start: %s was changed elsewhere on %s, and it reads %s, which holds the value from before", a.Name, day(a.PasswordChanged), path)
					f.Next = fmt.Sprintf("take %s into custody with its new password, or rotate it", a.Name)
				case t.Strength == estate.StrengthMatches && older:
					f.Kind, f.Severity = kindOld, "medium"
					f.What = fmt.Sprintf("runs since %s on the password from before the change of %s on %s; its file holds the current one, so it will start", day(d.Started), a.Name, day(a.PasswordChanged))
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
func (l *latent) alsoMatches(d store.Dependent, account int64) bool {
	return slices.ContainsFunc(d.Uses, func(path string) bool {
		return slices.ContainsFunc(l.byPath[path], func(held store.Dependent) bool {
			return slices.ContainsFunc(l.derived[held.ID], func(t ties.Tie) bool {
				return number(t.Account) == account && t.Strength == estate.StrengthMatches
			})
		})
	})
}

// RepairTargets lists the dependents of an account whose log-on or copy is not
// the current value, or that run on the old one: what a repair would give it.
func (o *Operator) RepairTargets(ctx context.Context, a store.Account) ([]int64, error) {
	o.Settled(ctx)
	a, err := o.Store.Account(ctx, a.ID) // as it is now
	if err != nil {
		return nil, err
	}
	tied, err := o.Store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	value, err := o.currentSecret(ctx, a.Credential())
	if err != nil {
		return nil, err
	}
	if value == nil {
		return nil, fmt.Errorf("%w: %s is not in custody: take it first", ErrRefused, a.Name)
	}
	owned, err := o.Store.Secrets(ctx, a.Credential())
	if err != nil {
		return nil, err
	}
	ours := map[string]bool{}
	for _, s := range owned {
		ours[s.Fingerprint] = true
	}
	l := &latent{Operator: o, accounts: map[int64]store.Account{}}
	var out []int64
	for _, d := range tied {
		strength := strengthFor(d, a.ID)
		stored := d.Stored
		if stored == "" && d.GivenTo == a.ID {
			stored = d.Given
		}
		if v, err := o.Store.System(ctx, d.System); err == nil {
			l.system = v
		}
		switch {
		case d.Kind.LogsOn() && d.Stores && strength == string(estate.StrengthRunsAs):
			down := d.Kind.Runs() && !d.Up() && d.ByItself()
			if stored != "" && stored != value.Fingerprint || l.before(d, a) || down {
				out = append(out, d.ID)
			}
		case d.Copy != nil && strength == string(estate.StrengthDiffers) && ours[d.Copy.Fingerprint]:
			out = append(out, d.ID)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: nothing of %s needs repair: every stored password that can be judged is the current one", ErrRefused, a.Name)
	}
	return out, nil
}
