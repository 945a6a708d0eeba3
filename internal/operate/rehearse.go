package operate

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// RehearsalAge is how long a rehearsal that passed allows a rotation.
const RehearsalAge = time.Hour

// Rehearse checks everything about a rotation that can be checked without
// changing anything.
func (o *Operator) Rehearse(ctx context.Context, by string, s Subject, wish Wish) (store.Rehearsal, error) {
	if err := o.notRotating(ctx, s); err != nil {
		return store.Rehearsal{}, err
	}
	plan, err := o.plan(ctx, s, wish)
	if err != nil {
		return store.Rehearsal{}, err
	}
	c := s.Credential()
	v := store.Rehearsal{AccountID: c.AccountID, KeyID: c.KeyID, CreatedBy: by, Plan: plan}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse", Subject: nameOf(s), System: systemOf(s), Ref: c.String()}
	err = o.act(ctx, entry, func() error {
		v.Checks, err = o.checks(ctx, s, plan)
		return err
	})
	if err != nil {
		return v, err
	}
	v.Verdict = "passed"
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	return v, o.Store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

// RehearseUndo checks everything about undoing a finished rotation that can be
// checked without changing anything.
func (o *Operator) RehearseUndo(ctx context.Context, by string, id int64) (store.Rehearsal, error) {
	r, err := o.Store.Rotation(ctx, id)
	if err != nil {
		return store.Rehearsal{}, err
	}
	if r.Mode != string(rotation.ModeFinished) {
		return store.Rehearsal{}, fmt.Errorf("%w: rotation %d is %s: undoing it needs no rehearsal", ErrRefused, id, r.Mode)
	}
	if err := o.mayDecide(ctx, r, rotation.DecideUndo); err != nil {
		return store.Rehearsal{}, err
	}
	s, err := o.subject(ctx, r.Credential())
	if err != nil {
		return store.Rehearsal{}, err
	}
	plan := r.Plan
	plan.UndoOf = id
	v := store.Rehearsal{AccountID: r.AccountID, KeyID: r.KeyID, CreatedBy: by, Plan: plan, Verdict: "passed"}
	entry := ledger.Entry{Actor: by, Act: "rotation.rehearse-undo", Subject: r.Account, System: r.Authority, Ref: rotationTopic(id)}
	if err := o.act(ctx, entry, func() error {
		v.Checks, err = o.checks(ctx, s, plan)
		return err
	}); err != nil {
		return v, err
	}
	for _, c := range v.Checks {
		if c.Result == connect.CheckFailed {
			v.Verdict = "failed"
		}
	}
	return v, o.Store.SaveRehearsal(context.WithoutCancel(ctx), &v)
}

// undoRehearsed holds the undoing of a finished rotation against law 9.
func (o *Operator) undoRehearsed(ctx context.Context, r store.Rotation) error {
	latest, err := o.Store.LatestRehearsal(ctx, r.Credential())
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && latest.Plan.UndoOf != r.ID:
		return fmt.Errorf("%w: undoing a finished rotation changes everything once more: rehearse it with 'moss rotate undo %d --rehearse' first", ErrRefused, r.ID)
	case err != nil:
		return err
	case latest.Verdict != "passed":
		return fmt.Errorf("%w: the rehearsal of undoing rotation %d failed: mend what it names and rehearse again", ErrRefused, r.ID)
	case o.Now().Sub(latest.Created) > RehearsalAge:
		return fmt.Errorf("%w: the rehearsal of undoing rotation %d is older than %s: rehearse again", ErrRefused, r.ID, RehearsalAge)
	}
	return nil
}

