// Package rotate plans, rehearses, starts and carries out rotations through the
// connectors, decides what persons may tell them, and takes them up again after
// an interruption. The order of steps and the recovery are core/rotation's.
package rotate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/freeze"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/app/rotate/looks"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/app/underway"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Rotations plans rotations and carries them out.
type Rotations struct {
	planning  *planning.Planning
	base      *app.Base
	store     Store
	sealed    *sealed.Keeper
	approval  *approval.Approvals
	inventory *inventory.Inventory
	picture   *picture.Picture
	findings  *findings.Engine
	survey    *survey.Surveys
	custody   *custody.Custody
	acts      *acts.Acts
	looks     *looks.Looks
	freeze    *freeze.Freeze
	policies  *policies.Policies
	usable    func(ctx context.Context, account records.Account, hosts []string) ([]connect.Checked, error)
	atOnce    int // acts of one rotation

	after     func() // called when one has ended; nil for nobody
	lock      sync.Mutex
	underway  *underway.Plans[records.RotationID]
	drill     int
	kill      func()
	journaled int
}

// Needs is what rotations are made of.
type Needs struct {
	Base      *app.Base
	Store     Store
	Sealed    *sealed.Keeper
	Approvals *approval.Approvals
	Inventory *inventory.Inventory
	Picture   *picture.Picture
	Findings  *findings.Engine
	Surveys   *survey.Surveys
	Custody   *custody.Custody
	Acts      *acts.Acts
	Looks     *looks.Looks
	Policies  *policies.Policies
	Freeze    *freeze.Freeze
	// Usable asks a directory whether hosts can use a managed account of it.
	Usable func(ctx context.Context, account records.Account, hosts []string) ([]connect.Checked, error)
	AtOnce int // acts of one rotation; 0 for 32
	// Drill ends the process with Kill after that many journal records, to exercise
	// recovery; 0 never.
	Drill int
	Kill  func()
}

// New makes Rotations. They carry out approvals of overrides.
func New(n Needs) *Rotations {
	rotations := &Rotations{base: n.Base, store: n.Store, sealed: n.Sealed, approval: n.Approvals, inventory: n.Inventory, picture: n.Picture, findings: n.Findings, survey: n.Surveys, custody: n.Custody, acts: n.Acts, looks: n.Looks, freeze: n.Freeze, policies: n.Policies, usable: n.Usable, atOnce: cmp.Or(n.AtOnce, 32), underway: underway.New[records.RotationID](n.Base), drill: n.Drill, kill: n.Kill}
	rotations.planning = planning.New(n.Store, n.Sealed, n.Custody, n.Inventory, n.Picture, n.Policies, n.Base.Now, rotations.Settled)
	n.Approvals.Carry(approval.KindRotation, approval.Carrier{Action: access.OverrideRotation, CarryOut: rotations.startApproved})
	return rotations
}

// After has f called whenever a rotation ended or stopped.
func (rotations *Rotations) After(f func()) { rotations.after = f }

// Recover takes up what an earlier run of the service left.
func (rotations *Rotations) Recover(ctx context.Context) error {
	unfinished, err := rotations.store.Unfinished(ctx)
	if err != nil {
		return fmt.Errorf("read unfinished rotations: %w", err)
	}
	if err := rotations.renewRotationFindings(ctx); err != nil {
		return fmt.Errorf("findings of rotations: %w", err)
	}
	for _, r := range unfinished {
		rotations.base.Log.Info("taking up a rotation", "rotation", r.ID, "credential", r.Credential, "mode", r.Mode)
		rotations.launch(r)
	}
	return nil
}

// Start begins a rotation of a credential in custody and returns at
// once. Law 9: it needs a rehearsal that passed recently, or an override with
// a reason; and the consent of a second person, where requirements say so: then it is
// asked for, and the error is a *WaitsError.
func (rotations *Rotations) Start(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, override string) (records.RotationID, error) {
	return rotations.start(ctx, by, c, wish, reason, override, consent{})
}

