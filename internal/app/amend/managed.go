package amend

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// ManagedWish are changes of managed accounts of one directory, and of who is in a group whose
// members may have a password; and the hosts that are restarted afterwards.
type ManagedWish struct {
	Subject  string // in words; the accounts when it is empty
	Changes  []building.Managed
	Restarts []building.HostRestart
	LeftOut  []string // what is not done by it, in words
}

// RehearseManaged makes a plan of changes of managed accounts of one directory, and says how it
// stands for them. Nothing is changed. It takes two people, like every change that lets somebody
// in.
func (a *Amendments) RehearseManaged(ctx context.Context, by access.Actor, system records.System, wish ManagedWish) (records.Amendment, error) {
	var v records.Amendment
	if err := access.Decide(by, access.RehearseManaged, access.Object{Kind: "system", Name: system.Name}); err != nil {
		return v, err
	}
	if len(wish.Changes)+len(wish.Restarts) == 0 || len(wish.Changes)+len(wish.Restarts) > MostChanges {
		return v, fmt.Errorf("%w: name 1 to %d changes", app.ErrInput, MostChanges)
	}
	var subjects []string
	for _, c := range wish.Changes {
		if c.Account == nil {
			continue
		}
		if err := c.Account.Check(); err != nil {
			return v, fmt.Errorf("%w: %w", app.ErrInput, err)
		}
		subjects = append(subjects, c.Account.Name+" on "+system.Name)
	}
	if wish.Subject != "" {
		subjects = []string{wish.Subject}
	}
	a.Settled(ctx)
	v = records.Amendment{LeftOut: append([]string{}, wish.LeftOut...), Rehearsed: a.base.Now().UTC(), RehearsedBy: by.Name, Mode: records.ModeRehearsed, Subject: few(subjects)}
	v.Plan = building.Manage(v.Subject, fmt.Sprint(system.ID), system.Name, wish.Changes, wish.Restarts, rotation.UndoOnFailure)
	if err := a.base.Act(ctx, ledger.Entry{Actor: by.Name, Act: "amendment.rehearse", Subject: v.Subject, System: system.Name, Detail: whatOf(v)}, func() error {
		v.Checks, v.Verdict = a.checks(ctx, v.Plan)
		return nil
	}); err != nil {
		return v, err
	}
	err := a.store.AddAmendment(context.WithoutCancel(ctx), &v)
	v.Changes = len(wish.Changes) + len(wish.Restarts)
	return v, err
}

// checkChange asks how things stand for a step about an end or a managed account.
func (a *Amendments) checkChange(ctx context.Context, step rotation.Step) []connect.Checked {
	if step.End != nil {
		return a.checkEnd(ctx, step)
	}
	_, connector, target, err := a.reach(ctx, step)
	var is connect.ManagedStanding
	if err == nil {
		is, err = connector.ManagedStanding(ctx, target, *step.Managed)
	}
	line, over := stands(step, is.Standing, err)
	lines := []connect.Checked{line}
	if over {
		return lines
	}
	for _, d := range step.Managed.Details() {
		lines = append(lines, connect.Checked{System: step.System, What: d[0], Result: connect.CheckOK, Words: d[1]})
	}
	for _, words := range is.Also {
		lines = append(lines, connect.Checked{System: step.System, What: "what else to know", Result: connect.CheckWarning, Words: words})
	}
	return lines
}
