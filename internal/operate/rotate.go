package operate

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/store"
)

// running is a rotation that is being worked on.
type running struct {
	decide chan rotation.Record
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
func (o *Operator) Halted(id int64) string {
	o.lock.Lock()
	active := o.rotations[id]
	o.lock.Unlock()
	if active == nil {
		return ""
	}
	active.lock.Lock()
	defer active.lock.Unlock()
	return active.words
}

// StartRotation begins a rotation of a credential in custody and returns at
// once. Law 9: it needs a rehearsal that passed recently, or an override with
// a reason.
func (o *Operator) StartRotation(ctx context.Context, by string, s Subject, wish Wish, reason, override string) (int64, error) {
	if reason == "" {
		return 0, fmt.Errorf("%w: give a reason", ErrInput)
	}
	if _, err := o.Store.Custody(ctx, s.Credential()); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return 0, fmt.Errorf("%w: %s is not in custody: take it first", ErrRefused, nameOf(s))
		}
		return 0, err
	}
	plan, err := o.plan(ctx, s, wish)
	if err != nil {
		return 0, err
	}
	rehearsal, err := o.allowed(ctx, s, plan, override)
	if err != nil {
		return 0, err
	}
	r := store.Rotation{AccountID: s.Credential().AccountID, KeyID: s.Credential().KeyID, Account: nameOf(s), Authority: plan.Authority, Plan: plan, Policy: string(wish.Policy), RequestedBy: by, Reason: reason, Override: override, RehearsalID: rehearsal, Mode: string(rotation.ModeForward)}
	entry := ledger.Entry{Actor: by, Act: "rotation.start", Phase: ledger.Intent, Subject: nameOf(s), System: systemOf(s), Reason: reason}
	if override != "" {
		entry.Detail = "without a rehearsal that passed: " + override
	}
	if r.ID, err = o.Store.BeginRotation(ctx, r, entry); err != nil {
		if errors.Is(err, store.ErrConflict) {
			return 0, fmt.Errorf("%w: %w", ErrRefused, err)
		}
		return 0, err
	}
	id := r.ID
	if r, err = o.Store.Rotation(context.WithoutCancel(ctx), id); err != nil { // with what was noted at its beginning
		return id, err
	}
	o.launch(r)
	return id, nil
}

// Decide tells a rotation to resume, to undo, to stop, or to go on without
// failed steps.
func (o *Operator) Decide(ctx context.Context, by string, id int64, decision, reason string) error {
	r, err := o.Store.Rotation(ctx, id)
	if err != nil {
		return err
	}
	if err := o.mayDecide(ctx, r, decision); err != nil {
		return err
	}
	if decision == rotation.DecideUndo && r.Mode == string(rotation.ModeFinished) && r.Result != rotation.FinishedUndoFailed {
		if reason == "" {
			return fmt.Errorf("%w: undoing a finished rotation changes everything once more: give a reason", ErrInput)
		}
		if err := o.undoRehearsed(ctx, r); err != nil {
			return err
		}
	}
	if words := o.Halted(id); words != "" {
		return fmt.Errorf("%w: rotation %d takes no decision now: %s", ErrRefused, id, words)
	}
	record := rotation.Record{Event: rotation.EventDecision, Step: -1, Result: decision, Actor: by, Reason: reason}
	o.lock.Lock()
	active := o.rotations[id]
	o.lock.Unlock()
	if active != nil {
		select {
		case active.decide <- record:
			return nil
		case <-active.ended:
		case <-ctx.Done():
			return ctx.Err()
		}
		if r, err = o.Store.Rotation(ctx, id); err != nil {
			return err
		}
	}
	records, err := o.Store.Journal(ctx, id, 0)
	if err != nil {
		return err
	}
	state, err := rotation.Fold(r.Plan, records)
	if err != nil {
		return err
	}
	journal := &journal{Operator: o, rotation: r, state: state}
	record.Seq, record.Time = state.Last+1, o.Now().UTC()
	if err := journal.Append(ctx, record); err != nil {
		return err
	}
	if decision != rotation.DecideStop {
		o.launch(r)
	}
	return nil
}

