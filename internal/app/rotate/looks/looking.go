package looks

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// looking is one look.
type looking struct {
	looks *Looks
	hands *acts.Hands
	state rotation.State
	own   map[string]time.Time
	since time.Time
	early time.Time // when former values are asked for, where that is still to come

	lock       sync.Mutex
	refused    map[int]bool // steps whose former value is known to be refused
	wrong      bool         // we gave a wrong password
	checks     []seen
	good       map[string]int
	failed     int
	unfinished bool // something could not be reached
}

// seen is a line with the kind of finding that it is; "" for none.
type seen struct {
	connect.Checked
	kind string
}

func (l *looking) say(step rotation.Step, kind, result, what, words, next string) {
	l.lock.Lock()
	defer l.lock.Unlock()
	switch result {
	case connect.CheckOK:
		if l.good == nil {
			l.good = map[string]int{}
		}
		l.good[what]++
		return
	case connect.CheckFailed:
		l.failed++
	}
	if step.Subject != "" && step.Kind != rotation.StepSignIn && step.Kind != rotation.StepShow && step.Kind != rotation.StepRefuse {
		what = step.Subject
	}
	l.checks = append(l.checks, seen{connect.Checked{System: step.System, What: what, Result: result, Words: words, Next: next}, kind})
}

// all looks at everything that the rotation did and proved. It returns the former value
// where that is found to be refused now. Former values come last: each that is refused is
// a wrong password, of which what is told before must not know.
func (l *looking) all(ctx context.Context) (records.SecretID, error) {
	ctx, end := connect.KeepSessions(ctx)
	defer end()
	var now, last []int
	for i, step := range l.hands.Rotation.Plan.Steps {
		switch {
		case l.state.Steps[i].Status != ended(l.state):
		case step.Kind == rotation.StepRefuse:
			if l.state.Steps[i].Later { // the others are proven
				last = append(last, i)
			}
		case step.Kind == rotation.StepLogOn && l.state.Result == rotation.FinishedUndone:
			// What it was given back is judged by whom it was given to.
		case step.Kind == rotation.StepLogOn, step.Kind == rotation.StepSignIn, step.Kind == rotation.StepShow, step.Kind == rotation.StepReplace, step.Kind == rotation.StepProve:
			now = append(now, i)
		}
	}
	if err := l.each(ctx, now); err != nil {
		return 0, err
	}
	if err := l.each(ctx, last); err != nil || len(last) == 0 {
		return 0, err
	}
	if l.wrong {
		maps.Copy(l.own, trialsSoFar(ctx, l.hands, l.state))
	}
	if len(l.refused) < len(last) {
		return 0, nil
	}
	gone, next, err := l.looks.sealed.OfRotation(ctx, l.hands.Rotation)
	if l.state.Result == rotation.FinishedUndone {
		gone = next
	}
	if err != nil || gone == nil {
		return 0, err
	}
	return gone.ID, nil
}

// each looks at steps, some at once.
func (l *looking) each(ctx context.Context, steps []int) error {
	var group errgroup.Group
	group.SetLimit(lookThreads)
	for _, i := range steps {
		group.Go(func() error {
			l.one(ctx, i, l.hands.Rotation.Plan.Steps[i])
			return ctx.Err()
		})
	}
	return group.Wait()
}

// one looks at what one step did.
func (l *looking) one(ctx context.Context, i int, step rotation.Step) {
	old, next, err := l.hands.InForce(ctx, step, l.state)
	if err != nil {
		l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
		return
	}
	switch step.Kind {
	case rotation.StepSignIn, rotation.StepShow:
		l.signsIn(ctx, step, next)
	case rotation.StepRefuse:
		l.refuses(ctx, i, step, old)
	case rotation.StepReplace:
		l.held(step, l.hands.ProbeReplace(ctx, step, false, old, next), "holds the value in force")
	case rotation.StepLogOn:
		l.held(step, l.hands.ProbeLogOn(ctx, step, old, next), "has its log-on")
	case rotation.StepProve:
		l.runs(ctx, step)
	}
}

// signsIn sees whether the value in force is accepted, and what wrong ones were given.
func (l *looking) signsIn(ctx context.Context, step rotation.Step, value secret.Value) {
	verdict, target, err := l.hands.Asks(ctx, step, value)
	if !l.asked(step, err) {
		return
	}
	if step.Door == nil {
		l.trials(ctx, step, verdict)
	}
	switch err := acts.Proven(target, verdict, true); {
	case err == nil:
		l.say(step, "", connect.CheckOK, "accepts the value in force", "", "")
	case verdict.Says() == connect.AnswerNo:
		l.say(step, "changed-since", connect.CheckFailed, step.Title(), err.Error(), "somebody set another value since: find out who; 'moss custody verify' says what is in force")
	default:
		l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
	}
}

