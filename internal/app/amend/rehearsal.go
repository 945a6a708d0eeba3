package amend

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// RehearsalAge is how long a rehearsal that passed can be started; one that waits for a second
// person is rehearsed once more before it begins.
const RehearsalAge = time.Hour

// waitsFor is how long a request for a second person waits.
const waitsFor = 24 * time.Hour

// MostChanges is how many changes one amendment has at most.
const MostChanges = 200

// Wish says which of what charters propose is to be done.
type Wish struct {
	Charter   string
	Account   records.AccountID // 0 for all of the charter
	Lines     []records.CharterLineID
	States    []charter.State // missing and forbidden when empty; ignored where lines are named
	OnFailure rotation.OnFailure
	// Changes are in the place of lines where a proof gives rights to a scratch account.
	Changes []building.Amended
}

// Rehearse makes a plan of what charters propose and checks what can be checked without
// changing anything: how each thing stands now, by its system's own answer.
func (a *Amendments) Rehearse(ctx context.Context, by access.Actor, wish Wish) (records.Amendment, error) {
	var v records.Amendment
	if err := access.Decide(by, access.RehearseAmendment, access.Object{Kind: "charter", Name: wish.Charter}); err != nil {
		return v, err
	}
	if len(wish.Changes) == 0 {
		a.Settled(ctx)
	}
	changes, left, subjects, err := wish.Changes, []string{}, []string{}, error(nil)
	if len(changes) == 0 {
		if changes, left, subjects, err = a.wanted(ctx, wish); err != nil {
			return v, err
		}
	} else {
		subjects = append(subjects, changes[0].Change.To+" on "+changes[0].System+", a scratch account")
	}
	v = records.Amendment{Charter: wish.Charter, LeftOut: left, Rehearsed: a.base.Now().UTC(), RehearsedBy: by.Name, Mode: records.ModeRehearsed}
	v.Subject = strings.Join(subjects[:min(len(subjects), 3)], ", ")
	if more := len(subjects) - 3; more > 0 {
		v.Subject += fmt.Sprintf(" and %d more", more)
	}
	v.Plan = building.Amend(v.Subject, changes, cmp.Or(wish.OnFailure, rotation.UndoOnFailure))
	entry := ledger.Entry{Actor: by.Name, Act: "amendment.rehearse", Subject: v.Subject, Detail: "by the charter " + wish.Charter}
	if err := a.base.Act(ctx, entry, func() error {
		v.Checks, v.Verdict = a.checks(ctx, v.Plan)
		return nil
	}); err != nil {
		return v, err
	}
	err = a.store.AddAmendment(context.WithoutCancel(ctx), &v)
	v.Changes = len(changes)
	return v, err
}

// takes says whether a line is wished for.
func (w Wish) takes(l records.CharterLine) bool {
	states := w.States
	if len(states) == 0 {
		states = []charter.State{charter.StateMissing, charter.StateForbidden}
	}
	if w.Account != 0 && l.AccountID != w.Account {
		return false
	}
	if len(w.Lines) > 0 {
		return slices.Contains(w.Lines, l.ID)
	}
	return slices.Contains(states, l.State)
}