func (o *Operator) mayDecide(ctx context.Context, r store.Rotation, decision string) error {
	if decision != rotation.DecideStop && o.Store.LedgerTrouble() != nil {
		return o.Store.LedgerTrouble()
	}
	switch decision {
	case rotation.DecideStop:
		if r.Mode != string(rotation.ModeForward) && r.Mode != string(rotation.ModeUndoing) {
			return fmt.Errorf("%w: rotation %d is %s: only a running one can be stopped", ErrRefused, r.ID, r.Mode)
		}
	case rotation.DecideLeave:
		if r.Mode != string(rotation.ModeUndoing) {
			return fmt.Errorf("%w: rotation %d is %s: only one that is being undone can do without what is away", ErrRefused, r.ID, or(r.Result, r.Mode))
		}
	case rotation.DecideResume, rotation.DecideGoOn:
		if r.Mode != string(rotation.ModeStopped) && r.Result != rotation.FinishedWithFailures {
			return fmt.Errorf("%w: rotation %d is %s: only a stopped one, or one that ended with failures, can be resumed", ErrRefused, r.ID, or(r.Result, r.Mode))
		}
	case rotation.DecideUndo:
		if r.Result == rotation.FinishedUndone {
			return fmt.Errorf("%w: rotation %d is undone already", ErrRefused, r.ID)
		}
	default:
		return fmt.Errorf("%w: unknown decision %q", ErrInput, decision)
	}
	if r.Mode != string(rotation.ModeFinished) {
		return nil
	}
	// Taking up a finished one: only the latest of its account.
	later, err := o.Store.Rotations(ctx, store.Query{Filters: append(rotationsOf(r.Credential()), fmt.Sprintf("id>%d", r.ID)), Limit: 1})
	if err != nil {
		return err
	}
	if len(later.Items) > 0 {
		return fmt.Errorf("%w: rotation %d of the same credential came after it", ErrRefused, later.Items[0].ID)
	}
	if _, err := o.Store.Custody(ctx, r.Credential()); err != nil {
		return fmt.Errorf("%w: %s is no longer in custody", ErrRefused, r.Account)
	}
	if decision != rotation.DecideUndo || r.Plan.Kind == rotation.KindAssign {
		return nil
	}
	old, next, err := o.pair(ctx, r)
	switch {
	case err != nil:
		return err
	case old == nil:
		return fmt.Errorf("%w: which value was current before rotation %d is not known: take custody anew instead", ErrRefused, r.ID)
	case r.Result == rotation.FinishedDone && (next == nil || next.State != store.SecretCurrent):
		return fmt.Errorf("%w: custody of %s was taken anew after rotation %d: undoing would set a value over it that is not current any more", ErrRefused, r.Account, r.ID)
	}
	return nil
}

// launch works on a rotation until it is finished or stopped.
func (o *Operator) launch(r store.Rotation) {
	active := &running{decide: make(chan rotation.Record), ended: make(chan struct{})}
	o.lock.Lock()
	if o.rotations[r.ID] != nil || !o.begin() {
		o.lock.Unlock()
		return
	}
	o.rotations[r.ID] = active
	o.lock.Unlock()
	go func() {
		defer o.work.Done()
		state, err := o.keepRunning(r, active)
		if state.Mode == rotation.ModeFinished && o.base.Err() == nil {
			o.reread(r)
		}
		o.lock.Lock()
		delete(o.rotations, r.ID)
		o.lock.Unlock()
		close(active.ended)
		o.bus.wake(rotationTopic(r.ID), "all")
		if err != nil && o.base.Err() == nil {
			o.Log.Error("a rotation stopped", "rotation", r.ID, "account", r.Account, "error", err)
		}
	}()
}

