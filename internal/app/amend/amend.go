// Package amend carries out what charters propose: rights and memberships are given and taken
// by the engine of rotations, which rehearses them, writes each intent before the act, finds
// out what became of an act whose answer was lost, and undoes.
//
// An amendment takes two people, whoever asks: whoever could give rights alone could give
// them to an account of their own. What is started is what was rehearsed, and only that.
package amend

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/freeze"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddAmendment(ctx context.Context, v *records.Amendment) error
	Amendment(ctx context.Context, id records.AmendmentID) (records.Amendment, error)
	Approval(ctx context.Context, id records.ApprovalID) (records.Approval, error)
	AmendmentJournal(ctx context.Context, id records.AmendmentID) ([]rotation.Record, error)
	AmendmentWaits(ctx context.Context, id records.AmendmentID, approval records.ApprovalID) error
	AppendAmendment(ctx context.Context, id records.AmendmentID, r rotation.Record, mode, result string, entries ...ledger.Entry) error
	BeginAmendment(ctx context.Context, v records.Amendment, entries ...ledger.Entry) error
	Charter(ctx context.Context, name string) (records.Charter, error)
	LedgerTrouble() error
	LinesOfCharter(ctx context.Context, id records.CharterID) ([]records.CharterLine, error)
	OpenAmendments(ctx context.Context) ([]records.Amendment, error)
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
}

// Targets says how a system is reached.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// Amendments carries them out. Safe for concurrent use.
type Amendments struct {
	base     *app.Base
	store    Store
	targets  Targets
	approval *approval.Approvals
	surveys  *survey.Surveys
	freeze   *freeze.Freeze

	after    func(records.AmendmentID) // called when one has ended or stopped; nil for nobody
	deciding sync.Mutex                // about those that nothing works on
	lock     sync.Mutex
	running  map[records.AmendmentID]*running
}

type running struct {
	decide chan rotation.Decision
	ended  chan struct{}
}

// New makes one. It carries out its approvals.
func New(base *app.Base, store Store, targets Targets, approvals *approval.Approvals, surveys *survey.Surveys, frozen *freeze.Freeze) *Amendments {
	a := &Amendments{base: base, store: store, targets: targets, approval: approvals, surveys: surveys, freeze: frozen, running: map[records.AmendmentID]*running{}}
	approvals.Carry(approval.KindAmendment, approval.Carrier{Action: access.StartAmendment, CarryOut: a.carryOut})
	return a
}

// After has f called whenever one has ended or stopped.
func (a *Amendments) After(f func(records.AmendmentID)) { a.after = f }

// TakeBack undoes one that gave rights for a while only: that was approved with it.
func (a *Amendments) TakeBack(ctx context.Context, id records.AmendmentID, why string) error {
	v, state, _, err := a.state(ctx, id)
	if err != nil || v.Mode == records.ModeRehearsed || state.Mode == rotation.ModeUndoing || state.Result == rotation.FinishedUndone {
		return err
	}
	return a.tell(ctx, id, rotation.Record{Event: rotation.EventDecision, Step: -1, Result: rotation.DecideUndo, Actor: access.Service().Name, Reason: why})
}

// settledTime bounds how long it is waited for the end of earlier ones.
const settledTime = 30 * time.Second

// Settled waits until what earlier ones changed has been read again.
func (a *Amendments) Settled(ctx context.Context) {
	limited, cancel := context.WithTimeout(ctx, settledTime)
	defer cancel()
	a.lock.Lock()
	active := maps.Clone(a.running)
	a.lock.Unlock()
	for id, r := range active {
		if v, err := a.store.Amendment(limited, id); err == nil && v.Mode == string(rotation.ModeFinished) {
			select {
			case <-r.ended: // its systems are being read by then
			case <-limited.Done():
			}
		}
	}
	a.surveys.ReadAgain(limited)
}

// Topic is woken when something of an amendment changes.
func Topic(id records.AmendmentID) string { return fmt.Sprintf("amendment/%d", id) }

// Recover takes up what an earlier run of the service left.
func (a *Amendments) Recover(ctx context.Context) error {
	open, err := a.store.OpenAmendments(ctx)
	if err != nil {
		return err
	}
	for _, v := range open {
		if v.Mode != string(rotation.ModeStopped) {
			a.launch(v)
		}
	}
	return nil
}

