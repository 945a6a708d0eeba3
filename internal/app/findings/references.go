package findings

import (
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
)

// unplacedReferences: what names an account that nobody knows, or several.
func unplacedReferences(s *SystemSnapshot) []records.Finding {
	var out []records.Finding
	for _, d := range s.Dependents {
		for _, u := range s.Unplaced[d.ID] {
			f := records.Finding{
				Key: fmt.Sprintf("place/%d/unplaced/%d/%s", s.System.ID, d.ID, u.Text), Kind: "unplaced-reference", Severity: "medium", Subject: d.Place, System: s.System.Name,
				DependentID: d.ID, What: fmt.Sprintf("\"%s\": %s", u.Text, u.Why), Next: "survey the system that it belongs to, or correct the reference",
			}
			if d.Copy == nil && u.State == naming.Unknown {
				f.Severity, f.Next = "high", "it runs as an account that is not there, or was not surveyed: survey the system that has it; if none has, it will not start again ('moss explain' weighs that)"
			}
			if d.Copy != nil {
				f.Severity = "low"
			}
			out = append(out, f)
		}
	}
	return out
}

// staleCopies: what names an account beside a value that is not the one in force.
func staleCopies(s *SystemSnapshot) []records.Finding {
	var out []records.Finding
	for _, d := range s.Dependents {
		for _, t := range s.Ties[d.ID] {
			if t.Strength == estate.StrengthDiffers && d.Kind != estate.DependentProcess {
				out = append(out, records.Finding{
					Key: fmt.Sprintf("place/%d/stale/%d/%s", s.System.ID, d.ID, t.Account), Kind: "stale-copy", Severity: "medium", Subject: d.Place, System: s.System.Name, AccountID: app.Number[records.AccountID](t.Account), DependentID: d.ID,
					What: t.Detail, Next: "find out whether anything still reads it: a program that does will be refused at its next sign-in",
				})
			}
		}
	}
	return out
}
