package diagnose

import (
	"context"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// StartDependents starts what is down, one after the other, and proves each.
// It stops at the first that does not come up.
func (diagnoses *Diagnoses) StartDependents(ctx context.Context, by access.Actor, reason string, ids []records.DependentID) ([]string, error) {
	if err := access.Decide(by, access.StartDependents, access.Object{}); err != nil {
		return nil, err
	}
	if reason == "" {
		return nil, fmt.Errorf("%w: give a reason", app.ErrInput)
	}
	var said []string
	for _, id := range ids {
		d, err := diagnoses.store.Dependent(ctx, id)
		if err != nil {
			return said, err
		}
		if !d.Kind.Runs() {
			return said, fmt.Errorf("%w: %s on %s is a %s: it is not started", app.ErrInput, d.Place, d.System, d.Kind)
		}
		v, err := diagnoses.store.System(ctx, d.System)
		if err != nil {
			return said, err
		}
		connector, target, err := diagnoses.inventory.Target(ctx, v)
		if err != nil {
			return said, err
		}
		if !connector.Describe().Can(connect.ActRestart) {
			return said, fmt.Errorf("%w: %s cannot start anything", app.ErrCannot, v.Name)
		}
		entry := ledger.Entry{Actor: by.Name, Act: "dependent.start", Subject: d.Place, System: d.System, Reason: reason, Ref: fmt.Sprintf("dependent/%d", d.ID)}
		err = diagnoses.base.Act(ctx, entry, func() error {
			limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
			defer cancel()
			state, err := connector.UnitState(limited, target, d.At())
			if err != nil {
				return err
			}
			if state.Active == "active" {
				said = append(said, d.Place+" on "+d.System+": runs already")
				return nil
			}
			words, err := connector.Restart(limited, target, d.At())
			if err == nil {
				said = append(said, d.Place+" on "+d.System+": "+words)
			}
			return err
		})
		if err != nil {
			return said, err
		}
		if _, err := diagnoses.survey.Start(context.WithoutCancel(ctx), access.Service(), []string{d.System}); err != nil {
			diagnoses.base.Log.Warn("a system could not be read again", "system", d.System, "error", err)
		}
	}
	return said, nil
}