func (o *Operator) checks(ctx context.Context, subject Subject, plan rotation.Plan) ([]connect.Checked, error) {
	values, err := o.values(ctx, subject.Credential())
	if err != nil {
		return nil, err
	}
	var checks []connect.Checked
	var stays string // of a key pair: its current public half
	a, isAccount := subject.(store.Account)
	if isAccount {
		checks = append(checks, o.currentValue(ctx, a, values.current, plan.Kind != rotation.KindAssign))
	} else {
		var line connect.Checked
		if stays, line = currentKey(subject, values.current); line.Result != connect.CheckOK {
			checks = append(checks, line)
		} else {
			checks = append(checks, o.opensDoors(ctx, plan, values.current)...)
		}
	}
	if isAccount && plan.UndoOf == 0 {
		lines, err := o.searched(ctx, a)
		if err != nil {
			return nil, err
		}
		checks = append(checks, lines...)
	}
	// Each system is asked once, all at the same time.
	intentions := map[string][]connect.Intention{}
	for _, s := range plan.Steps {
		switch {
		case s.Kind == rotation.StepChange && s.Door != nil:
			if stays == "" {
				continue // not in custody: that is told
			}
			intentions[s.System] = append(intentions[s.System], connect.Intention{Entries: &connect.EntryChange{Path: s.Subject, Stays: stays}})
		case s.Kind == rotation.StepChange:
			checks = append(checks, o.rulesCheck(ctx, a))
			ref := refOf(a)
			intentions[s.System] = append(intentions[s.System], connect.Intention{Change: &ref, Current: values.current})
		case s.Kind == rotation.StepReplace:
			in := connect.Intention{Replace: s.Subject, Places: s.Places, Current: values.current}
			if s.Holds != "" {
				if in.Current, err = o.valueOf(values, s.Holds); err != nil {
					return nil, err
				}
			}
			intentions[s.System] = append(intentions[s.System], in)
		case s.Kind == rotation.StepLogOn:
			change := &connect.LogOnChange{Place: s.At(), Was: s.LogOn.Was, Account: s.LogOn.Account}
			if plan.UndoOf != 0 {
				change.Was, change.Account = change.Account, change.Was
			}
			intentions[s.System] = append(intentions[s.System], connect.Intention{LogOn: change, Current: values.current})
			if line, told := o.formerLogOn(ctx, s); told {
				checks = append(checks, line)
			}
		case s.Kind == rotation.StepRestart:
			intentions[s.System] = append(intentions[s.System], connect.Intention{Restart: s.At(), Along: s.Along})
		}
	}
	var lock sync.Mutex
	var all sync.WaitGroup
	slots := make(chan struct{}, o.Parallel)
	answers := map[string][]connect.Checked{}
	for name, list := range intentions {
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			lines := o.rehearseSystem(ctx, name, list)
			lock.Lock()
			defer lock.Unlock()
			answers[name] = lines
		}()
	}
	all.Wait()
	names := make([]string, 0, len(answers))
	for name := range answers {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool {
		return names[i] == systemOf(subject) || names[j] != systemOf(subject) && names[i] < names[j]
	})
	for _, name := range names {
		checks = append(checks, answers[name]...)
	}
	own, err := o.ownChecks(ctx, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, own...)
	latent, err := o.latentAround(ctx, plan)
	if err != nil {
		return nil, err
	}
	checks = append(checks, latent...)
	checks = append(checks, noteChecks(systemOf(subject), plan.Notes)...)
	var unexplained []store.Finding
	if isAccount {
		if unexplained, err = o.Store.FindingsOf(ctx, a.ID, "unexplained-client"); err != nil {
			return nil, err
		}
	}
	for _, f := range unexplained {
		checks = append(checks, connect.Checked{System: f.System, What: "everybody who signs in as it is explained", Result: connect.CheckWarning, Words: f.What, Next: f.Next})
	}
	incomplete, err := o.Incomplete(ctx)
	if err != nil {
		return nil, err
	}
	for _, i := range incomplete {
		checks = append(checks, connect.Checked{System: i.System, What: "dependents on this system", Result: connect.CheckUnchecked, Words: "not read completely: " + i.Why, Next: "the picture is incomplete: something there may use the account"})
	}
	return checks, ctx.Err()
}

