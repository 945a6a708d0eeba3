// Package prove tries which of a charter's rights a job needs, with a scratch account: rights
// are given by an amendment, which a second person approves with the job, taken away in turn,
// and taken back by the same amendment at the end, whatever happens in between.
package prove

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/charters"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/proving"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// Label is what an account must have that things are tried with: an administrator puts it.
const Label = "scratch"

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AddProof(ctx context.Context, v records.CharterProof, entries ...ledger.Entry) (records.ProofID, error)
	Amendment(ctx context.Context, id records.AmendmentID) (records.Amendment, error)
	OpenProofs(ctx context.Context) ([]records.CharterProof, error)
	PasswordOf(ctx context.Context, account records.AccountID) (records.Credential, error)
	Proof(ctx context.Context, id records.ProofID) (records.CharterProof, error)
	ProofOfAmendment(ctx context.Context, id records.AmendmentID) (records.CharterProof, error)
	ProofIs(ctx context.Context, v records.CharterProof, entries ...ledger.Entry) error
	SystemByID(ctx context.Context, id records.SystemID) (records.System, error)
}

// Targets says how a system is reached.
type Targets interface {
	Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error)
}

// Proofs makes experiments. Safe for concurrent use.
type Proofs struct {
	base       *app.Base
	store      Store
	targets    Targets
	sealed     *sealed.Keeper
	charters   *charters.Charters
	amendments *amend.Amendments

	lock    sync.Mutex
	running map[records.ProofID]context.CancelFunc
}

// New makes one.
func New(base *app.Base, store Store, targets Targets, keeper *sealed.Keeper, known *charters.Charters, amendments *amend.Amendments) *Proofs {
	p := &Proofs{base: base, store: store, targets: targets, sealed: keeper, charters: known, amendments: amendments, running: map[records.ProofID]context.CancelFunc{}}
	amendments.After(func(id records.AmendmentID) { p.look(base.Context, id) })
	return p
}

// Wish is what is to be tried.
type Wish struct {
	Charter string
	Account records.AccountID
	Job     string // a step a line
	Reason  string
}

