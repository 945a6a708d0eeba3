// Package findings says what needs a person: drift, latent breakage, copies that
// nobody replaced, keys that others may read. One file a rule.
package findings

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/store"
)

// Engine applies the rules, each time the picture was derived.
type Engine struct {
	base   *app.Base
	store  Store
	sealed *sealed.Keeper
}

// New makes an Engine.
func New(base *app.Base, store Store, values *sealed.Keeper) *Engine {
	return &Engine{base, store, values}
}

// JudgeEstate renews the findings that follow from the picture as a whole.
func (engine *Engine) JudgeEstate(ctx context.Context) error {
	systems, err := engine.store.AllSystems(ctx)
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
	if err := engine.store.SetFindings(ctx, "reach/", findings); err != nil {
		return err
	}
	held, err := engine.store.HeldScopes(ctx)
	if err != nil {
		return err
	}
	var absences []store.Finding
	for _, h := range held {
		absences = append(absences, store.Finding{
			Key: fmt.Sprintf("absence/%d/%s", h.SystemID, h.Scope), Kind: "absence", Severity: "high", Subject: h.Scope, System: h.System, What: h.Why,
			Next: "look at the rights of the steward there; if they are really gone: 'moss system confirm-absence " + h.System + "'",
		})
	}
	if err := engine.store.SetFindings(ctx, "absence/", absences); err != nil {
		return err
	}
	if err := engine.refreshReuse(ctx); err != nil {
		return err
	}
	if err := engine.refreshKeys(ctx); err != nil {
		return err
	}
	if err := engine.refreshDeclared(ctx); err != nil {
		return err
	}
	if err := engine.refreshUnused(ctx); err != nil {
		return err
	}
	return engine.refreshAccounts(ctx)
}