// wanted are the changes of the lines that are wished for, and what only a person can do.
func (a *Amendments) wanted(ctx context.Context, wish Wish) (changes []building.Amended, left, subjects []string, err error) {
	if !slices.Contains([]rotation.OnFailure{"", rotation.UndoOnFailure, rotation.StopOnFailure, rotation.ContinueOnFailure}, wish.OnFailure) {
		return nil, nil, nil, fmt.Errorf("%w: on failure an amendment is undone, stops or continues, not %q", app.ErrInput, wish.OnFailure)
	}
	c, err := a.store.Charter(ctx, wish.Charter)
	if err != nil {
		return nil, nil, nil, err
	}
	lines, err := a.store.LinesOfCharter(ctx, c.ID)
	if err != nil {
		return nil, nil, nil, err
	}
	left = []string{}
	unfound := slices.Clone(wish.Lines)
	seen := map[string]bool{}
	for _, l := range lines {
		unfound = slices.DeleteFunc(unfound, func(id records.CharterLineID) bool { return id == l.ID })
		if !wish.takes(l) {
			continue
		}
		at := cmp.Or(l.Account, "the groups") + " on " + l.System + ": " + l.Item
		if l.State == charter.StateMet || l.State == charter.StateUnknown || l.Change == nil {
			if l.State != charter.StateMet {
				left = append(left, at+": "+cmp.Or(l.NoProposal, l.Why, "nothing that could be changed on the system is behind it"))
			}
			continue
		}
		system, err := a.store.SystemByID(ctx, l.SystemID)
		if err != nil {
			return nil, nil, nil, err
		}
		connector, target, err := a.targets.Target(ctx, system)
		if err == nil {
			if _, unfit := connect.Amendable(connector, target, *l.Change); unfit != nil {
				err = unfit
			}
		}
		if err != nil {
			left = append(left, at+": "+words(err))
			continue
		}
		key, _ := json.Marshal([]any{l.SystemID, l.Change})
		if seen[string(key)] {
			continue
		}
		seen[string(key)] = true
		changes = append(changes, building.Amended{SystemID: fmt.Sprint(l.SystemID), System: l.System, Change: *l.Change})
		if name := l.Change.To + " on " + l.System; !slices.Contains(subjects, name) {
			subjects = append(subjects, name)
		}
	}
	switch {
	case len(unfound) > 0:
		err = fmt.Errorf("%w: line %d is none of the charter %s now: 'moss charter lines' lists them", app.ErrInput, unfound[0], wish.Charter)
	case len(changes) > MostChanges:
		err = fmt.Errorf("%w: %d changes are more than one amendment takes (%d): name an account, or lines", app.ErrInput, len(changes), MostChanges)
	case len(changes) == 0 && len(left) > 0:
		err = fmt.Errorf("%w: nothing of it can be carried out from here: %s", app.ErrRefused, strings.Join(left[:min(len(left), 5)], "; "))
	case len(changes) == 0:
		err = fmt.Errorf("%w: the charter %s proposes nothing of that: 'moss charter check %s' says how it stands", app.ErrInput, wish.Charter, wish.Charter)
	}
	return changes, left, subjects, err
}

// words are those of a failure without what everything says already.
func words(err error) string {
	var f *connect.Failure
	if errors.As(err, &f) {
		return f.Words
	}
	return err.Error()
}

// checks asks each system how its things stand. Systems are asked one after the other: they
// are few, and each is asked with one sign-in.
func (a *Amendments) checks(ctx context.Context, plan rotation.Plan) (out []connect.Checked, verdict string) {
	ctx, end := connect.KeepSessions(ctx)
	defer end()
	out, verdict = []connect.Checked{}, "passed"
	watched := slices.ContainsFunc(plan.Steps, func(s rotation.Step) bool { return s.Kind == rotation.StepWatch })
	for _, step := range plan.Steps {
		switch step.Kind {
		case rotation.StepConfirm, rotation.StepProve:
			continue
		case rotation.StepRestart:
			lines := a.checkHost(ctx, step)
			for _, l := range lines {
				if l.Result == connect.CheckFailed {
					verdict = "failed"
				}
			}
			out = append(out, lines...)
			continue
		case rotation.StepWatch:
			out = append(out, a.checkWatch(ctx, step))
			continue
		}
		if step.End != nil || step.Managed != nil {
			lines := a.checkChange(ctx, step)
			for i, l := range lines {
				if watched && l.What == wayBack {
					lines[i].Next = "until it is deleted, undoing lets it in again"
				}
				if l.Result == connect.CheckFailed {
					verdict = "failed"
				}
			}
			out = append(out, lines...)
			continue
		}
		system, connector, target, err := a.reach(ctx, step)
		var standing connect.Standing
		if err == nil {
			standing, err = connector.Standing(ctx, target, *step.Right)
		}
		line, over := stands(step, standing, err)
		switch {
		case over && connect.CodeOf(err) == connect.CodeGone && creates(plan, step.Right.ToDN):
			line.Result, line.Words, line.Next = connect.CheckOK, "once the account is there", ""
		case over:
		case !step.Right.Give && (strings.EqualFold(step.Right.To, target.Steward.Account) || step.Right.ToDN != "" && strings.EqualFold(step.Right.ToDN, target.Steward.Account)):
			line.Result, line.Words = connect.CheckFailed, "it is the account by which "+system.Name+" is reached: taking something from it could lock us out"
			line.Next = "its owner takes it, with another steward at hand"
		default:
			line.Words += "; not tried: whether the steward may change it"
		}
		if line.Result == connect.CheckFailed {
			verdict = "failed"
		}
		out = append(out, line)
	}
	return out, verdict
}

// creates: a plan creates the account that stands there.
func creates(plan rotation.Plan, dn string) bool {
	return slices.ContainsFunc(plan.Steps, func(s rotation.Step) bool {
		return s.Managed != nil && s.Managed.Act == managed.Create && s.Managed.DN == dn
	})
}

