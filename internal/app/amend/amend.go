// Package amend carries out what charters propose: rights and memberships are given and taken
// by the engine of rotations, which rehearses them, writes each intent before the act, finds
// out what became of an act whose answer was lost, and undoes.
//
// An amendment takes two people, whoever asks: whoever could give rights alone could give
// them to an account of their own. What is started is what was rehearsed, and only that.
package amend

import (
	"context"
	"errors"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/freeze"
	"mossledger.example/moss/internal/app/survey"
	"mossledger.example/moss/internal/app/underway"
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
	Dependent(ctx context.Context, id records.DependentID) (records.Dependent, error)
	DependentsOfAccount(ctx context.Context, account records.AccountID) ([]records.Dependent, error)
	HoldersOfKeyID(ctx context.Context, keyID string) ([]records.Dependent, error)
	DependentsOfKey(ctx context.Context, fingerprint string) ([]records.Dependent, error)
	LedgerTrouble() error
	SeenUses(ctx context.Context, account records.AccountID) ([]records.SeenUse, error)
	LinesOfCharter(ctx context.Context, id records.CharterID) ([]records.CharterLine, error)
	OpenAmendments(ctx context.Context) ([]records.Amendment, error)
	StewardLinks(ctx context.Context, account records.AccountID) ([]records.StewardLink, error)
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	Findings(ctx context.Context, all bool, q records.Query) (records.Page[records.Finding], error)
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
	underway *underway.Plans[records.AmendmentID]
}

// New makes one. It carries out its approvals.
func New(base *app.Base, store Store, targets Targets, approvals *approval.Approvals, surveys *survey.Surveys, frozen *freeze.Freeze) *Amendments {
	a := &Amendments{base: base, store: store, targets: targets, approval: approvals, surveys: surveys, freeze: frozen, underway: underway.New[records.AmendmentID](base)}
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

// Settled waits until what earlier ones changed has been read again.
func (a *Amendments) Settled(ctx context.Context) {
	a.underway.Settled(ctx, func(ctx context.Context, id records.AmendmentID) bool {
		v, err := a.store.Amendment(ctx, id)
		return err == nil && v.Mode == string(rotation.ModeFinished)
	}, a.surveys.ReadAgain)
}

// Halted says why one that is worked on does not go on; "" when it does.
func (a *Amendments) Halted(id records.AmendmentID) string { return a.underway.Halted(id) }

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
	out := records.AmendmentView{Amendment: v, Halted: a.Halted(id), Steps: []records.AmendmentStep{}, Decisions: []string{}}
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
		if _, until, is := state.Watching(a.base.Now()); is {
			out.Watches = until
		}
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
			return fmt.Errorf("%w: undoing a finished amendment changes what is in force once more: give a reason", app.ErrInput)
		}
		if !a.undoneAlone(v) {
			words, err := a.consented(ctx, by, v, reason, true)
			if err != nil {
				return err
			}
			record.Reason += " (" + words + ")"
		}
	}
	return a.tell(ctx, id, record)
}

// tell gives a decision to what works on it, or writes it and takes it up.
func (a *Amendments) tell(ctx context.Context, id records.AmendmentID, record rotation.Record) error {
	err := a.underway.Decide(ctx, id, record, func(underway bool) error { return a.decide(ctx, id, record, underway) })
	var unheard *underway.Unheard
	if errors.As(err, &unheard) {
		return refused(id, unheard.Err)
	}
	return err
}