// keepRunning runs a rotation to its end. A journal that cannot be written (a
// full disk) stops it where it is; it goes on by itself when it can be.
func (o *Operator) keepRunning(r store.Rotation, active *running) (rotation.State, error) {
	for pause := time.Second; ; pause = min(2*pause, time.Minute) {
		state, err := o.run(r, active)
		if err == nil || o.base.Err() != nil || errors.Is(err, ledger.ErrBroken) {
			active.tell("")
			return state, err
		}
		words := fmt.Sprintf("it does not go on, because what it does cannot be written down: %v; it goes on by itself when that is possible again", err)
		active.tell(words)
		o.Log.Error("a rotation waits", "rotation", r.ID, "account", r.Account, "error", err)
		o.bus.wake(rotationTopic(r.ID), "all")
		key := fmt.Sprintf("rotation-waits/%d", r.ID)
		// The finding can perhaps not be written either: the log has it.
		_ = o.Store.SetFindings(o.base, key, []store.Finding{{Key: key, Kind: "rotation", Severity: "high", Subject: r.Account, System: r.Authority, AccountID: r.AccountID, What: fmt.Sprintf("rotation %d: %s", r.ID, words), Next: "make room on the disk of the data folder, or see the log"}})
		if connect.Wait(o.base, pause) != nil {
			return state, err
		}
	}
}

// waitsAfter is how many times a system must be away to be a finding.
const waitsAfter = 5

// noteWaiting raises and clears the finding about a system that is waited for.
func (j *journal) noteWaiting(ctx context.Context, r rotation.Record) {
	key := fmt.Sprintf("rotation-waits/%d", j.rotation.ID)
	var list []store.Finding
	for i, t := range j.state.Steps {
		if t.Away < waitsAfter || t.Left || j.state.Mode == rotation.ModeFinished {
			continue
		}
		step := j.rotation.Plan.Steps[i]
		next := "bring it back: the rotation goes on by itself"
		if j.state.Mode == rotation.ModeUndoing {
			next += fmt.Sprintf("; or undo without it: 'moss rotate undo %d --without-away'", j.rotation.ID)
		}
		list = []store.Finding{{Key: key, Kind: "rotation", Severity: "high", Subject: j.rotation.Account, System: step.System, AccountID: j.rotation.AccountID, What: fmt.Sprintf("rotation %d waits for %s since %s: %s", j.rotation.ID, step.System, t.Since.UTC().Format(time.RFC3339), t.Words), Next: next}}
		break
	}
	if r.Result == rotation.ResultAway && list == nil {
		return // not long enough to be told
	}
	if err := j.Store.SetFindings(ctx, key, list); err != nil {
		j.Log.Warn("a finding could not be written", "key", key, "error", err)
	}
}

func (o *Operator) run(r store.Rotation, active *running) (rotation.State, error) {
	records, err := o.Store.Journal(o.base, r.ID, 0)
	if err != nil {
		return rotation.State{}, err
	}
	state, err := rotation.Fold(r.Plan, records)
	if err != nil {
		return state, err
	}
	h := &hands{Operator: o, rotation: r}
	if r.KeyID == 0 {
		if h.account, err = o.Store.Account(o.base, r.AccountID); err != nil {
			return state, err
		}
	}
	runner := &rotation.Runner{
		Plan: r.Plan, Journal: &journal{Operator: o, rotation: r, state: state}, Hands: h,
		Now: o.Now, Wait: connect.Wait, Parallel: o.Acts, Decide: active.decide,
	}
	state, err = runner.Run(o.base, records)
	if err != nil {
		return state, err
	}
	return state, o.rotationFindings(r, state)
}