// stands is what a rehearsal says of a step, by how its system says that it stands. over: there is
// no more to say, for it is so already, or could not be asked.
func stands(step rotation.Step, is connect.Standing, err error) (line connect.Checked, over bool) {
	line = connect.Checked{System: step.System, What: step.Title(), Result: connect.CheckOK, Words: is.Words}
	var f *connect.Failure
	switch {
	case errors.As(err, &f):
		line.Result, line.Words, line.Next = connect.CheckFailed, string(f.Stage)+": "+f.Words, f.Next
	case err != nil:
		line.Result, line.Words = connect.CheckFailed, err.Error()
	case is.There == wanted(step):
		line.Result, line.Words = connect.CheckWarning, "it is so already: "+is.Words
		line.Next = "it is left as it is, also when this is undone"
	default:
		return line, false
	}
	return line, true
}

func (a *Amendments) reach(ctx context.Context, step rotation.Step) (records.System, connect.Connector, connect.Target, error) {
	system, err := a.store.SystemByID(ctx, app.Number[records.SystemID](step.SystemID))
	if err != nil {
		return system, nil, connect.Target{}, err
	}
	connector, target, err := a.targets.Target(ctx, system)
	return system, connector, target, err
}

// Start begins what was rehearsed, once a second person has approved it; then the error says
// so and is a *WaitsError. also is what an approver is shown beside the changes.
func (a *Amendments) Start(ctx context.Context, by access.Actor, id records.AmendmentID, reason string, also ...ledger.Change) (records.Amendment, error) {
	v, err := a.store.Amendment(ctx, id)
	if err != nil {
		return v, err
	}
	if err := access.Decide(by, access.StartAmendment, access.Object{Kind: "amendment", Name: Topic(id)}); err != nil {
		return v, err
	}
	switch {
	case strings.TrimSpace(reason) == "":
		return v, fmt.Errorf("%w: give a reason", app.ErrInput)
	case v.Mode != records.ModeRehearsed:
		return v, fmt.Errorf("%w: amendment %d was started already", app.ErrRefused, id)
	case v.Verdict != "passed":
		return v, fmt.Errorf("%w: its rehearsal failed: mend what it names and rehearse again", app.ErrRefused)
	case a.base.Now().Sub(v.Rehearsed) > RehearsalAge:
		return v, fmt.Errorf("%w: its rehearsal is older than %s: rehearse again", app.ErrRefused, RehearsalAge)
	}
	if err := a.freeze.Refuse(); err != nil {
		return v, err
	}
	consent := "it takes access away, and can be undone: one person is enough"
	if takesTwo(v) {
		if consent, err = a.consented(ctx, by, v, reason, false, also...); err != nil {
			return v, err
		}
	}
	v.RequestedBy, v.Reason, v.Consent = by.Name, reason, consent
	return a.begin(ctx, v)
}

func (a *Amendments) begin(ctx context.Context, v records.Amendment) (records.Amendment, error) {
	err := a.underway.Alone(func() error { return a.open(ctx, v) })
	if err != nil {
		return v, err
	}
	a.base.Topics.Wake("all")
	return a.store.Amendment(ctx, v.ID)
}

func (a *Amendments) open(ctx context.Context, v records.Amendment) error {
	if err := a.store.LedgerTrouble(); err != nil {
		return err
	}
	if err := a.alone(ctx, v); err != nil {
		return err
	}
	entry := ledger.Entry{Actor: v.RequestedBy, Act: "amendment.start", Phase: ledger.Intent, Subject: v.Subject, Reason: v.Reason, Ref: Topic(v.ID), Detail: v.Consent, Changes: changesOf(v)}
	if err := a.store.BeginAmendment(ctx, v, entry); err != nil {
		return err
	}
	a.launch(v)
	return nil
}

func changesOf(v records.Amendment) (out []ledger.Change) {
	for _, s := range v.Plan.Steps {
		switch s.Kind {
		case rotation.StepGive:
			out = append(out, ledger.Change{Field: s.Subject + " on " + s.System, To: s.Right.Words()})
		case rotation.StepTake:
			out = append(out, ledger.Change{Field: s.Subject + " on " + s.System, From: s.Right.Words()})
		case rotation.StepRestart:
			out = append(out, ledger.Change{Field: s.System, To: s.Title()})
		case rotation.StepEnd:
			out = append(out, ledger.Change{Field: s.Subject + " on " + s.System, To: s.End.Words()})
		case rotation.StepManage:
			out = append(out, ledger.Change{Field: s.Subject + " on " + s.System, To: s.Managed.Words()})
			for _, d := range s.Managed.Details() {
				out = append(out, ledger.Change{Field: d[0] + " of " + s.Subject, To: d[1]})
			}
		}
	}
	return out
}

