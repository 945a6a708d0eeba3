package diagnose

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// Repair is an act that removes the cause.
type Repair struct {
	Kind      string                `json:"kind" enum:"rotate,assign,start" doc:"rotate: a new password for the account; assign: its current one for those that have another; start: start it"`
	AccountID records.AccountID     `json:"account_id,omitempty"`
	Account   string                `json:"account,omitempty"`
	Assign    []records.DependentID `json:"assign,omitempty" doc:"Dependents that are given it"`
	Start     []records.DependentID `json:"start,omitempty" doc:"Dependents that are started, in this order"`
	Words     string                `json:"words"`
}

// repairOf says what can be done from here about the most certain cause.
func (diagnoses *Diagnoses) repairOf(ctx context.Context, d records.Dependent, a *records.Account, x Explanation) (*Repair, error) {
	if x.First != nil {
		if x.First.Repair == nil || x.First.Repair.Kind != "start" {
			return x.First.Repair, nil
		}
		r := *x.First.Repair
		r.Start = append(append([]records.DependentID(nil), r.Start...), d.ID)
		return &r, nil
	}
	top := x.Causes[0]
	if top.Verdict != diagnosis.IsCause && top.Verdict != diagnosis.Likely {
		return nil, nil
	}
	switch top.Code {
	case diagnosis.Expired, diagnosis.MustChange:
		if a == nil || !a.Custody {
			return nil, nil
		}
		return &Repair{Kind: "rotate", AccountID: a.ID, Account: a.Name, Words: "set a new password for " + a.Name + ", give it to all that use it, and start what is down, in start order"}, nil
	case diagnosis.WrongPassword:
		if a == nil || !a.Custody {
			return nil, nil
		}
		targets, err := diagnoses.RepairTargets(ctx, *a)
		if errors.Is(err, app.ErrRefused) {
			targets, err = []records.DependentID{d.ID}, nil
		}
		if !d.Kind.LogsOn() && len(targets) == 1 && targets[0] == d.ID {
			return nil, err
		}
		return &Repair{Kind: "assign", AccountID: a.ID, Account: a.Name, Assign: targets, Words: fmt.Sprintf("give the current password of %s to %s, and start what is down, in start order", a.Name, countedDependents(len(targets)))}, err
	case diagnosis.StoppedBy, diagnosis.Program:
		return &Repair{Kind: "start", Start: []records.DependentID{d.ID}, Words: "start it, and see whether it stays up"}, nil
	}
	return nil, nil
}

func countedDependents(n int) string {
	if n == 1 {
		return "one dependent"
	}
	return fmt.Sprintf("%d dependents", n)
}

// needsRepair: what a dependent has of an account is not the current value, or it has
// not begun to use it, or is down. ours are all values that the account had.
func needsRepair(v records.System, d records.Dependent, a records.Account, current string, ours map[string]bool) bool {
	strength := picture.StrengthFor(d, a.ID)
	stored := d.Stored
	if stored == "" && d.GivenTo == a.ID {
		stored = d.Given
	}
	if d.Kind.LogsOn() && d.Stores && strength == string(estate.StrengthRunsAs) {
		down := d.Kind.Runs() && !d.Up() && d.ByItself()
		return stored != "" && stored != current || findings.StartedBefore(v, d, a) || down
	}
	return d.Copy != nil && strength == string(estate.StrengthDiffers) && ours[d.Copy.Fingerprint]
}

// RepairTargets lists the dependents of an account whose log-on or copy is not
// the current value, or that run on the old one: what a repair would give it.
func (diagnoses *Diagnoses) RepairTargets(ctx context.Context, a records.Account) ([]records.DependentID, error) {
	diagnoses.rotate.Settled(ctx)
	a, err := diagnoses.store.Account(ctx, a.ID) // as it is now
	if err != nil {
		return nil, err
	}
	tied, err := diagnoses.store.DependentsOfAccount(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	c, err := diagnoses.store.PasswordOf(ctx, a.ID)
	if err != nil && !errors.Is(err, app.ErrNotFound) {
		return nil, err
	}
	value, err := diagnoses.sealed.Current(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if value == nil {
		return nil, fmt.Errorf("%w: %s is not in custody: take it first", app.ErrRefused, a.Name)
	}
	owned, err := diagnoses.store.Secrets(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	ours := map[string]bool{}
	for _, s := range owned {
		ours[s.Fingerprint] = true
	}
	var out []records.DependentID
	for _, d := range tied {
		v, err := diagnoses.store.System(ctx, d.System)
		if err != nil {
			return nil, err
		}
		if needsRepair(v, d, a, value.Fingerprint, ours) {
			out = append(out, d.ID)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: nothing of %s needs repair: every stored password that can be judged is the current one", app.ErrRefused, a.Name)
	}
	return out, nil
}