// refuses asks with a former value that was still accepted at the end: once more, when it
// should be forgotten, and not where it is known to be refused.
func (l *looking) refuses(ctx context.Context, i int, step rotation.Step, former secret.Value) {
	l.lock.Lock()
	known := l.refused[i]
	l.lock.Unlock()
	switch {
	case known:
		l.say(step, "", connect.CheckOK, "refuses the former value", "", "")
		return
	case !l.early.IsZero():
		l.say(step, "", connect.CheckUnchecked, step.Title(), "it was still accepted at the end; it is asked again at "+l.early.UTC().Format(time.DateTime), "")
		return
	}
	verdict, target, err := l.hands.Asks(ctx, step, former)
	if !l.asked(step, err) {
		return
	}
	if verdict.Says() == connect.AnswerNo {
		l.lock.Lock()
		l.wrong = true
		l.lock.Unlock()
	}
	switch {
	case acts.AcceptedAnywhere(verdict):
		l.say(step, "former-accepted", connect.CheckFailed, "the former value is refused", fmt.Sprintf("%s accepts the former value still, %s after it was replaced: %s", target.Name, l.looks.base.Now().Sub(l.since).Round(time.Minute), verdict.Words), "find out how long this directory accepts former passwords; whoever knows it can still sign in")
	case (verdict.Says() == connect.AnswerNo || verdict.Rests()) && refusedEverywhere(verdict):
		l.lock.Lock()
		l.refused[i] = true
		l.lock.Unlock()
		l.say(step, "", connect.CheckOK, "refuses the former value", "", "")
	default:
		l.say(step, "", connect.CheckUnchecked, step.Title(), verdict.Words, "")
	}
}

// refusedEverywhere: no further server that was asked says anything else.
func refusedEverywhere(v connect.Verdict) bool {
	return !slices.ContainsFunc(v.Elsewhere, func(s connect.ServerVerdict) bool {
		return s.State == connect.ServerAsked && s.Verdict.Says() != connect.AnswerNo && !s.Verdict.Rests()
	})
}

// asked: an error is nothing that was seen. A system that is away is looked at later.
func (l *looking) asked(step rotation.Step, err error) bool {
	if err == nil {
		return true
	}
	l.lock.Lock()
	l.unfinished = l.unfinished || acts.Away(err)
	l.lock.Unlock()
	l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
	return false
}

// held judges what a place holds now.
func (l *looking) held(step rotation.Step, found rotation.Finding, good string) {
	switch found.Result {
	case rotation.ProbeEffective, rotation.ProbeBlind:
		l.say(step, "", connect.CheckOK, good, "", "")
	case rotation.ProbeAbsent:
		l.say(step, "put-back", connect.CheckFailed, step.Title(), "it has again what was replaced: somebody, or a program, put it back", "change the value where the program that did it takes it from, then 'moss rotate repair'")
	case rotation.ProbeNeither:
		l.say(step, "put-back", connect.CheckFailed, step.Title(), found.Words+": it was changed since", "find out what changed it")
	default:
		l.lock.Lock()
		l.unfinished = l.unfinished || found.Result == rotation.ProbeAway
		l.lock.Unlock()
		l.say(step, "", connect.CheckUnchecked, step.Title(), found.Words, "")
	}
}

// runs sees whether what was proven then is up now.
func (l *looking) runs(ctx context.Context, step rotation.Step) {
	connector, target, err := l.looks.acts.Able(ctx, step, connect.ActRestart)
	var state connect.UnitState
	if err == nil {
		state, err = connector.UnitState(ctx, target, step.At())
	}
	if !l.asked(step, err) {
		return
	}
	if state.Active == "failed" || state.Sub == "auto-restart" {
		l.say(step, "down-since", connect.CheckFailed, step.Title(), "it ran after its restart and is "+state.Active+" now: "+cmp.Or(state.Words, state.Result, state.Sub), "'moss explain' says why")
		return
	}
	l.say(step, "", connect.CheckOK, "still runs", "", "")
}

// trials tells of wrong passwords that were given since: whatever was forgotten gives the
// old value.
func (l *looking) trials(ctx context.Context, step rotation.Step, verdict connect.Verdict) {
	if verdict.Trials == nil || verdict.Trials.Last.IsZero() {
		return
	}
	after, noted := l.own[step.SystemID]
	if !noted {
		after = l.since.Add(clockMargin)
	}
	if !verdict.Trials.Last.After(after) {
		return
	}
	words := fmt.Sprintf("a wrong password was given for it at %s, after it was changed", verdict.Trials.Last.UTC().Format(time.DateTime))
	if verdict.Trials.Count > 0 {
		words += fmt.Sprintf("; %d count towards a lock now", verdict.Trials.Count)
	}
	if clients := l.clients(ctx, after); clients != "" {
		words += "; refused sign-ins were recorded from " + clients
	}
	l.say(step, "wrong-passwords", connect.CheckWarning, noWrong, words, "find what still gives the old value, and change or stop it: it may lock the account for everybody")
}