// WaitsError is that an amendment waits for a second person.
type WaitsError struct{ Approval records.ApprovalID }

func (e *WaitsError) Error() string {
	return fmt.Sprintf("this takes a second person: approval %d was asked for, and it begins once that is granted", e.Approval)
}

// Unwrap says that it is refused for now.
func (e *WaitsError) Unwrap() error { return app.ErrRefused }

// asked is what an approver is asked for.
type asked struct {
	Amendment records.AmendmentID `json:"amendment"`
	Undo      bool                `json:"undo,omitempty"`
	Digest    string              `json:"digest"` // of the plan: what is begun is what was approved
}

// digestOf is the mark of a plan.
func digestOf(plan rotation.Plan) string {
	raw, err := json.Marshal(plan)
	if err != nil {
		return "" // it was read from JSON
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// consented says why it may begin: nobody else could approve it. Else it is asked for.
func (a *Amendments) consented(ctx context.Context, by access.Actor, v records.Amendment, reason string, undo bool, also ...ledger.Change) (string, error) {
	alone, err := a.approval.Alone(ctx, by.Name)
	if err != nil {
		return "", err
	}
	if alone {
		return "nobody else could approve it", nil
	}
	detail, err := json.Marshal(asked{v.ID, undo, digestOf(v.Plan)})
	if err != nil {
		return "", err
	}
	if v.ApprovalID != 0 { // it may be asked for already
		before, err := a.store.Approval(ctx, v.ApprovalID)
		if err != nil {
			return "", err
		}
		if before.State == records.ApprovalAsked && by.Is(before.AskedBy) && string(before.Detail) == string(detail) && a.base.Now().Before(before.Expires) {
			return "", &WaitsError{v.ApprovalID}
		}
	}
	request := records.Approval{Kind: approval.KindAmendment, Subject: Topic(v.ID), What: whatOf(v), Reason: reason, AskedBy: by.Name, Detail: detail, Changes: changesOf(v), Expires: a.base.Now().UTC().Add(waitsFor)}
	request.Changes = append(request.Changes, also...)
	if undo {
		request.What = "undo: " + whatOf(v)
		for i, c := range request.Changes {
			request.Changes[i].From, request.Changes[i].To = c.To, c.From
		}
	}
	id, err := a.approval.Ask(ctx, request, ledger.Entry{Act: "amendment.start", Ref: Topic(v.ID)})
	if err != nil {
		return "", err
	}
	a.base.Topics.Wake("all")
	if err := a.store.AmendmentWaits(ctx, v.ID, id); err != nil {
		return "", err
	}
	return "", &WaitsError{id}
}

// carryOut begins what was approved, if how things stand has not changed since.
func (a *Amendments) carryOut(ctx context.Context, by, asker access.Actor, request records.Approval) error {
	var what asked
	if err := json.Unmarshal(request.Detail, &what); err != nil {
		return fmt.Errorf("%w: it was asked for in another version (%w): ask again", app.ErrRefused, err)
	}
	v, err := a.store.Amendment(ctx, what.Amendment)
	if err != nil {
		return err
	}
	if what.Digest == "" || what.Digest != digestOf(v.Plan) {
		return fmt.Errorf("%w: the plan of amendment %d is not what was approved: rehearse and ask again", app.ErrRefused, v.ID)
	}
	consent := fmt.Sprintf("approved by %s, approval %d", by.Name, request.ID)
	if what.Undo {
		record := rotation.Record{Event: rotation.EventDecision, Step: -1, Result: rotation.DecideUndo, Actor: asker.Name, Reason: request.Reason + " (" + consent + ")"}
		if err := a.tell(ctx, v.ID, record); err != nil {
			return err
		}
		return nil
	}
	if err := a.freeze.Refuse(); err != nil {
		return err
	}
	checks, verdict := a.checks(ctx, v.Plan)
	if verdict != "passed" {
		for _, c := range checks {
			if c.Result == connect.CheckFailed {
				return fmt.Errorf("%w: it does not pass its rehearsal any more: %s: %s: %s", app.ErrRefused, c.System, c.What, c.Words)
			}
		}
	}
	if !slices.EqualFunc(checks, v.Checks, func(x, y connect.Checked) bool { return x.Result == y.Result && x.What == y.What }) {
		return fmt.Errorf("%w: what it would do now is not what was approved, for rights changed since: rehearse and ask again", app.ErrRefused)
	}
	v.RequestedBy, v.Reason, v.Consent, v.ApprovalID = asker.Name, request.Reason, consent, request.ID
	_, err = a.begin(ctx, v)
	return err
}