// View is an amendment with its steps as they are now.
func (a *Amendments) View(ctx context.Context, id records.AmendmentID) (records.AmendmentView, error) {
	v, state, _, err := a.state(ctx, id)
	out := records.AmendmentView{Amendment: v, Steps: []records.AmendmentStep{}, Decisions: []string{}}
	if err != nil {
		return out, err
	}
	for i, step := range v.Plan.Steps {
		t := state.Steps[i]
		s := records.AmendmentStep{Index: i, Kind: string(step.Kind), System: step.System, Title: step.Title(), Status: string(t.Status), Words: t.Words}
		if t.Status == rotation.Undone {
			s.Title = step.UndoTitle()
		}
		if t.Waiting() {
			s.Since = t.Since
		}
		out.Steps = append(out.Steps, s)
	}
	if v.Mode != records.ModeRehearsed {
		out.Decisions = state.Decisions()
	}
	return out, nil
}

func (a *Amendments) state(ctx context.Context, id records.AmendmentID) (records.Amendment, rotation.State, []rotation.Record, error) {
	v, err := a.store.Amendment(ctx, id)
	if err != nil {
		return v, rotation.State{}, nil, err
	}
	journal, err := a.store.AmendmentJournal(ctx, id)
	if err != nil {
		return v, rotation.State{}, nil, err
	}
	state, err := rotation.Fold(v.Plan, journal)
	return v, state, journal, err
}

// Decide tells one to stop, to resume, to go on without what failed, or to undo. Undoing one
// that is finished takes two people again: what was taken long ago comes back by it.
func (a *Amendments) Decide(ctx context.Context, by access.Actor, id records.AmendmentID, decision, reason string) error {
	if err := access.Decide(by, access.DecideAmendment, access.Object{Kind: "amendment", Name: Topic(id)}); err != nil {
		return err
	}
	record := rotation.Record{Event: rotation.EventDecision, Step: -1, Result: decision, Actor: by.Name, Reason: reason}
	v, state, _, err := a.state(ctx, id)
	if err != nil {
		return err
	}
	if decision == rotation.DecideUndo && state.Mode == rotation.ModeFinished && state.Result != rotation.FinishedUndoFailed {
		if err := state.Takes(decision); err != nil {
			return refused(id, err)
		}
		if reason == "" {
			return fmt.Errorf("%w: undoing a finished amendment changes rights once more: give a reason", app.ErrInput)
		}
		words, err := a.consented(ctx, by, v, reason, true)
		if err != nil {
			return err
		}
		record.Reason += " (" + words + ")"
	}
	return a.tell(ctx, id, record)
}