// noWrong is the question that trials answers.
const noWrong = "no wrong passwords since"

// keepTrials keeps what a look before told of wrong passwords, as long as that is due
// again: ours may have hidden them since.
func (l *looking) keepTrials(before []connect.Checked) {
	for _, c := range before {
		if c.What == noWrong && !slices.ContainsFunc(l.checks, func(s seen) bool { return s.What == noWrong && s.System == c.System }) {
			l.checks = append(l.checks, seen{c, "wrong-passwords"})
		}
	}
}

// clients are where refused sign-ins were recorded from since.
func (l *looking) clients(ctx context.Context, after time.Time) string {
	uses, err := l.looks.store.SeenUses(ctx, l.hands.Account.ID)
	if err != nil {
		l.looks.base.Log.Warn("recorded uses could not be read", "account", l.hands.Account.ID, "error", err)
	}
	var list []string
	for _, u := range uses {
		if u.Failed && u.Last.After(after.Add(-clockMargin)) {
			name := cmp.Or(u.Client, u.System)
			if u.Host != "" {
				name += " (" + u.Host + ")"
			}
			if !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	return strings.Join(list, ", ")
}

// told are the lines that are kept: what is well is counted.
func (l *looking) told() []connect.Checked {
	slices.SortStableFunc(l.checks, func(a, b seen) int {
		return cmp.Or(-cmp.Compare(weight[a.Result], weight[b.Result]), strings.Compare(a.System, b.System), strings.Compare(a.What, b.What))
	})
	out := []connect.Checked{}
	for i, c := range l.checks {
		if i == mostLooked {
			out = append(out, connect.Checked{What: "more", Result: connect.CheckUnchecked, Words: fmt.Sprintf("%d lines more are not kept", len(l.checks)-i)})
			break
		}
		out = append(out, c.Checked)
	}
	var good []connect.Checked
	for what, n := range l.good {
		good = append(good, connect.Checked{What: what, Result: connect.CheckOK, Words: count(n)})
	}
	slices.SortFunc(good, func(a, b connect.Checked) int { return strings.Compare(a.What, b.What) })
	return append(out, good...)
}

var weight = map[string]int{connect.CheckFailed: 3, connect.CheckWarning: 2, connect.CheckUnchecked: 1}

func count(n int) string {
	if n == 1 {
		return "1 place"
	}
	return fmt.Sprintf("%d places", n)
}

func (l *looking) summary() string {
	var parts []string
	for _, c := range l.told() {
		parts = append(parts, strings.TrimPrefix(c.System+": ", ": ")+c.What+": "+cmp.Or(c.Words, c.Result))
	}
	words := strings.Join(parts, "; ")
	if runes := []rune(words); len(runes) > longestSummary {
		words = string(runes[:longestSummary]) + "..."
	}
	return words
}

// findings of the look. One that was given up says so.
func (l *looking) findings(look records.Look) []records.Finding {
	key := fmt.Sprintf("look/%d/", l.hands.Rotation.CredentialID)
	var list []records.Finding
	for _, c := range l.checks {
		if c.kind == "" {
			continue
		}
		severity := "high"
		if c.Result == connect.CheckWarning {
			severity = "medium"
		}
		list = append(list, records.Finding{
			Key: fmt.Sprintf("%s%s/%s/%s", key, c.kind, c.System, c.What), Kind: c.kind, Severity: severity, Subject: cmp.Or(c.What, l.hands.Rotation.Credential), System: c.System,
			AccountID: l.hands.Rotation.AccountID, CredentialID: l.hands.Rotation.CredentialID, What: fmt.Sprintf("rotation %d, looked at again: %s", l.hands.Rotation.ID, c.Words), Next: c.Next,
		})
	}
	if l.unfinished && look.Due.IsZero() {
		list = append(list, records.Finding{
			Key: key + "look-unfinished", Kind: "look-unfinished", Severity: "medium", Subject: l.hands.Rotation.Credential, System: l.hands.Rotation.Authority, AccountID: l.hands.Rotation.AccountID, CredentialID: l.hands.Rotation.CredentialID,
			What: fmt.Sprintf("rotation %d could not be looked at again within a day: a system is away", l.hands.Rotation.ID), Next: fmt.Sprintf("bring it back, then 'moss rotate look %d'", l.hands.Rotation.ID),
		})
	}
	return list
}
