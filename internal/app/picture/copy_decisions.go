package picture

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// DecideCopy takes a person's decision about a copy that cannot be replaced, or
// may be none. An empty decision takes it back.
func (picture *Picture) DecideCopy(ctx context.Context, by access.Actor, dependent records.DependentID, decision, reason string) error {
	if err := access.Decide(by, access.DecideCopy, access.Object{}); err != nil {
		return err
	}
	d, err := picture.store.Dependent(ctx, dependent)
	if err != nil {
		return err
	}
	switch {
	case d.Kind != estate.DependentKeytab && (d.Copy == nil || d.Kind != estate.DependentFile):
		return fmt.Errorf("%w: %s on %s is a %s: decisions are about held copies", app.ErrInput, d.Place, d.System, d.Kind)
	case decision != "" && decision != records.CopyLeave && decision != records.CopyReplace:
		return fmt.Errorf("%w: a decision is %s or %s, not %q", app.ErrInput, records.CopyLeave, records.CopyReplace, decision)
	case d.Kind == estate.DependentKeytab && decision == records.CopyReplace:
		return fmt.Errorf("%w: a key tab is given the new key unless somebody decided to leave it", app.ErrInput)
	case decision == records.CopyReplace && d.Copy.Fixed != "":
		return fmt.Errorf("%w: %s on %s cannot be replaced: %s", app.ErrRefused, d.Place, d.System, d.Copy.Fixed)
	case decision != "" && reason == "":
		return fmt.Errorf("%w: give a reason: it is recorded, and shown before every rotation", app.ErrInput)
	}
	word := decision
	if word == "" {
		word = "taken back"
	}
	return picture.store.DecideCopy(ctx, records.CopyDecision{SystemID: d.SystemID, Place: d.Place, Decision: decision, Reason: reason, By: by.Name},
		ledger.Entry{Actor: by.Name, Act: "copy.decide", Phase: ledger.Outcome, Subject: d.Place, System: d.System, Result: "done", Reason: reason, Detail: word})
}