func (o *Operator) currentValue(ctx context.Context, a store.Account, current secret.Value, changes bool) connect.Checked {
	line := connect.Checked{System: a.System, What: "sign in as " + a.Name + " with the sealed value", Result: connect.CheckFailed}
	if current.Empty() {
		line.Words, line.Next = "the account is not in custody", "take it with 'moss custody take "+a.Name+"'"
		return line
	}
	_, target, verifier, err := o.authority(ctx, a)
	if err == nil {
		var verdict connect.Verdict
		if verdict, err = verifier.Verify(ctx, target, refOf(a), current); err == nil {
			if verdict.Accepted {
				line.Result, line.Words = connect.CheckOK, verdict.Words
			} else if changes && (verdict.Code == connect.VerdictExpired || verdict.Code == connect.VerdictMustChange) {
				// The value is right; changing it is what ends its expiry.
				line.Result, line.Words, line.Next = connect.CheckWarning, "the value is right but the password has expired: "+verdict.Words, "the rotation sets a new one"
			} else {
				line.Words, line.Next = verdict.Words, driftNext(verdict.Code, a.Name)
			}
			return line
		}
	}
	line.Words = err.Error()
	return line
}

// ownChecks makes the applications' own checks now: one that fails already would
// ruin a rotation, and its undoing.
func (o *Operator) ownChecks(ctx context.Context, plan rotation.Plan) ([]connect.Checked, error) {
	h := &hands{Operator: o}
	var out []connect.Checked
	for _, s := range plan.Steps {
		if s.Check == nil || s.Kind != rotation.StepProve && s.Kind != rotation.StepRevive {
			continue
		}
		line := connect.Checked{System: s.System, What: fmt.Sprintf("%s passes its own check (%s %s)", s.Subject, s.Check.Kind, s.Check.Target), Result: connect.CheckOK}
		restarter, target, err := capability[connect.Restarter](ctx, h, s)
		if err == nil {
			var state connect.UnitState
			if state, err = restarter.UnitState(ctx, target, s.At()); err == nil && state.Active != "active" && state.Active != "running" {
				line.Result, line.Words = connect.CheckUnchecked, "it is "+state.Active+" now"
				out = append(out, line)
				continue
			}
		}
		if err == nil {
			line.Words, err = h.checkOnce(ctx, s, target)
		}
		if err != nil {
			line.Result, line.Words = connect.CheckFailed, o.redact(ctx, err.Error())
			line.Next = "mend the application or the check first: it would fail after the restart as well, and after undoing"
		}
		out = append(out, line)
	}
	return out, ctx.Err()
}

// rulesCheck says which rules the new password will obey.
func (o *Operator) rulesCheck(ctx context.Context, a store.Account) connect.Checked {
	line := connect.Checked{System: a.System, What: "the rules for a new password are known", Result: connect.CheckOK}
	rules, err := o.passwordRules(ctx, a)
	switch {
	case err != nil:
		line.Result, line.Words = connect.CheckUnchecked, err.Error()
	case rules.Shortest > 256:
		line.Result, line.Words = connect.CheckFailed, fmt.Sprintf("at least %d characters (%s): more than can be made", rules.Shortest, rules.From)
	case rules.Longest > 0 && rules.Longest < 12:
		line.Result, line.Words = connect.CheckFailed, fmt.Sprintf("at most %d characters (%s): fewer than are safe", rules.Longest, rules.From)
	case rules.Unknown != "":
		line.Result, line.Words, line.Next = connect.CheckUnchecked, rules.Unknown, "if it is refused, nothing has changed yet: the rotation ends there"
	default:
		line.Words = or(rules.From, "no rule is in force")
	}
	return line
}

func (o *Operator) rehearseSystem(ctx context.Context, name string, list []connect.Intention) []connect.Checked {
	failed := func(words string) []connect.Checked {
		return []connect.Checked{{System: name, What: "reach the system", Result: connect.CheckFailed, Words: words}}
	}
	v, err := o.Store.System(ctx, name)
	if err != nil {
		return failed(err.Error())
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return failed(err.Error())
	}
	rehearser, ok := connector.(connect.Rehearser)
	if !ok {
		return []connect.Checked{{System: name, What: "everything on this system", Result: connect.CheckUnchecked, Words: "systems of this kind cannot be rehearsed"}}
	}
	limited, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	lines := rehearser.Rehearse(limited, target, list)
	redactAll(o.redactor(ctx), &lines)
	return lines
}

