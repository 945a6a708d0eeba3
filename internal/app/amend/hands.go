package amend

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/app/underway"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// journal writes records with their ledger entries, durably.
type journal struct {
	amendments *Amendments
	amendment  records.Amendment
	state      rotation.State
	written    func() // a record was
}

func (a *Amendments) journal(v records.Amendment, state rotation.State) *journal {
	return &journal{amendments: a, amendment: v, state: state}
}

// Append implements rotation.Journal.
func (j *journal) Append(ctx context.Context, r rotation.Record) error {
	a := j.amendments
	r.Words = a.base.Redact(ctx, r.Words)
	state := j.state.Copy()
	if err := state.Apply(r); err != nil {
		return err
	}
	if err := a.store.AppendAmendment(ctx, j.amendment.ID, r, string(state.Mode), state.Result, j.entry(r)); err != nil {
		return err
	}
	j.state = state
	if j.written != nil {
		j.written()
	}
	j.noteWaiting(ctx, r)
	a.base.Topics.Wake(Topic(j.amendment.ID), "all")
	return nil
}

// noteWaiting raises and clears the finding about a system that is waited for, and the one
// about what could not be written down.
func (j *journal) noteWaiting(ctx context.Context, r rotation.Record) {
	v := j.amendment
	key := waitsKey(v.ID)
	var list []records.Finding
	if i, waits := j.state.AwayFor(underway.WaitsAfter); waits {
		step, t := v.Plan.Steps[i], j.state.Steps[i]
		next := "bring it back: the amendment goes on by itself"
		if j.state.Mode == rotation.ModeUndoing {
			next += fmt.Sprintf("; or go on without it: 'moss amend show %d' says how", v.ID)
		}
		list = []records.Finding{{Key: key, Kind: findingOf(v), Severity: "high", Subject: v.Subject, System: step.System, What: fmt.Sprintf("amendment %d waits for %s since %s: %s", v.ID, step.System, t.Since.UTC().Format(time.RFC3339), t.Words), Next: next}}
	}
	if r.Result == rotation.ResultAway && list == nil {
		return // not long enough to be told
	}
	if err := j.amendments.store.SetFindings(ctx, key, list); err != nil {
		j.amendments.base.Log.Warn("a finding could not be written", "key", key, "error", err)
	}
}

func waitsKey(id records.AmendmentID) string { return fmt.Sprintf("amendment-waits/%d", id) }

