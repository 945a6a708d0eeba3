package findings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
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

// latentBreakage: dependents that still run on a value older than their account's
// last change, or whose stored value cannot be the current one.
func latentBreakage(s *SystemSnapshot) []records.Finding {
	byPath := map[string][]records.Dependent{}
	for _, d := range s.Dependents {
		if d.Copy != nil {
			byPath[d.Path] = append(byPath[d.Path], d)
		}
	}
	var out []records.Finding
	for _, d := range s.Dependents {
		var f *records.Finding
		switch {
		case d.Kind.LogsOn():
			f = latentLogOn(s, d)
		case d.Kind == estate.DependentUnit:
			f = latentUnit(s, d, byPath)
		}
		if f != nil {
			out = append(out, s.found(d, *f))
		}
	}
	return out
}

// down: what should run by itself and does not.
func down(s *SystemSnapshot) []records.Finding {
	var out []records.Finding
	for _, d := range s.Dependents {
		// 1077: nobody tried to start it since the host started.
		if !d.Kind.Runs() || d.Up() || !d.ByItself() || d.Result == "" || strings.HasPrefix(d.Result, "1077") {
			continue
		}
		f := records.Finding{Kind: kindDown, Severity: "high", What: fmt.Sprintf("it starts by itself and is %s: %s", d.State, d.Result), Next: fmt.Sprintf("run 'moss explain %d'", d.ID)}
		for _, t := range s.Ties[d.ID] {
			if t.Strength == estate.StrengthRunsAs {
				f.AccountID = app.Number[records.AccountID](t.Account)
			}
		}
		if strings.HasPrefix(d.Result, "1068") {
			f.Severity = "medium" // a consequence: what failed first is told by itself
		}
		out = append(out, s.found(d, f))
	}
	return out
}

// StartedBefore reports whether what runs was started before the account's password
// was last changed, on clocks that may differ.
func StartedBefore(v records.System, d records.Dependent, a records.Account) bool {
	if d.Started.IsZero() || a.PasswordChanged.IsZero() || !d.Up() {
		return false
	}
	return d.Started.Add(-v.Facts.ClockOff).Add(clockMargin).Before(a.PasswordChanged)
}

// latentLogOn judges a dependent whose log-on its system keeps.
func latentLogOn(s *SystemSnapshot, d records.Dependent) *records.Finding {
	if !d.Stores {
		return nil
	}
	for _, t := range s.Ties[d.ID] {
		if t.Strength != estate.StrengthRunsAs {
			continue
		}
		id := app.Number[records.AccountID](t.Account)
		a, known := s.Accounts[id]
		if !known {
			continue
		}
		stored := d.Stored
		if stored == "" && d.GivenTo == id {
			stored = d.Given
		}
		repair := fmt.Sprintf("give it the current password: 'moss rotate repair %s'", a.Name)
		if !a.Custody {
			repair = fmt.Sprintf("take %s into custody, then 'moss rotate repair %s'", a.Name, a.Name)
		}
		f := records.Finding{Kind: KindLatent, Severity: "high", AccountID: id, Next: repair}
		current := s.Current[id]
		older := StartedBefore(s.System, d, a)
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
		return &f
	}
	return nil
}

// latentUnit judges a unit by the copies that it reads.
func latentUnit(s *SystemSnapshot, d records.Dependent, byPath map[string][]records.Dependent) *records.Finding {
	for _, path := range d.Uses {
		for _, held := range byPath[path] {
			for _, t := range s.Ties[held.ID] {
				if t.Strength != estate.StrengthDiffers && t.Strength != estate.StrengthMatches {
					continue
				}
				a, known := s.Accounts[app.Number[records.AccountID](t.Account)]
				if !known {
					continue
				}
				older := StartedBefore(s.System, d, a)
				f := records.Finding{AccountID: a.ID}
				switch {
				case t.Strength == estate.StrengthDiffers && d.Up():
					if alsoMatches(s, d, a.ID, byPath) {
						continue
					}
					f.Kind, f.Severity = KindLatent, "high"
					f.What = fmt.Sprintf("will fail at its next start: it reads %s, which holds another password than the current one of %s", path, a.Name)
					f.Next = fmt.Sprintf("give it the current password: 'moss rotate repair %s'", a.Name)
				case t.Strength == estate.StrengthMatches && older && s.Current[a.ID] == "":
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
				return &f
			}
		}
	}
	return nil
}

// alsoMatches: another file of the unit holds the current value, so which one
// counts is not known.
func alsoMatches(s *SystemSnapshot, d records.Dependent, account records.AccountID, byPath map[string][]records.Dependent) bool {
	return slices.ContainsFunc(d.Uses, func(path string) bool {
		return slices.ContainsFunc(byPath[path], func(held records.Dependent) bool {
			return slices.ContainsFunc(s.Ties[held.ID], func(t ties.Tie) bool {
				return app.Number[records.AccountID](t.Account) == account && t.Strength == estate.StrengthMatches
			})
		})
	})
}