// decide looks whether a decision may be made. Where nothing works on the amendment it writes
// it, and takes the amendment up.
func (a *Amendments) decide(ctx context.Context, id records.AmendmentID, record rotation.Record, underway bool) error {
	v, state, _, err := a.state(ctx, id)
	if err != nil {
		return err
	}
	if v.Mode == records.ModeRehearsed {
		return fmt.Errorf("%w: amendment %d was not started", app.ErrRefused, id)
	}
	if err := state.Takes(record.Result); err != nil {
		return refused(id, err)
	}
	if record.Result != rotation.DecideStop {
		if err := a.store.LedgerTrouble(); err != nil {
			return err
		}
		if err := a.alone(ctx, v); err != nil {
			return err
		}
	}
	if words := a.Halted(id); words != "" {
		return fmt.Errorf("%w: amendment %d takes no decision now: %s", app.ErrRefused, id, words)
	}
	if underway {
		return nil
	}
	record.Seq, record.Time = state.Last+1, a.base.Now().UTC()
	if err := a.journal(v, state).Append(ctx, record); err != nil {
		return err
	}
	if record.Result != rotation.DecideStop {
		a.launch(v)
	}
	return nil
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
	whom := func(s rotation.Step) string {
		switch {
		case s.End != nil:
			return s.End.ID + s.End.Name
		case s.Managed != nil:
			return s.Managed.DN
		case s.Right == nil: // a host as a whole
			return string(s.Dependent)
		}
		return s.Right.ToID + s.Right.To
	}
	mine := map[about]bool{}
	for _, s := range v.Plan.Steps {
		mine[about{s.SystemID, whom(s)}] = true
	}
	for _, other := range open {
		for _, s := range other.Plan.Steps {
			if other.ID != v.ID && mine[about{s.SystemID, whom(s)}] {
				return fmt.Errorf("%w: amendment %d about %s on %s is not over: 'moss amend show %d' says what it waits for", app.ErrRefused, other.ID, s.Subject, s.System, other.ID)
			}
		}
	}
	return nil
}

// launch works on one until it is finished or stopped.
func (a *Amendments) launch(v records.Amendment) {
	a.underway.Launch(v.ID, underway.Work{
		Run:  func(p *underway.Plan) (rotation.State, error) { return a.run(v, p) },
		Over: func(error) bool { return a.store.LedgerTrouble() != nil },
		Waits: func(words string, err error) {
			a.base.Log.Error("an amendment waits", "amendment", v.ID, "error", err)
			a.base.Topics.Wake(Topic(v.ID), "all")
			key := waitsKey(v.ID)
			// The finding can perhaps not be written either: the log has it.
			_ = a.store.SetFindings(a.base.Context, key, []records.Finding{{Key: key, Kind: findingOf(v), Severity: "high", Subject: v.Subject, What: fmt.Sprintf("amendment %d: %s", v.ID, words), Next: "make room on the disk of the data folder, or see the log"}})
		},
		Ended: func(state rotation.State) {
			if state.Mode == rotation.ModeFinished {
				a.reread(v)
			}
		},
		After: func(_ rotation.State, err error) {
			a.base.Topics.Wake(Topic(v.ID), "all")
			if a.base.Context.Err() != nil {
				return
			}
			if a.after != nil {
				a.after(v.ID)
			}
			if err != nil {
				a.base.Log.Error("an amendment stopped", "amendment", v.ID, "error", err)
			}
		},
	})
}

func (a *Amendments) run(v records.Amendment, p *underway.Plan) (rotation.State, error) {
	_, state, records, err := a.state(a.base.Context, v.ID)
	if err != nil {
		return state, err
	}
	journal := a.journal(v, state)
	journal.written = p.Goes
	runner := &rotation.Runner{Plan: v.Plan, Journal: journal, Hands: &hands{amendments: a, id: v.ID, plan: v.Plan}, Now: a.base.Now, Wait: app.WaitLooking, Parallel: 8, PerSystem: 1, Decide: p.Decisions, Hold: a.freeze.Frozen}
	ctx, end := connect.KeepSessions(a.base.Context)
	defer end()
	if state, err = runner.Run(ctx, records); err != nil {
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
	f := records.Finding{Key: fmt.Sprintf("amendment/%d", v.ID), Kind: findingOf(v), Severity: "high", Subject: v.Subject, Next: fmt.Sprintf("read it with 'moss amend show %d', then 'moss amend resume %d' or 'moss amend undo %d'", v.ID, v.ID, v.ID)}
	switch {
	case state.Mode == rotation.ModeStopped:
		f.What = fmt.Sprintf("amendment %d stopped and needs a decision: a part of it is done", v.ID)
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
