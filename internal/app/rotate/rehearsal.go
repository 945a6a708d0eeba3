package rotate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// RehearsalAge is how long a rehearsal that passed allows a rotation.
const RehearsalAge = time.Hour

// Rehearse checks everything about a rotation that can be checked without
// changing anything.
func (rotations *Rotations) Rehearse(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request) (records.Rehearsal, error) {
	if err := access.Decide(by, access.Rehearse, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return records.Rehearsal{}, err
	}
	if err := rotations.custody.NotRotating(ctx, c); err != nil {
		return records.Rehearsal{}, err
	}
	plan, err := rotations.planning.Plan(ctx, c, wish)
	if err != nil {
		return records.Rehearsal{}, err
	}
	v := records.Rehearsal{CredentialID: c.ID, CreatedBy: by.Name, Plan: plan}
	entry := ledger.Entry{Actor: by.Name, Act: "rotation.rehearse", Subject: c.Name, System: c.System, Ref: c.ID.Ref()}
	err = rotations.base.Act(ctx, entry, func() error {
		v.Checks, err = rotations.checks(ctx, c, plan)
		return err
	})
	if err != nil {
		return v, err
	}
	if v.Second, _, err = rotations.required(ctx, c, v); err != nil {
		return v, err
	}
	for _, words := range v.Second {
		v.Checks = append(v.Checks, connect.Checked{System: c.System, What: secondCheck, Result: connect.CheckWarning, Words: "a second person is needed, for " + words, Next: "starting it asks for an approval; it begins once that is granted"})
	}
	v.Verdict = "passed"
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	v.Digest = digestOf(v)
	return v, rotations.store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

// RehearseUndo checks everything about undoing a finished rotation that can be
// checked without changing anything.
func (rotations *Rotations) RehearseUndo(ctx context.Context, by access.Actor, id records.RotationID) (records.Rehearsal, error) {
	if err := access.Decide(by, access.RehearseUndo, access.Object{Kind: "rotation", Name: app.RotationTopic(id)}); err != nil {
		return records.Rehearsal{}, err
	}
	r, state, _, err := rotations.State(ctx, id)
	if err != nil {
		return records.Rehearsal{}, err
	}
	if r.Mode != string(rotation.ModeFinished) {
		return records.Rehearsal{}, fmt.Errorf("%w: rotation %d is %s: undoing it needs no rehearsal", app.ErrRefused, id, r.Mode)
	}
	if err := rotations.mayDecide(ctx, r, state, rotation.DecideUndo); err != nil {
		return records.Rehearsal{}, err
	}
	c, err := rotations.store.Credential(ctx, r.CredentialID)
	if err != nil {
		return records.Rehearsal{}, err
	}
	plan := r.Plan
	plan.UndoOf = int64(id)
	v := records.Rehearsal{CredentialID: r.CredentialID, CreatedBy: by.Name, Plan: plan, Verdict: "passed"}
	entry := ledger.Entry{Actor: by.Name, Act: "rotation.rehearse-undo", Subject: r.Credential, System: r.Authority, Ref: app.RotationTopic(id)}
	if err := rotations.base.Act(ctx, entry, func() error {
		v.Checks, err = rotations.checks(ctx, c, plan)
		return err
	}); err != nil {
		return v, err
	}
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	return v, rotations.store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

// UndoUntil is until when a finished rotation can be undone: so long the value that it
// replaced is kept. Zero where that has no end; gone when it is over.
func (rotations *Rotations) UndoUntil(ctx context.Context, r records.Rotation) (until time.Time, gone bool, err error) {
	if r.Mode != string(rotation.ModeFinished) || r.Plan.Kind == rotation.KindAssign {
		return until, false, nil
	}
	old, _, err := rotations.sealed.OfRotation(ctx, r)
	if err != nil || old == nil {
		return until, false, err
	}
	if old.Erased() {
		return until, true, nil
	}
	if old.State != records.SecretRetired || old.Ended.IsZero() {
		return until, false, nil // it may be in force somewhere: it is kept
	}
	days, err := rotations.store.UndoDays(ctx, r.CredentialID)
	return old.Ended.AddDate(0, 0, days), false, err
}

// undoRehearsed holds the undoing of a finished rotation against law 9.
func (rotations *Rotations) undoRehearsed(ctx context.Context, r records.Rotation) error {
	latest, err := rotations.store.LatestRehearsal(ctx, r.CredentialID)
	switch {
	case errors.Is(err, records.ErrNotFound) || err == nil && latest.Plan.UndoOf != int64(r.ID):
		return fmt.Errorf("%w: undoing a finished rotation changes everything once more: rehearse it with 'moss rotate undo %d --rehearse' first", app.ErrRefused, r.ID)
	case err != nil:
		return err
	case latest.Verdict != "passed":
		return fmt.Errorf("%w: the rehearsal of undoing rotation %d failed: mend what it names and rehearse again", app.ErrRefused, r.ID)
	case rotations.base.Now().Sub(latest.Created) > RehearsalAge:
		return fmt.Errorf("%w: the rehearsal of undoing rotation %d is older than %s: rehearse again", app.ErrRefused, r.ID, RehearsalAge)
	}
	return nil
}

// allowed holds a rotation against law 9.
func (rotations *Rotations) allowed(ctx context.Context, c records.Credential, plan rotation.Plan, override string) (records.Rehearsal, error) {
	if override != "" {
		return records.Rehearsal{}, nil
	}
	latest, err := rotations.store.LatestRehearsal(ctx, c.ID)
	switch {
	case errors.Is(err, records.ErrNotFound):
		return records.Rehearsal{}, fmt.Errorf("%w: there was no rehearsal: run 'moss rotate rehearse %s' first, or override with a reason", app.ErrRefused, c.Spelling())
	case err != nil:
		return records.Rehearsal{}, err
	case latest.Plan.UndoOf != 0:
		return records.Rehearsal{}, fmt.Errorf("%w: the latest rehearsal was about undoing rotation %d: rehearse again", app.ErrRefused, latest.Plan.UndoOf)
	case latest.Verdict != "passed":
		return records.Rehearsal{}, fmt.Errorf("%w: the latest rehearsal failed: read it with 'moss rotate rehearse %s', or override with a reason", app.ErrRefused, c.Spelling())
	case rotations.base.Now().Sub(latest.Created) > RehearsalAge:
		return records.Rehearsal{}, fmt.Errorf("%w: the latest rehearsal is older than %s: rehearse again", app.ErrRefused, RehearsalAge)
	case !reflect.DeepEqual(stepsOf(latest.Plan), stepsOf(plan)):
		return records.Rehearsal{}, fmt.Errorf("%w: this is not what was rehearsed (the picture changed since, or something else is asked): rehearse again", app.ErrRefused)
	}
	// The steps may be the same, and what keeps a rehearsal from passing may be new.
	for _, note := range plan.Notes {
		if planning.Fails(note.Kind) && !slices.Contains(latest.Plan.Notes, note) {
			return records.Rehearsal{}, fmt.Errorf("%w: this was not known, or was asked otherwise, when it was rehearsed: %s; rehearse again", app.ErrRefused, note)
		}
	}
	return latest, nil
}

func stepsOf(p rotation.Plan) []string {
	out := []string{p.Type, fmt.Sprint(p.Length), p.Without, p.Given, p.Patience.String(), string(p.AtWindowEnd), p.FirstAlone}
	for _, l := range p.Limits {
		out = append(out, l.String())
	}
	for _, name := range slices.Sorted(maps.Keys(p.Windows)) {
		out = append(out, name+" "+p.Windows[name].Words)
	}
	for _, s := range p.Steps {
		out = append(out, fmt.Sprintf("%s %v %v %v %+v %v %v %v", s.Title(), s.Places, s.Needs, s.After, s.Check, s.Along, s.NotBefore, s.NotAfter)+doorOf(s))
	}
	return out
}

func doorOf(s rotation.Step) string {
	if s.Door == nil {
		return ""
	}
	return fmt.Sprintf(" %+v", *s.Door)
}