// StartInEmergency begins one without a second person, for a reason. Everybody who is told
// anything is told of it.
func (rotations *Rotations) StartInEmergency(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, emergency string) (records.RotationID, error) {
	if err := access.Decide(by, access.StartRotation, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return 0, err
	}
	if strings.TrimSpace(emergency) == "" {
		return 0, fmt.Errorf("%w: say what the emergency is", app.ErrInput)
	}
	return rotations.start(ctx, by, c, wish, reason, "", consent{emergency: emergency})
}

func (rotations *Rotations) start(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, override string, given consent) (records.RotationID, error) {
	if err := access.Decide(by, access.StartRotation, access.Object{Kind: "credential", Name: c.Name}); err != nil {
		return 0, err
	}
	if reason == "" {
		return 0, fmt.Errorf("%w: give a reason", app.ErrInput)
	}
	if err := rotations.freeze.Refuse(); err != nil {
		return 0, err
	}
	plan, err := rotations.planning.Plan(ctx, c, wish)
	if err != nil {
		return 0, err
	}
	if !c.InCustody() && !plan.Managed {
		return 0, fmt.Errorf("%w: %s is not in custody: take it first", app.ErrRefused, c.Name)
	}
	rehearsal, err := rotations.allowed(ctx, c, plan, override)
	if err != nil {
		return 0, err
	}
	words := ""
	if override == "" {
		if words, err = rotations.consented(ctx, by, c, wish, rehearsal, reason, given); err != nil {
			return 0, err
		}
	}
	r := records.Rotation{CredentialID: c.ID, Credential: c.Name, Authority: plan.Authority, Plan: plan, OnFailure: string(wish.OnFailure), RequestedBy: by.Name, Reason: reason, Override: override, RehearsalID: rehearsal.ID, Mode: string(rotation.ModeForward)}
	entry := ledger.Entry{Actor: by.Name, Act: "rotation.start", Phase: ledger.Intent, Subject: c.Name, System: c.System, Reason: reason}
	if override != "" {
		entry.Detail = "without a rehearsal that passed: " + override
	}
	entries := []ledger.Entry{}
	if override != "" {
		entries = append(entries, ledger.Entry{Actor: by.Name, Act: "rotation.override", Phase: ledger.Outcome, Subject: c.Name, System: c.System, Result: "done", Reason: override})
	}
	if given.emergency != "" {
		words = "in an emergency, without a second person: " + given.emergency
		entries = append(entries, ledger.Entry{Actor: by.Name, Act: "rotation.emergency", Phase: ledger.Outcome, Subject: c.Name, System: c.System, Result: "done", Reason: given.emergency})
	}
	r.Consent = words
	entry.Detail = strings.TrimSpace(entry.Detail + " " + words)
	if wish.AnyTime {
		entry.Detail = strings.TrimSpace(entry.Detail + " no window counts")
	}
	if r.ID, err = rotations.store.BeginRotation(ctx, r, append([]ledger.Entry{entry}, entries...)...); err != nil {
		if errors.Is(err, records.ErrConflict) {
			return 0, fmt.Errorf("%w: %w", app.ErrRefused, err)
		}
		return 0, err
	}
	id := r.ID
	if r, err = rotations.store.Rotation(context.WithoutCancel(ctx), id); err != nil { // with what was noted at its beginning
		return id, err
	}
	rotations.launch(r)
	// What else was asked for about it is done, or is something else now.
	if err := rotations.store.SupersedeApprovals(context.WithoutCancel(ctx), approval.KindRotation, subjectOf(c)); err != nil {
		rotations.base.Log.Warn("requests for what was begun are still open", "rotation", id, "error", err)
	}
	return id, nil
}

// Decide tells a rotation to resume, to undo, to stop, or to go on without
// failed steps.
func (rotations *Rotations) Decide(ctx context.Context, by access.Actor, id records.RotationID, decision, reason string) error {
	if err := access.Decide(by, access.DecideRotation, access.Object{Kind: "rotation", Name: app.RotationTopic(id)}); err != nil {
		return err
	}
	record := rotation.Record{Event: rotation.EventDecision, Step: -1, Result: decision, Actor: by.Name, Reason: reason}
	err := rotations.underway.Decide(ctx, id, record, func(underway bool) error { return rotations.decide(ctx, id, record, underway) })
	var unheard *underway.Unheard
	if errors.As(err, &unheard) {
		return refused(id, unheard.Err)
	}
	return err
}