// Start gives a scratch account what a charter says, and tries a job with it; once a second
// person has approved both. Then the error is an *amend.WaitsError.
func (p *Proofs) Start(ctx context.Context, by access.Actor, wish Wish) (v records.CharterProof, err error) {
	if err := access.Decide(by, access.StartProof, access.Object{Kind: "charter", Name: wish.Charter}); err != nil {
		return v, err
	}
	job, err := proving.ParseJob(wish.Job)
	if err != nil {
		return v, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	if strings.TrimSpace(wish.Reason) == "" {
		return v, fmt.Errorf("%w: give a reason", app.ErrInput)
	}
	p.amendments.Settled(ctx)
	a, err := p.scratch(ctx, wish.Account)
	if err != nil {
		return v, err
	}
	c, lines, err := p.charters.Against(ctx, wish.Charter, a)
	if err != nil {
		return v, err
	}
	v = records.CharterProof{Charter: c.Name, Version: c.Version, AccountID: a.ID, Account: a.Name, System: a.System, SystemID: a.SystemID, Job: job, Beside: []string{}, Rights: []string{}, Reason: wish.Reason, State: records.ProofWaits, CreatedBy: by.Name, Report: proving.Report{With: []proving.Tried{}, Items: []proving.Item{}, Again: []proving.Tried{}}}
	changes, err := p.changes(ctx, a, lines, &v)
	if err != nil {
		return v, err
	}
	rehearsed, err := p.amendments.Rehearse(ctx, by, amend.Wish{Charter: c.Name, Changes: changes, OnFailure: rotation.UndoOnFailure})
	if err != nil {
		return v, err
	}
	for _, check := range rehearsed.Checks {
		if check.Result != connect.CheckOK {
			return v, fmt.Errorf("%w: %s: %s: %s", app.ErrRefused, check.System, check.What, check.Words)
		}
	}
	v.AmendmentID = rehearsed.ID
	if v.ID, err = p.store.AddProof(ctx, v, p.entry(v, "proof.start", ledger.Intent)); err != nil {
		return v, err
	}
	var shown []ledger.Change
	for i, step := range job {
		shown = append(shown, ledger.Change{Field: fmt.Sprintf("done as %s, step %d", a.Name, i+1), To: step})
	}
	if _, err = p.amendments.Start(ctx, by, rehearsed.ID, wish.Reason, shown...); err != nil {
		var waits *amend.WaitsError
		if !errors.As(err, &waits) {
			v.State, v.Words = records.ProofStopped, err.Error()
			return v, errors.Join(err, p.store.ProofIs(ctx, v))
		}
	}
	return v, err
}

func (p *Proofs) entry(v records.CharterProof, act string, phase string) ledger.Entry {
	return ledger.Entry{Actor: v.CreatedBy, Act: act, Phase: phase, Subject: v.Charter, System: v.System, Reason: v.Reason, Ref: fmt.Sprintf("proof/%d", v.ID), Detail: "with the scratch account " + v.Account}
}

// endedBy is the entry of an end that somebody else than who began it has made.
func (p *Proofs) endedBy(by access.Actor, v records.CharterProof) ledger.Entry {
	entry := p.entry(v, "proof.end", ledger.Outcome)
	entry.Actor, entry.Result, entry.Detail = by.Name, "done", v.Words
	return entry
}

// scratch is the account, if things may be tried with it.
func (p *Proofs) scratch(ctx context.Context, id records.AccountID) (records.Account, error) {
	a, err := p.store.Account(ctx, id)
	switch {
	case err != nil:
		return a, err
	case !slices.Contains(a.Labels, Label):
		return a, fmt.Errorf("%w: %s on %s has not the label %s: what it may do changes from moment to moment, so an administrator says first that nothing uses it ('moss label put')", app.ErrRefused, a.Name, a.System, Label)
	case a.Dependents > 0:
		return a, fmt.Errorf("%w: %s on %s is used by %d dependents: it is no scratch account", app.ErrRefused, a.Name, a.System, a.Dependents)
	case !a.Custody:
		return a, fmt.Errorf("%w: %s on %s is not in custody: it is signed in with, so take it first", app.ErrRefused, a.Name, a.System)
	}
	return a, nil
}

// changes are what the account has to be given; what it has beside is noted.
func (p *Proofs) changes(ctx context.Context, a records.Account, lines []records.CharterLine, v *records.CharterProof) (out []building.Amended, err error) {
	system, err := p.store.SystemByID(ctx, a.SystemID)
	if err != nil {
		return nil, err
	}
	connector, target, err := p.targets.Target(ctx, system)
	if err != nil {
		return nil, err
	}
	if !connector.Describe().Can(connect.ActTry) {
		return nil, fmt.Errorf("%w: jobs are not tried on systems of the kind %s", app.ErrCannot, system.Kind)
	}
	for _, l := range lines {
		switch {
		case l.Section == charter.SectionMust && l.State == charter.StateMissing && l.Change != nil:
			if _, unfit := connect.Amendable(connector, target, *l.Change); unfit != nil {
				v.Beside = append(v.Beside, l.Item+": not tried: "+unfit.Words)
				continue
			}
			out = append(out, building.Amended{SystemID: fmt.Sprint(a.SystemID), System: a.System, Change: *l.Change})
			v.Rights = append(v.Rights, l.Change.Words())
		case l.Section == charter.SectionMust && l.State == charter.StateMissing:
			v.Beside = append(v.Beside, l.Item+": not tried: "+l.NoProposal)
		case l.Section == charter.SectionMust && l.State == charter.StateMet:
			v.Beside = append(v.Beside, l.Item+": it has that already")
		case l.State == charter.StateExcess || l.State == charter.StateForbidden:
			v.Beside = append(v.Beside, "it has beside: "+l.Item)
		case l.State == charter.StateUnknown:
			v.Beside = append(v.Beside, l.Item+": not known: "+l.Why)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: the charter %s gives %s nothing that could be tried: %s", app.ErrRefused, v.Charter, a.Name, strings.Join(v.Beside, "; "))
	}
	return out, nil
}

// Recover takes up what an earlier run of the service left: what was being tried is over, and
// what was given for it is taken back.
func (p *Proofs) Recover(ctx context.Context) error {
	open, err := p.store.OpenProofs(ctx)
	if err != nil {
		return err
	}
	for _, v := range open {
		if v.State == records.ProofRunning {
			over := v.Words == tried
			v.State, v.Words = records.ProofStopped, "the service ended while it was tried: what was given is taken back"
			if over {
				v.State, v.Words = records.ProofFinished, ""
			}
			if err := p.store.ProofIs(ctx, v, p.endedBy(access.Service(), v)); err != nil {
				return err
			}
			p.takeBack(ctx, v)
			continue
		}
		p.look(ctx, v.AmendmentID)
	}
	return nil
}

// look begins the proof that an amendment was made for, if that is done.
func (p *Proofs) look(ctx context.Context, id records.AmendmentID) {
	v, err := p.store.ProofOfAmendment(ctx, id)
	if errors.Is(err, app.ErrNotFound) {
		return // it was made for its own sake
	}
	made, failed := p.store.Amendment(ctx, id)
	if err = errors.Join(err, failed); err != nil {
		p.base.Log.Error("a proof could not be read", "amendment", id, "error", err)
		return
	}
	switch done := made.Result == rotation.FinishedDone; {
	case done && v.State == records.ProofWaits:
		p.launch(v)
	case done && v.State == records.ProofStopped: // before it was approved
		p.takeBack(ctx, v)
	case v.State == records.ProofWaits && (made.Mode == string(rotation.ModeFinished) || made.Mode == string(rotation.ModeStopped)):
		v.State, v.Words = records.ProofStopped, fmt.Sprintf("its rights could not be given: 'moss amend show %d' says why", id)
		if err := p.store.ProofIs(ctx, v, p.entry(v, "proof.end", ledger.Outcome)); err != nil {
			p.base.Log.Error("a proof could not be written", "proof", v.ID, "error", err)
		}
	}
}

// takeBack undoes what was given for one. Where that is not done at once the amendment goes on
// with it by itself, or is a finding.
func (p *Proofs) takeBack(ctx context.Context, v records.CharterProof) {
	if err := p.amendments.TakeBack(ctx, v.AmendmentID, fmt.Sprintf("proof %d has ended", v.ID)); err != nil && ctx.Err() == nil {
		p.base.Log.Error("what was given for a proof is not taken back", "proof", v.ID, "error", err)
	}
}

// tried stands with a proof that is over, until what was given for it is on its way back.
const tried = "it was tried, and what was given is being taken back"

// longest is how long a proof may take.
const longest = time.Hour

func (p *Proofs) launch(v records.CharterProof) {
	ctx, cancel := context.WithTimeout(p.base.Context, longest)
	p.lock.Lock()
	if p.running[v.ID] != nil || !p.base.Begin() {
		p.lock.Unlock()
		cancel()
		return
	}
	p.running[v.ID] = cancel
	p.lock.Unlock()
	go func() {
		defer p.base.Work.Done()
		defer cancel()
		err := p.run(ctx, &v)
		p.lock.Lock()
		delete(p.running, v.ID)
		p.lock.Unlock()
		if p.base.Context.Err() != nil {
			return // the next run of the service takes it up
		}
		v.Words = tried
		if err := p.store.ProofIs(p.base.Context, v); err != nil {
			p.base.Log.Error("a proof could not be written", "proof", v.ID, "error", err)
		}
		p.takeBack(p.base.Context, v)
		v.State, v.Words = records.ProofFinished, ""
		if err != nil {
			v.State, v.Words = records.ProofStopped, p.base.Redact(p.base.Context, err.Error())
			if errors.Is(err, context.Canceled) {
				v.Words = "it was stopped"
			}
		}
		v.Judge()
		entry := p.entry(v, "proof.end", ledger.Outcome)
		entry.Result, entry.Detail = "done", strings.TrimSpace(v.Verdict+" "+v.Words)
		if err := p.store.ProofIs(p.base.Context, v, entry); err != nil {
			p.base.Log.Error("a proof could not be written", "proof", v.ID, "error", err)
		}
		p.base.Topics.Wake("all")
	}()
}

func (p *Proofs) run(ctx context.Context, v *records.CharterProof) error {
	v.State = records.ProofRunning
	if err := p.store.ProofIs(ctx, *v); err != nil {
		return err
	}
	p.base.Topics.Wake("all")
	w, err := p.world(ctx, *v)
	if err != nil {
		return err
	}
	v.Report, err = proving.Prove(ctx, v.Rights, v.Job, w)
	p.redact(ctx, &v.Report)
	return err
}

// redact leaves out what is in custody of what systems said.
func (p *Proofs) redact(ctx context.Context, r *proving.Report) {
	lists := [][]proving.Tried{r.With, r.Again}
	for i := range r.Items {
		r.Items[i].Words = p.base.Redact(ctx, r.Items[i].Words)
		lists = append(lists, r.Items[i].Fails)
	}
	for _, list := range lists {
		for i := range list {
			list[i].Words = p.base.Redact(ctx, list[i].Words)
		}
	}
}

// world is the system of a scratch account: rights are changed by its steward, and steps are
// done as the account.
type world struct {
	connector connect.Connector
	steward   connect.Target
	scratch   connect.Target
	changes   []rotation.Step
}

func (p *Proofs) world(ctx context.Context, v records.CharterProof) (*world, error) {
	a, err := p.scratch(ctx, v.AccountID)
	if err != nil {
		return nil, err
	}
	system, err := p.store.SystemByID(ctx, v.SystemID)
	if err != nil {
		return nil, err
	}
	made, err := p.store.Amendment(ctx, v.AmendmentID)
	if err != nil {
		return nil, err
	}
	w := &world{}
	if w.connector, w.steward, err = p.targets.Target(ctx, system); err != nil {
		return nil, err
	}
	credential, err := p.store.PasswordOf(ctx, v.AccountID)
	if err != nil {
		return nil, err
	}
	values, err := p.sealed.Values(ctx, credential.ID)
	if err != nil {
		return nil, err
	}
	if values.Current.Empty() {
		return nil, fmt.Errorf("%w: no password of %s is in custody", app.ErrRefused, a.Name)
	}
	w.scratch = w.steward
	w.scratch.Steward = connect.Steward{Account: a.Name, Password: values.Current}
	if a.DN != "" && w.connector.Describe().Class == "directory" {
		w.scratch.Steward.Account = a.DN
	}
	if user, _, has := strings.Cut(a.Name, "@"); has && string(system.Kind) == "mariadb" { // the host is where it may come from
		w.scratch.Steward.Account = user
	}
	for _, step := range made.Plan.Steps {
		if step.Kind == rotation.StepGive {
			w.changes = append(w.changes, step)
		}
	}
	return w, nil
}

func (w *world) change(ctx context.Context, item int, back bool) error {
	// Giving back is worth more than the end of the whole: it is done although that is stopped.
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Minute)
	defer cancel()
	var err error
	for pause := time.Second; ; pause *= 2 {
		if err = w.connector.Amend(limited, w.steward, *w.changes[item].Right, back); err == nil || connect.Wait(limited, pause) != nil {
			break
		}
		if code := connect.CodeOf(err); code != connect.CodeUnreachable && code != connect.CodeTimeout && !connect.IsUnclear(err) {
			break // it answered
		}
	}
	return err
}

// Take implements proving.World.
func (w *world) Take(ctx context.Context, item int) error { return w.change(ctx, item, true) }

// Give implements proving.World.
func (w *world) Give(ctx context.Context, item int) error { return w.change(ctx, item, false) }

// Try implements proving.World.
func (w *world) Try(ctx context.Context, step string) (bool, string, error) {
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tried, err := w.connector.Try(limited, w.scratch, step)
	return tried.OK, secret.Scrub(tried.Words, w.scratch.Steward.Password), err
}

// unapproved is how long one waits: its request has ended by then.
const unapproved = 25 * time.Hour

// Forget ends those that nobody approved in time.
func (p *Proofs) Forget(ctx context.Context) error {
	open, err := p.store.OpenProofs(ctx)
	if err != nil {
		return err
	}
	for _, v := range open {
		if v.State == records.ProofWaits && p.base.Now().Sub(v.Created) > unapproved {
			v.State, v.Words = records.ProofStopped, "nobody approved it in time"
			if err := p.store.ProofIs(ctx, v, p.endedBy(access.Service(), v)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Stop ends one that runs, and takes back what was given.
func (p *Proofs) Stop(ctx context.Context, by access.Actor, id records.ProofID) (records.CharterProof, error) {
	if err := access.Decide(by, access.StopProof, access.Object{Kind: "proof", Name: fmt.Sprint(id)}); err != nil {
		return records.CharterProof{}, err
	}
	v, err := p.store.Proof(ctx, id)
	if err != nil {
		return v, err
	}
	p.lock.Lock()
	cancel := p.running[id]
	p.lock.Unlock()
	switch {
	case cancel != nil:
		entry := p.entry(v, "proof.stop", ledger.Outcome)
		entry.Actor, entry.Result = by.Name, "done"
		if err := p.base.Record(ctx, entry); err != nil {
			return v, err
		}
		cancel()
	case v.State == records.ProofWaits:
		v.State, v.Words = records.ProofStopped, "it was stopped before it began"
		return v, p.store.ProofIs(ctx, v, p.endedBy(by, v))
	default:
		return v, fmt.Errorf("%w: proof %d is %s", app.ErrRefused, id, v.State)
	}
	return v, nil
}
