package findings

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
)

// usualLead is how many days before something ends that is told, where no policy says
// otherwise; mostEnding is how many are told one by one.
const (
	usualLead  = 30
	mostLead   = 3660
	mostEnding = 500
)

func readEnds(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	if s.Policies, err = from.AllPolicies(ctx); err != nil {
		return err
	}
	slices.SortFunc(s.Policies, func(a, b records.Policy) int { return cmp.Compare(b.Precedence, a.Precedence) })
	longest := usualLead
	for _, p := range s.Policies {
		longest = max(longest, p.LeadDays)
	}
	if s.Ends, err = from.EndsInUse(ctx, time.Time{}, s.Now.AddDate(0, 0, min(longest, mostLead)), mostEnding); err != nil {
		return err
	}
	s.Used, err = from.AccountsWithTies(ctx)
	return err
}

// policyFor is the one that decides for an account: of those for one of its labels, or for all
// in custody, the one with the highest precedence, which comes first.
func (s *EstateSnapshot) policyFor(labels []string, custody bool) records.Policy {
	return records.PolicyFor(s.Policies, labels, custody)
}

// whatEnds: what something depends on ends within the lead time of its label, and entries of
// keys that have ended. Accounts and passwords that have ended are told by the rule about
// accounts, certificates by the one about files of keys.
func whatEnds(s *EstateSnapshot) []records.Finding {
	custody := map[records.AccountID]bool{}
	for _, a := range s.Used {
		custody[a.ID] = a.Custody
	}
	var findings []records.Finding
	for _, e := range s.Ends {
		end := expiry.End{State: e.State, At: e.At}
		lead := cmp.Or(s.policyFor(e.Labels, custody[e.AccountID]).LeadDays, usualLead)
		past := end.Past(s.Now)
		if e.What == expiry.Certificate || past && e.AccountID != 0 || !past && e.At.After(s.Now.AddDate(0, 0, lead)) {
			continue
		}
		what := string(e.What)
		if e.Place != "" && (e.What == expiry.Membership || e.What == expiry.Right) {
			what += " " + e.Place
		}
		f := records.Finding{
			Key: fmt.Sprintf("ends/%d", e.ID), Kind: "ends-soon", Severity: "medium", Subject: e.Name, System: e.System, AccountID: e.AccountID, DependentID: e.DependentID,
			What: fmt.Sprintf("the %s %s", what, e.Left), Next: "extend it, or move its dependents before that: 'moss credential extend' rehearses it",
		}
		if e.What == expiry.Membership || e.What == expiry.Right {
			f.Next = "what uses it must do without from then on, or whoever gave it gives it anew on its system"
		}
		if e.What == expiry.Password {
			f.Next = "rotate it before that: 'moss rotate rehearse' says what it takes"
		}
		if !e.At.IsZero() {
			f.What += ", on " + e.At.UTC().Format(time.RFC3339)
		}
		switch {
		case e.Dependents == 1:
			f.What += "; one dependent uses it"
		case e.Dependents > 1:
			f.What += fmt.Sprintf("; %d dependents use it", e.Dependents)
		}
		switch {
		case past:
			f.Kind, f.Severity = "ended", "high"
		case e.At.Before(s.Now.AddDate(0, 0, 7)):
			f.Severity = "high"
		}
		findings = append(findings, f)
	}
	if len(s.Ends) == mostEnding {
		findings = append(findings, records.Finding{Key: "ends/more", Kind: kindLimit, Severity: "low", Subject: "what ends", What: fmt.Sprintf("more than %d things end soon: the first %d are told one by one", mostEnding, mostEnding), Next: "'moss expiry list' has them all"})
	}
	return append(findings, overdue(s)...)
}

// overdue: passwords that are older than the policy of their label lets them be, and accounts
// that were not used for longer than it says.
func overdue(s *EstateSnapshot) []records.Finding {
	var findings []records.Finding
	for _, a := range s.Used {
		p := s.policyFor(a.Labels, a.Custody)
		if !a.Gone.IsZero() {
			continue
		}
		add := func(kind, what, next string) {
			findings = append(findings, records.Finding{Key: fmt.Sprintf("ends/%s/%d", kind, a.ID), Kind: kind, Severity: "medium", Subject: a.Name, System: a.System, AccountID: a.ID, What: what + " (policy " + p.Name + ")", Next: next})
		}
		if days := p.MaxAgeDays; days > 0 && !a.PasswordChanged.IsZero() && a.PasswordChanged.Before(s.Now.AddDate(0, 0, -days)) {
			add("password-too-old", fmt.Sprintf("its password is from %s, and may be %d days old", app.Day(a.PasswordChanged), days), "rotate it")
		}
		if days := p.IdleDays; days > 0 && !a.LastLogOn.IsZero() && a.LastLogOn.Before(s.Now.AddDate(0, 0, -days)) {
			add("idle-account", fmt.Sprintf("it was used last on %s, and may rest for %d days", app.Day(a.LastLogOn), days), "find out whether it is needed; if not, disable it, watch, and delete it later")
		}
	}
	return findings
}