func (j *journal) entry(r rotation.Record) ledger.Entry {
	v := j.amendment
	e := ledger.Entry{Actor: cmp.Or(r.Actor, v.RequestedBy), Act: "amendment." + string(r.Event), Phase: ledger.Outcome, Subject: v.Subject, Ref: Topic(v.ID), Result: r.Result, Detail: r.Words, Reason: r.Reason}
	if r.Step >= 0 && r.Step < len(v.Plan.Steps) {
		step := v.Plan.Steps[r.Step]
		e.Act, e.Subject, e.System = "amendment."+string(step.Kind), step.Subject, step.System
		if e.Detail = wordsOf(step); r.Words != "" {
			e.Detail += ": " + r.Words
		}
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

// hands do the acts of one amendment.
type hands struct {
	amendments *Amendments
	id         records.AmendmentID
	plan       rotation.Plan
}

// before is how a thing stood before it was first touched: undoing makes it that again.
type before struct {
	There  bool   `json:"there"`
	Former string `json:"former,omitempty"`
}

func (h *hands) standing(ctx context.Context, step rotation.Step) (connect.Connector, connect.Target, connect.Standing, error) {
	_, connector, target, err := h.amendments.reach(ctx, step)
	if err != nil {
		return connector, target, connect.Standing{}, err
	}
	switch {
	case step.End != nil:
		e, err := connector.Ending(ctx, target, *step.End)
		return connector, target, e.Standing, err
	case step.Managed != nil:
		m, err := connector.ManagedStanding(ctx, target, *step.Managed)
		return connector, target, m.Standing, err
	}
	s, err := connector.Standing(ctx, target, *step.Right)
	return connector, target, s, err
}

// wanted is whether a thing is to be there after a step: of an end or a managed account, that it
// is as the change says.
func wanted(step rotation.Step) bool { return step.Right == nil || step.Right.Give }

// wordsOf a step are those of its change.
func wordsOf(step rotation.Step) string {
	switch {
	case step.End != nil:
		return step.End.Words()
	case step.Managed != nil:
		return step.Managed.Words()
	case step.Right == nil:
		return step.Title()
	}
	return step.Right.Words()
}

// first is how the thing of a step stood before: by the first intent, for a later one may
// come after an attempt that took effect and was not heard of.
func (h *hands) first(ctx context.Context, step rotation.Step) (was before, err error) {
	of := step.Index
	if step.Kind == rotation.StepConfirm {
		of = step.Needs[0]
	}
	journal, err := h.amendments.store.AmendmentJournal(ctx, h.id)
	if err != nil {
		return was, err
	}
	for _, r := range journal {
		if r.Event == rotation.EventIntent && r.Step == of && !r.Undo {
			return was, json.Unmarshal([]byte(r.Memo), &was)
		}
	}
	return was, fmt.Errorf("the journal does not say how it stood before step %d", of)
}

// Observe implements rotation.Hands.
func (h *hands) Observe(ctx context.Context, step rotation.Step, undo bool) (string, error) {
	if ofHost(step) {
		return h.observeHost(ctx, step)
	}
	if step.Kind == rotation.StepConfirm || step.Kind == rotation.StepWatch || undo {
		return "", nil
	}
	_, _, s, err := h.standing(ctx, step)
	if err != nil {
		if acts.Away(err) {
			return "", fmt.Errorf("%w: %w", rotation.ErrAway, err)
		}
		return "", err
	}
	memo, err := json.Marshal(before{s.There, s.Former})
	return string(memo), err
}

// Do implements rotation.Hands.
func (h *hands) Do(ctx context.Context, step rotation.Step, memo string) rotation.Outcome {
	if ofHost(step) {
		return h.doHost(ctx, step)
	}
	switch step.Kind {
	case rotation.StepConfirm:
		return h.confirm(ctx, step, false, before{})
	case rotation.StepWatch:
		return h.watch(ctx, step)
	}
	var now before
	if err := json.Unmarshal([]byte(memo), &now); err != nil {
		return rotation.Outcome{Result: rotation.ResultFailed, Words: err.Error()}
	}
	if now.There == wanted(step) {
		return rotation.Outcome{Result: rotation.ResultDone, Words: "it was so already"}
	}
	return h.amend(ctx, step, "", false)
}

// amend makes the change of a step, or takes it back to what was.
func (h *hands) amend(ctx context.Context, step rotation.Step, former string, back bool) rotation.Outcome {
	_, connector, target, err := h.amendments.reach(ctx, step)
	if err != nil {
		return acts.Certainly(err)
	}
	switch {
	case step.End != nil:
		change := *step.End
		change.Former = former
		err = connector.End(ctx, target, change, back)
	case step.Managed != nil:
		change := *step.Managed
		change.Former = former
		err = connector.Manage(ctx, target, change, back)
	default:
		change := *step.Right
		if former != "" {
			change.Text = former
		}
		err = connector.Amend(ctx, target, change, back)
	}
	if err != nil {
		return acts.Failed(err)
	}
	return rotation.Outcome{Result: rotation.ResultDone}
}

// Undo implements rotation.Hands. What was so before is left so.
func (h *hands) Undo(ctx context.Context, step rotation.Step, _ string) rotation.Outcome {
	was, err := h.first(ctx, step)
	if err != nil {
		return rotation.Outcome{Result: rotation.ResultFailed, Words: err.Error()}
	}
	switch {
	case step.Kind == rotation.StepConfirm:
		return h.confirm(ctx, step, true, was)
	case was.There == wanted(step):
		return rotation.Outcome{Result: rotation.ResultDone, Words: "it was so before: it is left so"}
	}
	if step.Right != nil {
		if _, _, _, err := h.standing(ctx, step); err != nil && h.withIt(step, was, err) {
			return rotation.Outcome{Result: rotation.ResultDone, Words: goneWithIt}
		}
	}
	return h.amend(ctx, step, was.Former, true)
}

// withIt: a membership went with its account, which the same plan had created.
func (h *hands) withIt(step rotation.Step, was before, err error) bool {
	return step.Right != nil && !was.There && connect.CodeOf(err) == connect.CodeGone && creates(h.plan, step.Right.ToDN)
}

const goneWithIt = "the account is not there any more"

// confirm has the system say how it stands: as the step wants it, or as it was.
func (h *hands) confirm(ctx context.Context, step rotation.Step, back bool, was before) rotation.Outcome {
	there := wanted(step)
	if back {
		there = was.There
	}
	inForce := !back && there
	if step.End != nil {
		inForce = !back && step.End.Act.Takes() // of an end to come, nothing is refused yet
	}
	_, _, s, err := h.standing(ctx, step)
	switch {
	case err != nil && back && h.withIt(step, was, err):
		return rotation.Outcome{Result: rotation.ResultDone, Words: goneWithIt}
	case err != nil:
		return acts.Certainly(err)
	case s.There != there:
		return rotation.Outcome{Result: rotation.ResultFailed, Words: "it is not so: " + s.Words}
	case inForce && !s.InForce:
		return rotation.Outcome{Result: rotation.ResultFailed, Words: "it is there and not in force: " + s.Words}
	case step.Right != nil && !there && s.InForce:
		return rotation.Outcome{Result: rotation.ResultDone, Words: s.Words + "; it has it all the same, by something else"}
	}
	return rotation.Outcome{Result: rotation.ResultDone, Words: s.Words}
}

// Probe implements rotation.Hands.
func (h *hands) Probe(ctx context.Context, step rotation.Step, undo bool, _ string) rotation.Finding {
	if ofHost(step) {
		return h.probeHost(ctx, step)
	}
	_, _, s, err := h.standing(ctx, step)
	if err != nil {
		if was, told := h.first(ctx, step); undo && told == nil && h.withIt(step, was, err) {
			return rotation.Finding{Result: rotation.ProbeAbsent, Words: goneWithIt}
		}
		return acts.NotFoundOut(err)
	}
	if step.Kind == rotation.StepWatch { // looking has no effect: it is looked again
		return rotation.Finding{Result: rotation.ProbeAbsent}
	}
	want := wanted(step)
	if undo {
		was, err := h.first(ctx, step)
		if err != nil {
			return acts.NotFoundOut(err)
		}
		// Absent: the effect of the step is not there any more.
		if s.There == was.There {
			return rotation.Finding{Result: rotation.ProbeAbsent, Words: s.Words}
		}
		return rotation.Finding{Result: rotation.ProbeEffective, Words: s.Words}
	}
	if s.There == want {
		return rotation.Finding{Result: rotation.ProbeEffective, Words: s.Words}
	}
	return rotation.Finding{Result: rotation.ProbeAbsent, Words: s.Words}
}

// Reach implements rotation.Hands.
func (h *hands) Reach(ctx context.Context, step rotation.Step) rotation.Finding {
	var err error
	if ofHost(step) {
		_, err = h.up(ctx, step)
	} else {
		_, _, _, err = h.standing(ctx, step)
	}
	if err != nil && acts.Away(err) {
		return rotation.Finding{Result: rotation.ProbeAway, Words: err.Error()}
	}
	return rotation.Finding{Result: rotation.ProbeHere}
}
