package rotate

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/underway"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Halted says why a running rotation does not go on; "" when it does.
func (rotations *Rotations) Halted(id records.RotationID) string {
	return rotations.underway.Halted(id)
}

// noteInterruptions keeps how long each dependent stood still, and how long was expected.
func (rotations *Rotations) noteInterruptions(ctx context.Context, r records.Rotation) error {
	journal, err := rotations.store.Journal(ctx, r.ID, 0)
	if err != nil {
		return err
	}
	var list []records.Interruption
	for _, i := range rotation.Interruptions(r.Plan, journal) {
		step := r.Plan.Steps[i.Step]
		list = append(list, records.Interruption{RotationID: r.ID, SystemID: app.Number[records.SystemID](step.SystemID), System: step.System, Place: step.Subject, At: i.From, Milliseconds: i.To.Sub(i.From).Milliseconds(), Expected: step.Expected.Milliseconds()})
	}
	return rotations.store.AddInterruptions(context.WithoutCancel(ctx), list)
}

// Settled waits until what earlier acts changed has been read again, so that
// nothing is planned on a picture that is about to change.
func (rotations *Rotations) Settled(ctx context.Context) {
	rotations.underway.Settled(ctx, func(ctx context.Context, id records.RotationID) bool {
		v, err := rotations.store.Rotation(ctx, id)
		return err == nil && v.Mode == string(rotation.ModeFinished)
	}, func(context.Context) { rotations.survey.ReadAgain(ctx) })
}

// launch works on a rotation until it is finished or stopped.
func (rotations *Rotations) launch(r records.Rotation) {
	rotations.underway.Launch(r.ID, underway.Work{
		Run:  func(p *underway.Plan) (rotation.State, error) { return rotations.run(r, p) },
		Over: func(err error) bool { return errors.Is(err, ledger.ErrBroken) },
		Waits: func(words string, err error) {
			rotations.base.Log.Error("a rotation waits", "rotation", r.ID, "credential", r.Credential, "error", err)
			rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
			key := fmt.Sprintf("rotation-waits/%d", r.ID)
			// The finding can perhaps not be written either: the log has it.
			_ = rotations.store.SetFindings(rotations.base.Context, key, []records.Finding{{Key: key, Kind: "rotation", Severity: "high", Subject: r.Credential, System: r.Authority, AccountID: r.AccountID, CredentialID: r.CredentialID, What: fmt.Sprintf("rotation %d: %s", r.ID, words), Next: "make room on the disk of the data folder, or see the log"}})
		},
		Ended: func(state rotation.State) {
			if state.Mode == rotation.ModeFinished {
				rotations.reread(r)
			}
		},
		After: func(_ rotation.State, err error) {
			rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
			if rotations.after != nil {
				rotations.after()
			}
			if err != nil && rotations.base.Context.Err() == nil {
				rotations.base.Log.Error("a rotation stopped", "rotation", r.ID, "credential", r.Credential, "error", err)
			}
		},
	})
}

func (rotations *Rotations) run(r records.Rotation, p *underway.Plan) (rotation.State, error) {
	records, err := rotations.store.Journal(rotations.base.Context, r.ID, 0)
	if err != nil {
		return rotation.State{}, err
	}
	state, err := rotation.Fold(r.Plan, records)
	if err != nil {
		return state, err
	}
	h, err := rotations.acts.Of(rotations.base.Context, r)
	if err != nil {
		return state, err
	}
	runner := &rotation.Runner{
		Plan: r.Plan, Journal: &journal{rotations: rotations, rotation: r, state: state, written: p.Goes}, Hands: h,
		Now: rotations.base.Now, Wait: app.WaitLooking, Parallel: rotations.atOnce, Decide: p.Decisions, Hold: rotations.freeze.Frozen,
	}
	// One sign-in for the acts that follow each other on a system.
	ctx, end := connect.KeepSessions(rotations.base.Context)
	defer end()
	h.Stay(ctx, state)
	state, err = runner.Run(ctx, records)
	if err != nil {
		return state, err
	}
	if state.Mode == rotation.ModeFinished {
		rotations.looks.NoteOwnTrials(ctx, h, state)
		if err := rotations.noteInterruptions(ctx, r); err != nil {
			rotations.base.Log.Warn("how long dependents stood still could not be kept", "rotation", r.ID, "error", err)
		}
	}
	return state, rotations.rotationFindings(r, state)
}