// tell gives a decision to what works on it, or writes it and takes it up.
func (a *Amendments) tell(ctx context.Context, id records.AmendmentID, record rotation.Record) error {
	for {
		active, err := a.decide(ctx, id, record)
		if active == nil || err != nil {
			return err
		}
		answer := make(chan error, 1)
		select {
		case active.decide <- rotation.Decision{Record: record, Answer: answer}:
			if err := <-answer; err != nil {
				return refused(id, err)
			}
			return nil
		case <-active.ended:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (a *Amendments) decide(ctx context.Context, id records.AmendmentID, record rotation.Record) (*running, error) {
	a.deciding.Lock()
	defer a.deciding.Unlock()
	a.lock.Lock()
	active := a.running[id]
	a.lock.Unlock()
	v, state, _, err := a.state(ctx, id)
	if err != nil {
		return nil, err
	}
	if v.Mode == records.ModeRehearsed {
		return nil, fmt.Errorf("%w: amendment %d was not started", app.ErrRefused, id)
	}
	if err := state.Takes(record.Result); err != nil {
		return nil, refused(id, err)
	}
	if record.Result != rotation.DecideStop {
		if err := a.store.LedgerTrouble(); err != nil {
			return nil, err
		}
		if err := a.alone(ctx, v); err != nil {
			return nil, err
		}
	}
	if active != nil {
		return active, nil
	}
	record.Seq, record.Time = state.Last+1, a.base.Now().UTC()
	if err := a.journal(v, state).Append(ctx, record); err != nil {
		return nil, err
	}
	if record.Result != rotation.DecideStop {
		a.launch(v)
	}
	return nil, nil
}

func refused(id records.AmendmentID, err error) error {
	return fmt.Errorf("%w: amendment %d: %w", app.ErrRefused, id, err)
}

// alone refuses while another one that is not over is about the same account on the same
// system: which of them made a right what it is could not be told.
func (a *Amendments) alone(ctx context.Context, v records.Amendment) error {
	open, err := a.store.OpenAmendments(ctx)
	if err != nil {
		return err
	}
	type about struct{ system, to string }
	mine := map[about]bool{}
	for _, s := range v.Plan.Steps {
		mine[about{s.SystemID, s.Right.ToID + s.Right.To}] = true
	}
	for _, other := range open {
		for _, s := range other.Plan.Steps {
			if other.ID != v.ID && mine[about{s.SystemID, s.Right.ToID + s.Right.To}] {
				return fmt.Errorf("%w: amendment %d about %s on %s is not over: 'moss amend show %d' says what it waits for", app.ErrRefused, other.ID, s.Subject, s.System, other.ID)
			}
		}
	}
	return nil
}

// launch works on one until it is finished or stopped.
func (a *Amendments) launch(v records.Amendment) {
	active := &running{decide: make(chan rotation.Decision), ended: make(chan struct{})}
	a.lock.Lock()
	if a.running[v.ID] != nil || !a.base.Begin() {
		a.lock.Unlock()
		return
	}
	a.running[v.ID] = active
	a.lock.Unlock()
	go func() {
		defer a.base.Work.Done()
		state, err := a.keepRunning(v, active)
		if state.Mode == rotation.ModeFinished && a.base.Context.Err() == nil {
			a.reread(v)
		}
		a.lock.Lock()
		delete(a.running, v.ID)
		a.lock.Unlock()
		close(active.ended)
		a.base.Topics.Wake(Topic(v.ID), "all")
		if a.after != nil && a.base.Context.Err() == nil {
			a.after(v.ID)
		}
		if err != nil && a.base.Context.Err() == nil {
			a.base.Log.Error("an amendment stopped", "amendment", v.ID, "error", err)
		}
	}()
}

// keepRunning goes on by itself where what it does could not be written down, as on a full disk.
func (a *Amendments) keepRunning(v records.Amendment, active *running) (rotation.State, error) {
	for pause := time.Second; ; pause = min(2*pause, time.Minute) {
		state, err := a.run(v, active)
		if err == nil || a.base.Context.Err() != nil || a.store.LedgerTrouble() != nil {
			return state, err
		}
		a.base.Log.Error("an amendment waits: what it does cannot be written down", "amendment", v.ID, "error", err)
		if connect.Wait(a.base.Context, pause) != nil {
			return state, err
		}
	}
}

func (a *Amendments) run(v records.Amendment, active *running) (rotation.State, error) {
	_, state, journal, err := a.state(a.base.Context, v.ID)
	if err != nil {
		return state, err
	}
	runner := &rotation.Runner{Plan: v.Plan, Journal: a.journal(v, state), Hands: &hands{amendments: a, id: v.ID, plan: v.Plan}, Now: a.base.Now, Wait: connect.Wait, Parallel: 8, PerSystem: 1, Decide: active.decide, Hold: a.freeze.Frozen}
	ctx, end := connect.KeepSessions(a.base.Context)
	defer end()
	if state, err = runner.Run(ctx, journal); err != nil {
		return state, err
	}
	return state, a.findings(v, state)
}

// reread surveys the systems whose rights changed, so that the picture is what is there now.
func (a *Amendments) reread(v records.Amendment) {
	seen := map[string]bool{}
	var names []string
	for _, s := range v.Plan.Steps {
		if !seen[s.System] {
			seen[s.System] = true
			names = append(names, s.System)
		}
	}
	if _, err := a.surveys.Start(a.base.Context, access.Service(), names); err != nil && a.base.Context.Err() == nil {
		a.base.Log.Warn("the systems of an amendment could not be read again", "amendment", v.ID, "error", err)
	}
}

// findings raises what a person must look at.
func (a *Amendments) findings(v records.Amendment, state rotation.State) error {
	f := records.Finding{Key: fmt.Sprintf("amendment/%d", v.ID), Kind: "rights-change", Severity: "high", Subject: v.Subject, Next: fmt.Sprintf("read it with 'moss amend show %d', then 'moss amend resume %d' or 'moss amend undo %d'", v.ID, v.ID, v.ID)}
	switch {
	case state.Mode == rotation.ModeStopped:
		f.What = fmt.Sprintf("amendment %d stopped and needs a decision: a part of the rights is changed", v.ID)
	case state.Result == rotation.FinishedWithFailures:
		f.What = fmt.Sprintf("amendment %d ended with failed steps", v.ID)
	case state.Result == rotation.FinishedUndoFailed:
		f.What = fmt.Sprintf("amendment %d could not be undone everywhere", v.ID)
	default:
		return a.store.SetFindings(context.WithoutCancel(a.base.Context), f.Key, nil)
	}
	for i, t := range state.Steps {
		if t.Status == rotation.Failed || t.Status == rotation.UndoFailed || t.Status == rotation.Unclear {
			f.System, f.What = v.Plan.Steps[i].System, f.What+": "+t.Words
			break
		}
	}
	return a.store.SetFindings(context.WithoutCancel(a.base.Context), f.Key, []records.Finding{f})
}
