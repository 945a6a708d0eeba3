package rotate

import (
	"context"
	"slices"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// turnedTo is the account that a finished turn left in use, with its values.
func (rotations *Rotations) turnedTo(ctx context.Context, plan rotation.Plan) (a records.Account, values sealed.Values, err error) {
	if a, err = rotations.store.Account(ctx, app.Number[records.AccountID](plan.Turn.AccountID)); err != nil {
		return a, values, err
	}
	values, err = rotations.sealed.Values(ctx, app.Number[records.CredentialID](plan.Turn.CredentialID))
	return a, values, err
}

// changeOf is what a plan would change at the authority, and the account that gets the new
// value.
func (rotations *Rotations) changeOf(ctx context.Context, a records.Account, plan rotation.Plan) (change connect.Intention, of records.Account, err error) {
	if plan.Turn == nil {
		ref := inventory.RefOf(a)
		return connect.Intention{Change: &ref}, a, nil
	}
	c, err := rotations.store.Credential(ctx, app.Number[records.CredentialID](plan.CredentialID))
	if err != nil {
		return change, of, err
	}
	former, err := rotations.store.Account(ctx, c.AccountID)
	if err != nil {
		return change, of, err
	}
	if of, err = rotations.store.Account(ctx, app.Number[records.AccountID](plan.Turn.AccountID)); err != nil {
		return change, of, err
	}
	was, next := inventory.RefOf(former), inventory.RefOf(of)
	return connect.Intention{Change: &next, Turn: &was}, of, nil
}

// turnSettled says what a turn made of the two accounts and of the value of the one whose
// turn began. That has the new value as soon as the authority was told, also where it rests
// again; the other one's value never changed.
func (rotations *Rotations) turnSettled(ctx context.Context, r records.Rotation, state rotation.State, next records.Secret) (*records.Settlement, error) {
	v := &records.Settlement{CredentialID: r.Next()}
	own, err := rotations.sealed.Current(ctx, v.CredentialID)
	if err != nil {
		return nil, err
	}
	changed := statusOf(r.Plan, state, rotation.StepChange)
	switch {
	case changed == rotation.Done || changed == rotation.Undone:
		v.Winner = next.ID
		if own != nil && own.ID != next.ID {
			v.Loser = own.ID
			v.LoserRefused = slices.ContainsFunc(state.Steps, func(t rotation.StepState) bool { return t.Former })
		}
	case changed == rotation.Pending || changed == rotation.Failed:
		if own != nil && certainlyUntouched(r.Plan, state) {
			v.Winner, v.Loser, v.LoserRefused = own.ID, next.ID, true
		}
	}
	rests := statusOf(r.Plan, state, rotation.StepRefuse)
	switch {
	case statusOf(r.Plan, state, rotation.StepRetire) == rotation.Done:
		v.Tandem = &records.TandemIs{Working: r.Next(), Resting: r.CredentialID, Rests: rests == rotation.Done && !lingers(state)}
	case changed == rotation.Done: // both may sign in, and each may be used
		v.Tandem = &records.TandemIs{Working: r.CredentialID, Resting: r.Next()}
	case state.Result == rotation.FinishedUndone && changed == rotation.Undone:
		v.Tandem = &records.TandemIs{Working: r.CredentialID, Resting: r.Next(), Rests: rests == rotation.Undone && !lingers(state)}
	}
	return v, nil
}

// certainlyUntouched: the authority was never told of the new value.
func certainlyUntouched(plan rotation.Plan, state rotation.State) bool {
	for i, step := range plan.Steps {
		if t := state.Steps[i]; step.Kind == rotation.StepChange && (t.Maybe || t.Attempted && !t.NoEffect) {
			return false
		}
	}
	return true
}
