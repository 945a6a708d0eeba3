package operate

import (
	"context"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// journal writes records with their ledger entries, durably.
type journal struct {
	*Operator
	rotation store.Rotation
	state    rotation.State
}

// Append implements rotation.Journal.
func (j *journal) Append(ctx context.Context, r rotation.Record) error {
	r.Words = j.redact(ctx, r.Words)
	state := j.state.Copy()
	if err := state.Apply(r); err != nil {
		return err
	}
	effects, err := j.effects(ctx, r, state)
	if err != nil {
		return err
	}
	if err := j.Store.AppendJournal(ctx, j.rotation, r, string(state.Mode), state.Result, effects, j.entry(r)); err != nil {
		return err
	}
	j.state = state
	j.noteWaiting(ctx, r)
	j.bus.wake(rotationTopic(j.rotation.ID), "all")
	j.lock.Lock()
	j.journaled++
	kill := j.Drill > 0 && j.journaled == j.Drill
	j.lock.Unlock()
	if kill {
		j.Kill()
	}
	return nil
}

// effects says what a record means for the picture and the sealed values.
func (j *journal) effects(ctx context.Context, r rotation.Record, state rotation.State) (effects store.Effects, err error) {
	if r.Event == rotation.EventFinished {
		effects.Settlement, err = j.settlement(ctx, j.rotation, state)
		return effects, err
	}
	if r.Step >= 0 && j.rotation.Plan.Steps[r.Step].Kind == rotation.StepLogOn {
		return j.logOnEffect(ctx, j.rotation.Plan.Steps[r.Step], state.Steps[r.Step].Status)
	}
	if r.Step >= 0 && j.rotation.KeyID != 0 {
		return j.keyEffect(ctx, j.rotation.Plan.Steps[r.Step], state.Steps[r.Step].Status)
	}
	if r.Step < 0 || j.rotation.Plan.Steps[r.Step].Kind != rotation.StepReplace {
		return effects, nil
	}
	if j.rotation.Plan.Kind == rotation.KindAssign {
		return effects, nil // the survey that follows reads it
	}
	old, next, err := j.pair(ctx, j.rotation)
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
		effects.Copies = append(effects.Copies, store.CopyIs{SystemID: number(step.SystemID), Place: step.Subject + "#" + place.String(), Fingerprint: holds})
	}
	return effects, nil
}

// logOnEffect notes what a dependent was given.
func (j *journal) logOnEffect(ctx context.Context, step rotation.Step, status rotation.Status) (effects store.Effects, err error) {
	is := store.LogOnIs{SystemID: number(step.SystemID), Place: step.At(), Account: step.LogOn.Account, AccountID: j.rotation.AccountID}
	var value *store.Secret
	switch {
	case status == rotation.Done && j.rotation.Plan.Kind == rotation.KindAssign:
		value, err = j.currentSecret(ctx, j.rotation.Credential())
	case status == rotation.Done:
		_, value, err = j.pair(ctx, j.rotation)
	case status == rotation.Undone && step.LogOn.WasID != "":
		is.Account, is.AccountID = step.LogOn.Was, number(step.LogOn.WasID)
		value, err = j.currentSecret(ctx, store.Credential{AccountID: is.AccountID})
	case status == rotation.Undone && j.rotation.Plan.Kind == rotation.KindAssign:
		is.Account = step.LogOn.Was
	case status == rotation.Undone:
		value, _, err = j.pair(ctx, j.rotation)
	default:
		return effects, nil
	}
	if value != nil {
		is.Fingerprint = value.Fingerprint
	}
	effects.LogOns = append(effects.LogOns, is)
	return effects, err
}

func (o *Operator) currentSecret(ctx context.Context, c store.Credential) (*store.Secret, error) {
	all, err := o.Store.Secrets(ctx, c)
	for i := range all {
		if all[i].State == store.SecretCurrent {
			return &all[i], err
		}
	}
	return nil, err
}

func (j *journal) entry(r rotation.Record) ledger.Entry {
	e := ledger.Entry{
		Actor: or(r.Actor, j.rotation.RequestedBy), Subject: j.rotation.Account, System: j.rotation.Authority, Ref: rotationTopic(j.rotation.ID),
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
