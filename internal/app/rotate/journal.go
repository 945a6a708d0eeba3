package rotate

import (
	"cmp"
	"context"
	"errors"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// journal writes records with their ledger entries, durably.
type journal struct {
	rotations *Rotations
	rotation  records.Rotation
	state     rotation.State
	written   func() // told of each record
}

// Append implements rotation.Journal.
func (j *journal) Append(ctx context.Context, r rotation.Record) error {
	r.Words = j.rotations.base.Redact(ctx, r.Words)
	state := j.state.Copy()
	if err := state.Apply(r); err != nil {
		return err
	}
	effects, err := j.effects(ctx, r, state)
	if err != nil {
		return err
	}
	if err := j.rotations.store.AppendJournal(ctx, j.rotation, r, string(state.Mode), state.Result, effects, j.entry(r)); err != nil {
		return err
	}
	j.state = state
	if j.written != nil {
		j.written()
	}
	j.noteWaiting(ctx, r)
	j.rotations.base.Topics.Wake(app.RotationTopic(j.rotation.ID), "all")
	j.rotations.lock.Lock()
	j.rotations.journaled++
	kill := j.rotations.drill > 0 && j.rotations.journaled == j.rotations.drill
	j.rotations.lock.Unlock()
	if kill {
		j.rotations.kill()
	}
	return nil
}

// effects says what a record means for the picture and the sealed values.
func (j *journal) effects(ctx context.Context, r rotation.Record, state rotation.State) (effects records.Effects, err error) {
	if r.Event == rotation.EventFinished {
		effects.Settlement, err = j.rotations.settlement(ctx, j.rotation, state)
		return effects, err
	}
	if r.Step >= 0 && j.rotation.Plan.Steps[r.Step].Kind == rotation.StepLogOn {
		return j.logOnEffect(ctx, j.rotation.Plan.Steps[r.Step], state.Steps[r.Step].Status)
	}
	if r.Step >= 0 && j.rotation.CredentialKind.Pair() {
		return j.keyEffect(ctx, j.rotation.Plan.Steps[r.Step], state.Steps[r.Step].Status)
	}
	if r.Step < 0 || j.rotation.Plan.Steps[r.Step].Kind != rotation.StepReplace {
		return effects, nil
	}
	if j.rotation.Plan.Kind == rotation.KindAssign {
		return effects, nil // the survey that follows reads it
	}
	old, next, err := j.rotations.sealed.OfRotation(ctx, j.rotation)
	if err != nil || old == nil || next == nil {
		return effects, err
	}
	step := j.rotation.Plan.Steps[r.Step]
	holds := ""
	switch state.Steps[r.Step].Status {
	case rotation.Done:
		holds = next.Fingerprint
	case rotation.Undone:
		holds = old.Fingerprint
	default:
		return effects, nil
	}
	for _, place := range step.Places {
		effects.Copies = append(effects.Copies, records.CopyIs{SystemID: app.Number[records.SystemID](step.SystemID), Place: step.Subject + "#" + place.String(), Fingerprint: holds})
	}
	return effects, nil
}

// logOnEffect notes what a dependent was given.
func (j *journal) logOnEffect(ctx context.Context, step rotation.Step, status rotation.Status) (effects records.Effects, err error) {
	is := records.LogOnIs{SystemID: app.Number[records.SystemID](step.SystemID), Place: step.At(), Account: step.LogOn.Account, AccountID: j.rotation.AccountID}
	if turn := j.rotation.Plan.Turn; turn != nil {
		is.AccountID = app.Number[records.AccountID](turn.AccountID)
	}
	var value *records.Secret
	switch {
	case status == rotation.Done && j.rotation.Plan.Kind == rotation.KindAssign:
		value, err = j.rotations.sealed.Current(ctx, j.rotation.CredentialID)
	case status == rotation.Done:
		_, value, err = j.rotations.sealed.OfRotation(ctx, j.rotation)
	case status == rotation.Undone && step.LogOn.WasID != "":
		is.Account, is.AccountID = step.LogOn.Former(), app.Number[records.AccountID](step.LogOn.WasID)
		var c records.Credential
		if c, err = j.rotations.store.PasswordOf(ctx, is.AccountID); err == nil {
			value, err = j.rotations.sealed.Current(ctx, c.ID)
		} else if errors.Is(err, app.ErrNotFound) {
			err = nil
		}
	case status == rotation.Undone && j.rotation.Plan.Kind == rotation.KindAssign:
		is.Account = step.LogOn.Was
	case status == rotation.Undone:
		value, _, err = j.rotations.sealed.OfRotation(ctx, j.rotation)
	default:
		return effects, nil
	}
	if value != nil {
		is.Fingerprint = value.Fingerprint
	}
	effects.LogOns = append(effects.LogOns, is)
	return effects, err
}

func (j *journal) entry(r rotation.Record) ledger.Entry {
	e := ledger.Entry{
		Actor: cmp.Or(r.Actor, j.rotation.RequestedBy), Subject: j.rotation.Credential, System: j.rotation.Authority, Ref: app.RotationTopic(j.rotation.ID),
		Phase: ledger.Outcome, Result: r.Result, Detail: r.Words, Reason: r.Reason, Act: "rotation." + string(r.Event),
	}
	if r.Step >= 0 && r.Step < len(j.rotation.Plan.Steps) {
		step := j.rotation.Plan.Steps[r.Step]
		e.Act, e.Subject, e.System = "rotation."+string(step.Kind), step.Subject, step.System
		if r.Undo {
			e.Act += ".undo"
		}
		switch r.Event {
		case rotation.EventIntent:
			e.Phase = ledger.Intent
		case rotation.EventProbed:
			e.Act += ".probe"
		}
	}
	return e
}
