package rotate

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// RehearsalAge is how long a rehearsal that passed allows a rotation.
const RehearsalAge = time.Hour

// Rehearse checks everything about a rotation that can be checked without
// changing anything.
func (rotations *Rotations) Rehearse(ctx context.Context, by string, s custody.Subject, wish Request) (store.Rehearsal, error) {
	if err := rotations.custody.NotRotating(ctx, s); err != nil {
		return store.Rehearsal{}, err
	}
	plan, err := rotations.plan(ctx, s, wish)
	if err != nil {
		return store.Rehearsal{}, err
	}
	c := s.Credential()
	v := store.Rehearsal{AccountID: c.AccountID, KeyID: c.KeyID, CreatedBy: by, Plan: plan}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse", Subject: custody.NameOf(s), System: custody.SystemOf(s), Ref: c.String()}
	err = rotations.base.Act(ctx, entry, func() error {
		v.Checks, err = rotations.checks(ctx, s, plan)
		return err
	})
	if err != nil {
		return v, err
	}
	v.Verdict = "passed"
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	return v, rotations.store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

// RehearseUndo checks everything about undoing a finished rotation that can be
// checked without changing anything.
func (rotations *Rotations) RehearseUndo(ctx context.Context, by string, id int64) (store.Rehearsal, error) {
	r, err := rotations.store.Rotation(ctx, id)
	if err != nil {
		return store.Rehearsal{}, err
	}
	if r.Mode != string(rotation.ModeFinished) {
		return store.Rehearsal{}, fmt.Errorf("%w: rotation %d is %s: undoing it needs no rehearsal", app.ErrRefused, id, r.Mode)
	}
	if err := rotations.mayDecide(ctx, r, rotation.DecideUndo); err != nil {
		return store.Rehearsal{}, err
	}
	s, err := rotations.custody.Subject(ctx, r.Credential())
	if err != nil {
		return store.Rehearsal{}, err
	}
	plan := r.Plan
	plan.UndoOf = id
	v := store.Rehearsal{AccountID: r.AccountID, KeyID: r.KeyID, CreatedBy: by, Plan: plan, Verdict: "passed"}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse-undo", Subject: r.Account, System: r.Authority, Ref: app.RotationTopic(id)}
	if err := rotations.base.Act(ctx, entry, func() error {
		v.Checks, err = rotations.checks(ctx, s, plan)
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

// undoRehearsed holds the undoing of a finished rotation against law 9.
func (rotations *Rotations) undoRehearsed(ctx context.Context, r store.Rotation) error {
	latest, err := rotations.store.LatestRehearsal(ctx, r.Credential())
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && latest.Plan.UndoOf != r.ID:
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
func (rotations *Rotations) allowed(ctx context.Context, subject custody.Subject, plan rotation.Plan, override string) (int64, error) {
	if override != "" {
		return 0, nil
	}
	latest, err := rotations.store.LatestRehearsal(ctx, subject.Credential())
	switch {
	case errors.Is(err, store.ErrNotFound):
		return 0, fmt.Errorf("%w: there was no rehearsal: run 'moss rotate rehearse %s' first, or override with a reason", app.ErrRefused, custody.Spelled(subject))
	case err != nil:
		return 0, err
	case latest.Plan.UndoOf != 0:
		return 0, fmt.Errorf("%w: the latest rehearsal was about undoing rotation %d: rehearse again", app.ErrRefused, latest.Plan.UndoOf)
	case latest.Verdict != "passed":
		return 0, fmt.Errorf("%w: the latest rehearsal failed: read it with 'moss rotate rehearse %s', or override with a reason", app.ErrRefused, custody.Spelled(subject))
	case rotations.base.Now().Sub(latest.Created) > RehearsalAge:
		return 0, fmt.Errorf("%w: the latest rehearsal is older than %s: rehearse again", app.ErrRefused, RehearsalAge)
	case !reflect.DeepEqual(stepsOf(latest.Plan), stepsOf(plan)):
		return 0, fmt.Errorf("%w: this is not what was rehearsed (the picture changed since, or something else is asked): rehearse again", app.ErrRefused)
	}
	return latest.ID, nil
}

func stepsOf(p rotation.Plan) []string {
	out := []string{p.KeyType, p.Patience.String()}
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