// settlement says which sealed value is the current one after the end. While
// it is not known which one the authority accepts, both stay as they are.
func (o *Operator) settlement(ctx context.Context, r store.Rotation, state rotation.State) (*store.Settlement, error) {
	old, next, err := o.pair(ctx, r)
	if err != nil || next == nil || old == nil {
		return nil, err
	}
	var v *store.Settlement
	changed, refused := statusOf(r.Plan, state, rotation.StepChange), statusOf(r.Plan, state, rotation.StepRefuse)
	switch {
	case state.Result == rotation.FinishedDone || state.Result == rotation.FinishedWithFailures:
		v = &store.Settlement{Winner: next.ID, Loser: old.ID, LoserRefused: refused == rotation.Done}
	case state.Result == rotation.FinishedUndone, changed == rotation.Undone:
		v = &store.Settlement{Winner: old.ID, Loser: next.ID, LoserRefused: refused == rotation.Undone || changed == rotation.Pending || changed == rotation.Failed}
	}
	if v == nil || r.KeyID == 0 {
		return v, nil
	}
	winner := old
	if v.Winner == next.ID {
		winner = next
	}
	v.Pair, err = o.pairOf(*winner)
	return v, err
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

// rotationFindings raises what a person must look at.
func (o *Operator) rotationFindings(r store.Rotation, state rotation.State) error {
	key := fmt.Sprintf("rotation/%d/", r.AccountID)
	if r.KeyID != 0 {
		key = fmt.Sprintf("rotation/key-%d/", r.KeyID)
	}
	var list []store.Finding
	next := fmt.Sprintf("read it with 'moss rotate show %d'", r.ID)
	add := func(severity, what, next string) {
		list = append(list, store.Finding{Key: key + or(state.Result, string(state.Mode)), Kind: "rotation", Severity: severity, Subject: r.Account, System: r.Authority, AccountID: r.AccountID, What: what, Next: next})
	}
	switch {
	case state.Mode == rotation.ModeStopped:
		add("high", fmt.Sprintf("rotation %d stopped and needs a decision", r.ID), fmt.Sprintf("%s, then 'moss rotate resume %d' or 'moss rotate undo %d'", next, r.ID, r.ID))
	case state.Result == rotation.FinishedUndoFailed:
		add("high", fmt.Sprintf("rotation %d could not be undone everywhere", r.ID), fmt.Sprintf("%s, repair what it names, then 'moss rotate undo %d' again", next, r.ID))
	case state.Result == rotation.FinishedWithFailures:
		add("high", fmt.Sprintf("rotation %d ended with failed steps", r.ID), fmt.Sprintf("%s, repair what it names, then 'moss rotate resume %d'", next, r.ID))
	case state.Result == rotation.FinishedUndone:
		add("medium", fmt.Sprintf("rotation %d was undone", r.ID), next)
	}
	return o.Store.SetFindings(context.Background(), key, list)
}

// renewRotationFindings raises the findings of the latest rotation of each
// account again: a crash may have come between its end and its finding.
func (o *Operator) renewRotationFindings(ctx context.Context) error {
	seen := map[store.Credential]bool{}
	for query := (store.Query{Limit: 500}); ; {
		page, err := o.Store.Rotations(ctx, query)
		if err != nil {
			return err
		}
		for _, r := range page.Items {
			if seen[r.Credential()] || r.Mode == string(rotation.ModeForward) || r.Mode == string(rotation.ModeUndoing) {
				seen[r.Credential()] = true
				continue
			}
			seen[r.Credential()] = true
			if err := o.rotationFindings(r, rotation.State{Mode: rotation.Mode(r.Mode), Result: r.Result}); err != nil {
				return err
			}
		}
		if query.Cursor = page.Next; query.Cursor == "" {
			return nil
		}
	}
}

// reread surveys the systems that a rotation changed, so that the picture is
// what is there now.
func (o *Operator) reread(r store.Rotation) {
	names := map[string]bool{}
	var list []string
	// Also those that held the value without being part of the plan.
	if old, _, err := o.pair(o.base, r); err == nil && old != nil {
		holding, err := o.Store.HoldingFingerprint(o.base, old.Fingerprint)
		if err != nil {
			o.Log.Warn("what holds the old value could not be read", "rotation", r.ID, "error", err)
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
	if _, err := o.startSurvey(o.base, byService, list, func() {
		if err := o.leftBehind(context.Background(), r); err != nil {
			o.Log.Warn("what still holds the old value could not be told", "rotation", r.ID, "error", err)
		}
	}); err != nil && o.base.Err() == nil {
		o.Log.Warn("the systems of a rotation could not be read again", "rotation", r.ID, "error", err)
	}
}

// RotationState reads a rotation with its steps as they are now.
func (o *Operator) RotationState(ctx context.Context, id int64) (store.Rotation, rotation.State, []rotation.Record, error) {
	r, err := o.Store.Rotation(ctx, id)
	if err != nil {
		return r, rotation.State{}, nil, err
	}
	records, err := o.Store.Journal(ctx, id, 0)
	if err != nil {
		return r, rotation.State{}, nil, err
	}
	state, err := rotation.Fold(r.Plan, records)
	return r, state, records, err
}