// formerLogOn warns when a log-on could not be given back.
func (o *Operator) formerLogOn(ctx context.Context, s rotation.Step) (connect.Checked, bool) {
	if s.LogOn.WasID == "" {
		return connect.Checked{}, false
	}
	values, err := o.values(ctx, store.Credential{AccountID: number(s.LogOn.WasID)})
	if err == nil && !values.current.Empty() {
		return connect.Checked{}, false
	}
	return connect.Checked{System: s.System, What: "undo of the log-on of " + s.Subject, Result: connect.CheckWarning, Words: s.LogOn.Was + " is not in custody: its password could not be given back", Next: "take it into custody first, or accept that undoing this needs a person"}, true
}

// latentAround warns of what a restart would break although this rotation does
// not touch it: it comes back with what it has stored.
func (o *Operator) latentAround(ctx context.Context, plan rotation.Plan) ([]connect.Checked, error) {
	var out []connect.Checked
	for _, s := range plan.Steps {
		if s.Kind != rotation.StepRevive {
			continue
		}
		own := slices.ContainsFunc(plan.Steps, func(other rotation.Step) bool {
			return other.Kind == rotation.StepLogOn && other.SystemID == s.SystemID && other.At() == s.At()
		})
		if own {
			continue
		}
		found, err := o.Store.Findings(ctx, false, store.Query{Filters: []string{"kind=" + kindLatent, "system=" + s.System, "subject=" + s.Subject}, Limit: 1})
		if err != nil {
			return nil, err
		}
		for _, f := range found.Items {
			out = append(out, connect.Checked{System: s.System, What: s.Subject + " comes back when what it needs is restarted", Result: connect.CheckFailed, Words: f.What, Next: "repair it first: " + f.Next})
		}
	}
	return out, nil
}

// Incomplete is a system whose dependents are not all known.
type Incomplete struct {
	System string    `json:"system"`
	Why    string    `json:"why"`
	Since  time.Time `json:"since,omitzero" doc:"Last complete reading; absent when there was none"`
}

// Incomplete lists the systems that keep the picture from being complete.
func (o *Operator) Incomplete(ctx context.Context) ([]Incomplete, error) {
	unread, _, err := o.Store.Unread(ctx)
	out := []Incomplete{}
	for _, v := range unread {
		why := v.Words
		if v.Visited.IsZero() && why == "" {
			why = "never surveyed"
		}
		out = append(out, Incomplete{System: v.Name, Why: why, Since: v.Complete})
	}
	return out, err
}

// allowed holds a rotation against law 9.
func (o *Operator) allowed(ctx context.Context, subject Subject, plan rotation.Plan, override string) (int64, error) {
	if override != "" {
		return 0, nil
	}
	latest, err := o.Store.LatestRehearsal(ctx, subject.Credential())
	switch {
	case errors.Is(err, store.ErrNotFound):
		return 0, fmt.Errorf("%w: there was no rehearsal: run 'moss rotate rehearse %s' first, or override with a reason", ErrRefused, spelled(subject))
	case err != nil:
		return 0, err
	case latest.Plan.UndoOf != 0:
		return 0, fmt.Errorf("%w: the latest rehearsal was about undoing rotation %d: rehearse again", ErrRefused, latest.Plan.UndoOf)
	case latest.Verdict != "passed":
		return 0, fmt.Errorf("%w: the latest rehearsal failed: read it with 'moss rotate rehearse %s', or override with a reason", ErrRefused, spelled(subject))
	case o.Now().Sub(latest.Created) > RehearsalAge:
		return 0, fmt.Errorf("%w: the latest rehearsal is older than %s: rehearse again", ErrRefused, RehearsalAge)
	case !reflect.DeepEqual(stepsOf(latest.Plan), stepsOf(plan)):
		return 0, fmt.Errorf("%w: this is not what was rehearsed (the picture changed since, or something else is asked): rehearse again", ErrRefused)
	}
	return latest.ID, nil
}

func stepsOf(p rotation.Plan) []string {
	out := []string{p.KeyType, p.Patience.String()}
	for _, s := range p.Steps {
		out = append(out, fmt.Sprintf("%s %v %v %v %+v %v %v %v", s.Title(), s.Places, s.Needs, s.After, s.Check, s.Along, s.NotBefore, s.NotAfter)+doorOf(s))
	}
	return out
}

func doorOf(s rotation.Step) string {
	if s.Door == nil {
		return ""
	}
	return fmt.Sprintf(" %+v", *s.Door)
}