// decide looks whether a decision may be made. Where nothing works on the rotation it writes
// it, and takes the rotation up.
func (rotations *Rotations) decide(ctx context.Context, id records.RotationID, record rotation.Record, underway bool) error {
	r, state, _, err := rotations.State(ctx, id)
	if err != nil {
		return err
	}
	if err := rotations.mayDecide(ctx, r, state, record.Result); err != nil {
		return err
	}
	if record.Result == rotation.DecideUndo && r.Mode == string(rotation.ModeFinished) && r.Result != rotation.FinishedUndoFailed {
		if record.Reason == "" {
			return fmt.Errorf("%w: undoing a finished rotation changes everything once more: give a reason", app.ErrInput)
		}
		if err := rotations.undoRehearsed(ctx, r); err != nil {
			return err
		}
	}
	if words := rotations.Halted(id); words != "" {
		return fmt.Errorf("%w: rotation %d takes no decision now: %s", app.ErrRefused, id, words)
	}
	if underway {
		return nil
	}
	journal := &journal{rotations: rotations, rotation: r, state: state}
	record.Seq, record.Time = state.Last+1, rotations.base.Now().UTC()
	if err := journal.Append(ctx, record); err != nil {
		return err
	}
	if record.Result != rotation.DecideStop {
		rotations.launch(r)
	}
	return nil
}

// refused names the rotation that does not take a decision.
func refused(id records.RotationID, err error) error {
	return fmt.Errorf("%w: rotation %d: %w", app.ErrRefused, id, err)
}

// mayDecide says why a rotation does not take a decision where it stands, or with what
// came after it.
func (rotations *Rotations) mayDecide(ctx context.Context, r records.Rotation, state rotation.State, decision string) error {
	if err := state.Takes(decision); err != nil {
		return refused(r.ID, err)
	}
	if decision != rotation.DecideStop && rotations.store.LedgerTrouble() != nil {
		return rotations.store.LedgerTrouble()
	}
	if r.Mode != string(rotation.ModeFinished) {
		return nil
	}
	// Taking up a finished one: only the latest of its account.
	if err := rotations.isLatest(ctx, r); err != nil {
		return err
	}
	if c, err := rotations.store.Credential(ctx, r.CredentialID); err != nil || !c.InCustody() && !r.Plan.Managed {
		return fmt.Errorf("%w: %s is no longer in custody", app.ErrRefused, r.Credential)
	}
	if decision != rotation.DecideUndo || r.Plan.Kind == rotation.KindAssign {
		return nil
	}
	old, next, err := rotations.sealed.OfRotation(ctx, r)
	switch {
	case err != nil:
		return err
	case old == nil:
		return fmt.Errorf("%w: which value was current before rotation %d is not known: take custody anew instead", app.ErrRefused, r.ID)
	case old.Erased():
		return fmt.Errorf("%w: the value before rotation %d is erased, for its time was over: rotate it once more instead", app.ErrRefused, r.ID)
	case r.Result == rotation.FinishedDone && (next == nil || next.State != records.SecretCurrent):
		return fmt.Errorf("%w: custody of %s was taken anew after rotation %d: undoing would set a value over it that is not current any more", app.ErrRefused, r.Credential, r.ID)
	}
	return nil
}

// isLatest refuses a rotation after which another one came of the same credentials.
func (rotations *Rotations) isLatest(ctx context.Context, r records.Rotation) error {
	about := []string{fmt.Sprintf("credential_id=%d", r.CredentialID), fmt.Sprintf("next_credential_id=%d", r.CredentialID)}
	if next := r.Next(); next != 0 {
		about = append(about, fmt.Sprintf("credential_id=%d", next), fmt.Sprintf("next_credential_id=%d", next))
	}
	for _, filter := range about {
		later, err := rotations.store.Rotations(ctx, records.Query{Filters: []string{filter, fmt.Sprintf("id>%d", r.ID)}, Limit: 1})
		if err != nil {
			return err
		}
		if len(later.Items) > 0 {
			return fmt.Errorf("%w: rotation %d of the same credential came after it", app.ErrRefused, later.Items[0].ID)
		}
	}
	return nil
}

