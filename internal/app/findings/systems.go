package findings

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store"
)

// JudgeSystem raises the findings about one system.
func (engine *Engine) JudgeSystem(ctx context.Context, placed picture.Placed) error {
	v := placed.System
	var findings []store.Finding
	scope := fmt.Sprintf("place/%d/", v.ID)
	for _, d := range placed.Dependents {
		for _, u := range placed.Unplaced[d.ID] {
			findings = append(findings, unplacedFinding(scope, v, d, u))
		}
		for _, t := range placed.Ties[d.ID] {
			if t.Strength == estate.StrengthDiffers && d.Kind != estate.DependentProcess {
				findings = append(findings, store.Finding{
					Key: fmt.Sprintf("%sstale/%d/%s", scope, d.ID, t.Account), Kind: "stale-copy", Severity: "medium", Subject: d.Place, System: v.Name, AccountID: app.Number(t.Account), DependentID: d.ID,
					What: t.Detail, Next: "find out whether anything still reads it: a program that does will be refused at its next sign-in",
				})
			}
		}
	}
	latent, err := engine.latentFindings(ctx, v, placed.Dependents, placed.Ties, scope)
	if err != nil {
		return err
	}
	findings = append(append(findings, latent...), engine.keyFindings(v, placed.Dependents, scope)...)
	findings = append(findings, processFindings(v, placed.Dependents, placed.Ties, scope)...)
	return engine.store.SetFindings(ctx, scope, findings)
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
