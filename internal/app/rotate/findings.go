package rotate

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app/underway"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// noteWaiting raises and clears the finding about a system that is waited for.
func (j *journal) noteWaiting(ctx context.Context, r rotation.Record) {
	key := fmt.Sprintf("rotation-waits/%d", j.rotation.ID)
	var list []records.Finding
	if i, waits := j.state.AwayFor(underway.WaitsAfter); waits {
		step, t := j.rotation.Plan.Steps[i], j.state.Steps[i]
		next := "bring it back: the rotation goes on by itself"
		if j.state.Mode == rotation.ModeUndoing {
			next += fmt.Sprintf("; or undo without it: 'moss rotate undo %d --without-away'", j.rotation.ID)
		}
		list = []records.Finding{{Key: key, Kind: "rotation", Severity: "high", Subject: j.rotation.Credential, System: step.System, AccountID: j.rotation.AccountID, CredentialID: j.rotation.CredentialID, What: fmt.Sprintf("rotation %d waits for %s since %s: %s", j.rotation.ID, step.System, t.Since.UTC().Format(time.RFC3339), t.Words), Next: next}}
	}
	if r.Result == rotation.ResultAway && list == nil {
		return // not long enough to be told
	}
	if err := j.rotations.store.SetFindings(ctx, key, list); err != nil {
		j.rotations.base.Log.Warn("a finding could not be written", "key", key, "error", err)
	}
}

// rotationFindings raises what a person must look at.
func (rotations *Rotations) rotationFindings(r records.Rotation, state rotation.State) error {
	key := fmt.Sprintf("rotation/%d/", r.CredentialID)
	var list []records.Finding
	next := fmt.Sprintf("read it with 'moss rotate show %d'", r.ID)
	add := func(severity, what, next string) {
		list = append(list, records.Finding{Key: key + cmp.Or(state.Result, string(state.Mode)), Kind: "rotation", Severity: severity, Subject: r.Credential, System: r.Authority, AccountID: r.AccountID, CredentialID: r.CredentialID, What: what, Next: next})
	}
	switch {
	case state.Mode == rotation.ModeStopped && state.Turned:
		add("high", fmt.Sprintf("rotation %d was stopped while it was being undone and needs a decision: parts of it have the old value again", r.ID), fmt.Sprintf("%s, then 'moss rotate undo %d'", next, r.ID))
	case state.Mode == rotation.ModeStopped:
		add("high", fmt.Sprintf("rotation %d stopped and needs a decision", r.ID), fmt.Sprintf("%s, then 'moss rotate resume %d' or 'moss rotate undo %d'", next, r.ID, r.ID))
	case state.Result == rotation.FinishedUndoFailed:
		add("high", fmt.Sprintf("rotation %d could not be undone everywhere", r.ID), fmt.Sprintf("%s, repair what it names, then 'moss rotate undo %d' again", next, r.ID))
	case state.Result == rotation.FinishedWithFailures:
		add("high", fmt.Sprintf("rotation %d ended with failed steps", r.ID), fmt.Sprintf("%s, repair what it names, then 'moss rotate resume %d'", next, r.ID))
	case state.Result == rotation.FinishedUndone:
		add("medium", fmt.Sprintf("rotation %d was undone", r.ID), next)
	}
	return rotations.store.SetFindings(context.Background(), key, list)
}

// renewRotationFindings raises the findings of the latest rotation of each
// credential again: a crash may have come between its end and its finding.
func (rotations *Rotations) renewRotationFindings(ctx context.Context) error {
	seen := map[records.CredentialID]bool{}
	for query := (records.Query{Limit: 500}); ; {
		page, err := rotations.store.Rotations(ctx, query)
		if err != nil {
			return err
		}
		for _, r := range page.Items {
			if seen[r.CredentialID] || r.Mode == string(rotation.ModeForward) || r.Mode == string(rotation.ModeUndoing) {
				seen[r.CredentialID] = true
				continue
			}
			seen[r.CredentialID] = true
			if err := rotations.rotationFindings(r, rotation.State{Mode: rotation.Mode(r.Mode), Result: r.Result}); err != nil {
				return err
			}
		}
		if query.Cursor = page.Next; query.Cursor == "" {
			return nil
		}
	}
}
