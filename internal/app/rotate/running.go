package rotate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// running is a rotation that is being worked on.
type running struct {
	decide chan rotation.Decision
	ended  chan struct{}

	lock  sync.Mutex
	words string // why it does not go on
}

func (r *running) tell(words string) {
	r.lock.Lock()
	defer r.lock.Unlock()
	r.words = words
}

// Halted says why a running rotation does not go on; "" when it does.
func (rotations *Rotations) Halted(id records.RotationID) string {
	rotations.lock.Lock()
	active := rotations.running[id]
	rotations.lock.Unlock()
	if active == nil {
		return ""
	}
	active.lock.Lock()
	defer active.lock.Unlock()
	return active.words
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

// settledTime bounds how long planning waits for the end of earlier rotations.
const settledTime = 30 * time.Second

// Settled waits until what earlier acts changed has been read again, so that
// nothing is planned on a picture that is about to change.
func (rotations *Rotations) Settled(ctx context.Context) {
	limited, cancel := context.WithTimeout(ctx, settledTime)
	defer cancel()
	// One that has just finished is about to be followed by its reading.
	rotations.lock.Lock()
	active := maps.Clone(rotations.running)
	rotations.lock.Unlock()
	for id, r := range active {
		if v, err := rotations.store.Rotation(limited, id); err == nil && v.Mode == string(rotation.ModeFinished) {
			select {
			case <-r.ended:
			case <-limited.Done():
			}
		}
	}
	rotations.survey.ReadAgain(ctx)
}

// launch works on a rotation until it is finished or stopped.
func (rotations *Rotations) launch(r records.Rotation) {
	active := &running{decide: make(chan rotation.Decision), ended: make(chan struct{})}
	rotations.lock.Lock()
	if rotations.running[r.ID] != nil || !rotations.base.Begin() {
		rotations.lock.Unlock()
		return
	}
	rotations.running[r.ID] = active
	rotations.lock.Unlock()
	go func() {
		defer rotations.base.Work.Done()
		state, err := rotations.keepRunning(r, active)
		if state.Mode == rotation.ModeFinished && rotations.base.Context.Err() == nil {
			rotations.reread(r)
		}
		rotations.lock.Lock()
		delete(rotations.running, r.ID)
		rotations.lock.Unlock()
		close(active.ended)
		rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
		if rotations.after != nil {
			rotations.after()
		}
		if err != nil && rotations.base.Context.Err() == nil {
			rotations.base.Log.Error("a rotation stopped", "rotation", r.ID, "credential", r.Credential, "error", err)
		}
	}()
}

// keepRunning runs a rotation to its end. A journal that cannot be written (a
// full disk) stops it where it is; it goes on by itself when it can be.
func (rotations *Rotations) keepRunning(r records.Rotation, active *running) (rotation.State, error) {
	for pause := time.Second; ; pause = min(2*pause, time.Minute) {
		state, err := rotations.run(r, active)
		if err == nil || rotations.base.Context.Err() != nil || errors.Is(err, ledger.ErrBroken) {
			active.tell("")
			return state, err
		}
		words := fmt.Sprintf("it does not go on, because what it does cannot be written down: %v; it goes on by itself when that is possible again", err)
		active.tell(words)
		rotations.base.Log.Error("a rotation waits", "rotation", r.ID, "credential", r.Credential, "error", err)
		rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
		key := fmt.Sprintf("rotation-waits/%d", r.ID)
		// The finding can perhaps not be written either: the log has it.
		_ = rotations.store.SetFindings(rotations.base.Context, key, []records.Finding{{Key: key, Kind: "rotation", Severity: "high", Subject: r.Credential, System: r.Authority, AccountID: r.AccountID, CredentialID: r.CredentialID, What: fmt.Sprintf("rotation %d: %s", r.ID, words), Next: "make room on the disk of the data folder, or see the log"}})
		if connect.Wait(rotations.base.Context, pause) != nil {
			return state, err
		}
	}
}

func (rotations *Rotations) run(r records.Rotation, active *running) (rotation.State, error) {
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
		Plan: r.Plan, Journal: &journal{rotations: rotations, rotation: r, state: state, written: func() { active.tell("") }}, Hands: h,
		Now: rotations.base.Now, Wait: connect.Wait, Parallel: rotations.atOnce, Decide: active.decide, Hold: rotations.freeze.Frozen,
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