// settlement says which sealed value is the current one after the end. While
// it is not known which one the authority accepts, both stay as they are.
func (rotations *Rotations) settlement(ctx context.Context, r records.Rotation, state rotation.State) (*records.Settlement, error) {
	old, next, err := rotations.sealed.OfRotation(ctx, r)
	if err != nil || next == nil || old == nil {
		return nil, err
	}
	if r.Plan.Turn != nil {
		return rotations.turnSettled(ctx, r, state, *next)
	}
	var v *records.Settlement
	changed, refused := statusOf(r.Plan, state, rotation.StepChange), statusOf(r.Plan, state, rotation.StepRefuse)
	switch {
	case state.Result == rotation.FinishedDone || state.Result == rotation.FinishedWithFailures:
		v = &records.Settlement{Winner: next.ID, Loser: old.ID, LoserRefused: refused == rotation.Done && !lingers(state)}
	case state.Result == rotation.FinishedUndone, changed == rotation.Undone:
		v = &records.Settlement{Winner: old.ID, Loser: next.ID, LoserRefused: refused == rotation.Undone && !lingers(state) || changed == rotation.Pending || changed == rotation.Failed}
	}
	if v == nil {
		return v, nil
	}
	winner := old
	if v.Winner == next.ID {
		winner = next
	}
	v.Public, err = rotations.sealed.Public(*winner)
	return v, err
}

// lingers: the value that was replaced was still accepted, where one that was replaced is for a while.
func lingers(state rotation.State) bool {
	return slices.ContainsFunc(state.Steps, func(t rotation.StepState) bool {
		return t.Later && (t.Status == rotation.Done || t.Status == rotation.Undone)
	})
}

// statusOf is where all steps of a kind stand: the status that they share,
// leaving out those that were never begun, or "" when they differ.
func statusOf(plan rotation.Plan, state rotation.State, kind rotation.StepKind) rotation.Status {
	shared := rotation.Pending
	for i, step := range plan.Steps {
		switch s := state.Steps[i].Status; {
		case step.Kind != kind || s == rotation.Pending || s == shared:
		case shared == rotation.Pending:
			shared = s
		default:
			return ""
		}
	}
	return shared
}

// reread surveys the systems that a rotation changed, so that the picture is
// what is there now.
func (rotations *Rotations) reread(r records.Rotation) {
	names := map[string]bool{}
	var list []string
	// Also those that held the value without being part of the plan.
	if old, _, err := rotations.sealed.OfRotation(rotations.base.Context, r); err == nil && old != nil {
		holding, err := rotations.store.HoldingFingerprint(rotations.base.Context, old.Fingerprint)
		if err != nil {
			rotations.base.Log.Warn("what holds the old value could not be read", "rotation", r.ID, "error", err)
		}
		for _, d := range holding {
			if !names[d.System] {
				names[d.System] = true
				list = append(list, d.System)
			}
		}
	}
	for _, s := range r.Plan.Steps {
		if s.System != "" && !names[s.System] {
			names[s.System] = true
			list = append(list, s.System)
		}
	}
	if _, err := rotations.survey.StartThen(rotations.base.Context, access.Service(), list, func() {
		if err := rotations.findings.LeftBehind(context.Background(), r); err != nil {
			rotations.base.Log.Warn("what still holds the old value could not be told", "rotation", r.ID, "error", err)
		}
	}); err != nil && rotations.base.Context.Err() == nil {
		rotations.base.Log.Warn("the systems of a rotation could not be read again", "rotation", r.ID, "error", err)
	}
}

// State reads a rotation with its steps as they are now.
func (rotations *Rotations) State(ctx context.Context, id records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error) {
	return rotations.acts.State(ctx, id)
}
