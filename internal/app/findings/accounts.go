package findings

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

func readReused(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	s.Reused, err = from.Reused(ctx)
	return err
}

func readUsed(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	if s.Used, err = from.AccountsWithTies(ctx); err != nil {
		return err
	}
	if s.Replaced, err = from.Replaced(ctx); err != nil {
		return err
	}
	s.Lost, err = from.CustodyGone(ctx)
	return err
}

// reusedPasswords: one password that stands for several accounts. Only keyed
// fingerprints are compared.
func reusedPasswords(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, r := range s.Reused {
		accounts := strings.Join(r.Accounts, ", ")
		f := records.Finding{
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
	return findings
}

// accountStates: accounts that something depends on and whose password never
// expires, or which are gone, disabled or locked.
func accountStates(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, a := range s.Used {
		add := func(kind, severity, what, next string) {
			findings = append(findings, records.Finding{Key: fmt.Sprintf("account/%d/%s", a.ID, kind), Kind: kind, Severity: severity, Subject: a.Name, System: a.System, AccountID: a.ID, What: what, Next: next})
		}
		uses := fmt.Sprintf("%d dependents use it", a.Dependents)
		if a.Dependents == 1 {
			uses = "one dependent uses it"
		}
		now := s.Now
		switch {
		case !a.Gone.IsZero():
			add("account-gone", "high", uses+", and it is no longer there", "its dependents will fail at their next sign-in: move them to another account")
		case a.Verdict == "rests":
			add("account-disabled", "high", uses+", and it rests while another account has its turn", "'moss tandem list' says which: move its dependents to that one")
		case a.Enabled == estate.No && a.Kind == string(estate.KindDirectory):
			add("account-disabled", "high", uses+", and it is disabled", "find out who disabled it, and why")
		case a.Locked == estate.Yes && a.Kind == string(estate.KindDirectory):
			add("account-locked", "high", uses+", and it is locked", "something signs in with a wrong password: look for stale copies")
		}
		if a.Gone.IsZero() && !a.AccountExpires.IsZero() && a.AccountExpires.Before(now) {
			add("account-expired", "high", uses+", and the account ended on "+app.Day(a.AccountExpires), "extend it, or move its dependents to another account")
		}
		if a.Gone.IsZero() && !a.PasswordExpires.IsZero() && a.PasswordExpires.Before(now) && !a.NeverExpire {
			add("password-expired", "high", uses+", and its password expired on "+app.Day(a.PasswordExpires), "rotate it: what signs in with it is refused, or will be")
		}
		if a.NeverExpire && a.Kind == string(estate.KindDirectory) {
			next := "take it into custody and rotate it"
			if a.Custody {
				next = "rotate it regularly, or let the directory end it"
			}
			add("never-expires", "low", "its password never expires, and was last changed "+age(a, now), next)
		}
	}
	for _, r := range s.Replaced {
		what := fmt.Sprintf("%s on %s is another account than before: the one of that name vanished on %s, and this one, with another id, came on %s", r.Name, r.System, app.Day(r.Gone), app.Day(r.First))
		f := records.Finding{Key: fmt.Sprintf("account/%d/replaced", r.NewID), Kind: "account-replaced", Severity: "high", Subject: r.Name, System: r.System, AccountID: r.NewID, What: what, Next: "find out who made it, and why: what referred to the former one by its name now signs in as this one, with its rights"}
		if r.Custody {
			f.What += "; the former one is in custody, and its sealed values belong to nothing"
			f.Next += "; release the former one, or take this one into custody"
		}
		findings = append(findings, f)
	}
	for _, a := range s.Lost {
		findings = append(findings, records.Finding{
			Key: fmt.Sprintf("account/%d/custody-gone", a.ID), Kind: "custody-gone", Severity: "high", Subject: a.Name, System: a.System, AccountID: a.ID,
			What: "it is in custody and no longer there, since " + app.Day(a.Gone), Next: fmt.Sprintf("find out who removed it; then 'moss custody release id:%d'", a.ID),
		})
	}
	return findings
}

func age(a records.Account, now time.Time) string {
	if a.PasswordChanged.IsZero() {
		return "at an unknown time"
	}
	switch days := int(now.Sub(a.PasswordChanged).Hours() / 24); days {
	case 0:
		return "today"
	case 1:
		return "yesterday"
	default:
		return fmt.Sprintf("%d days ago", days)
	}
}
