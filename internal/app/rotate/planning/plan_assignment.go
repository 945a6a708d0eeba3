package planning

import (
	"context"
	"fmt"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// chosen gathers the dependents that an assignment names.
func (p *planner) chosen(ctx context.Context) error {
	spelling, err := p.spelling(ctx)
	if err != nil {
		return err
	}
	seen := map[records.DependentID]bool{}
	for _, id := range p.wish.Assign {
		if seen[id] {
			continue
		}
		seen[id] = true
		d, err := p.planning.store.Dependent(ctx, id)
		if err != nil {
			return err
		}
		if !d.Gone.IsZero() {
			return fmt.Errorf("%w: %s on %s is no longer there", app.ErrInput, d.Place, d.System)
		}
		switch {
		case d.Kind.LogsOn():
			if err := p.assign(ctx, d, spelling); err != nil {
				return err
			}
		case p.input.Managed:
			return fmt.Errorf("%w: %s on %s is a %s: nobody knows the password of %s, so that only services, tasks and application pools of hosts that may fetch it can have it", app.ErrInput, d.Place, d.System, d.Kind, p.account.Name)
		case d.Copy != nil && picture.StrengthFor(d, p.account.ID) == string(estate.StrengthDiffers):
			owned, err := p.planning.store.Secrets(ctx, p.credential.ID)
			if err != nil {
				return err
			}
			known := slices.ContainsFunc(owned, func(s records.Secret) bool { return s.Fingerprint == d.Copy.Fingerprint })
			if !known {
				return fmt.Errorf("%w: %s on %s holds a value that %s never had here: replacing it would lose something unknown", app.ErrRefused, d.Place, d.System, p.account.Name)
			}
			p.file(d, d.Copy.Fingerprint)
		default:
			return fmt.Errorf("%w: %s on %s is a %s: only services, tasks, application pools, and copies that hold an earlier value of the account can be given it", app.ErrInput, d.Place, d.System, d.Kind)
		}
	}
	return nil
}

func (p *planner) assign(ctx context.Context, d records.Dependent, spelling string) error {
	if p.account.Kind != string(estate.KindDirectory) && p.account.SystemID != d.SystemID {
		return fmt.Errorf("%w: %s is a local account of %s: %s on %s cannot log on as it", app.ErrInput, p.account.Name, p.account.System, d.Place, d.System)
	}
	for _, t := range d.Ties {
		if t.Strength == string(estate.StrengthRunsAs) && t.AccountID != p.account.ID {
			p.logOn(d, spelling, t.AccountID.String(), true)
			return p.backInFull(ctx, d, t.AccountID)
		}
		if t.Strength == string(estate.StrengthRunsAs) {
			p.logOn(d, keptSpelling(d.RunsAs, spelling), "", false)
			return nil
		}
	}
	p.logOn(d, spelling, "", true)
	return nil
}

// backInFull has the log-on that was gathered last given back in full, where what stands
// there says nothing outside of its host: given as it stands, it would be another account.
func (p *planner) backInFull(ctx context.Context, d records.Dependent, former records.AccountID) error {
	if keptSpelling(d.RunsAs, "") != "" {
		return nil
	}
	a, err := p.planning.store.Account(ctx, former)
	if err != nil {
		return err
	}
	p.input.LogOns[len(p.input.LogOns)-1].Back, err = p.spellingOf(ctx, a)
	return err
}
