package findings

import (
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// processes judges what running programs hold: a password that everybody
// on the host can read, one that is an old one, and a program that nothing would
// start again.
func processes(s *SystemSnapshot) []records.Finding {
	holds := map[string]records.AccountID{} // by file
	for _, d := range s.Dependents {
		for _, t := range s.Ties[d.ID] {
			if d.Kind == estate.DependentFile && t.Strength == estate.StrengthMatches {
				holds[d.Path] = app.Number[records.AccountID](t.Account)
			}
		}
	}
	var out []records.Finding
	for _, d := range s.Dependents {
		if d.Kind != estate.DependentProcess {
			continue
		}
		var account records.AccountID
		add := func(kind, severity, what, next string) {
			out = append(out, s.found(d, records.Finding{Kind: kind, Severity: severity, AccountID: account, What: what, Next: next}))
		}
		old := ""
		for _, t := range s.Ties[d.ID] {
			if d.Copy != nil && t.Evidence == estate.Held {
				account = app.Number[records.AccountID](t.Account)
			}
			if d.Copy != nil && t.Strength == estate.StrengthDiffers {
				old = t.Detail
			}
		}
		for _, file := range d.Uses {
			if account == 0 {
				account = holds[file]
			}
		}
		onLine := d.Copy != nil && d.Copy.Format == "arguments"
		if onLine {
			add("secret-in-arguments", "high", fmt.Sprintf("a password stands on the command line of %s (%s): everybody on %s can read it there, and it may be in somebody's history", d.Path, d.Description, s.System.Name), "start it with a file or the environment instead, then rotate the account")
		}
		if old != "" {
			next := "find who started it, and start it anew"
			if len(d.Requires) > 0 {
				next = "restart " + d.Requires[0] + "; if that does not help, find where it gets the value"
			}
			add("runs-on-old", "high", old, next)
		}
		if account != 0 && !onLine && len(d.Requires) == 0 && d.Description == "started by hand" {
			add("started-by-hand", "medium", fmt.Sprintf("%s was started by hand and uses a password that is known here: after the next restart of %s it is not there, and a rotation cannot restart it", d.Path, s.System.Name), "make it a unit, or end it")
		}
	}
	return out
}
