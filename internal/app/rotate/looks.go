package rotate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// A rotation that ended well an hour ago may not look well now: a directory that still
// took the former value then refuses it now, a program that keeps files in step has put
// one back, a unit died with its next connection, and whatever was forgotten gives a
// wrong password again and again. All of that is silent until it is an outage. So each
// rotation is looked at once more, an hour after its end.

const (
	looksAtOnce = 20
	lookThreads = 8
	lookRetry   = 30 * time.Minute // until a look that could not be finished is tried again
	lookGivesUp = 24 * time.Hour   // after the end of the rotation
	clockMargin = 2 * time.Minute  // between the clocks of systems and ours
	mostLooked  = 200              // lines that are kept

	longestSummary = 600 // characters, in the ledger
)

// LookAgain looks at the rotations that are due.
func (rotations *Rotations) LookAgain(ctx context.Context) (string, error) {
	due, err := rotations.store.DueLooks(ctx, looksAtOnce)
	if err != nil {
		return "", err
	}
	troubled := 0
	for _, look := range due {
		if look, err = rotations.look(ctx, look, app.ByService); err != nil {
			return "", err
		}
		if slices.ContainsFunc(look.Checks, func(c connect.Checked) bool { return c.Result == connect.CheckFailed }) {
			troubled++
		}
	}
	words := fmt.Sprintf("%d looked at", len(due))
	if troubled > 0 {
		words += fmt.Sprintf(", %d need a person", troubled)
	}
	return words, nil
}

// LookNow looks at one that has ended, due or not.
func (rotations *Rotations) LookNow(ctx context.Context, by access.Actor, id records.RotationID) (records.Look, error) {
	if err := access.Decide(by, access.LookAgain, access.Object{Kind: "rotation", Name: app.RotationTopic(id)}); err != nil {
		return records.Look{}, err
	}
	if _, err := rotations.store.Rotation(ctx, id); err != nil {
		return records.Look{}, err
	}
	look, err := rotations.store.Look(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return look, fmt.Errorf("%w: rotation %d has not ended, or not with one value everywhere: there is nothing to look at again", app.ErrRefused, id)
	}
	if err != nil {
		return look, err
	}
	return rotations.look(ctx, look, by.Name)
}

// look does one and keeps what was seen.
func (rotations *Rotations) look(ctx context.Context, look records.Look, by string) (records.Look, error) {
	r, state, journal, err := rotations.State(ctx, look.RotationID)
	if err != nil {
		return look, err
	}
	soon := look.Due
	look.Due, look.Checks = time.Time{}, nil
	newer, err := rotations.newer(ctx, r)
	if err != nil {
		return look, err
	}
	entry := ledger.Entry{Actor: by, Act: "rotation.look", Phase: ledger.Outcome, Subject: r.Credential, System: r.Authority, Ref: app.RotationTopic(r.ID), Result: "done"}
	if newer != 0 {
		look.Checks = []connect.Checked{{System: r.Authority, What: "look again", Result: connect.CheckUnchecked, Words: fmt.Sprintf("rotation %d changed it since", newer)}}
		entry.Detail = look.Checks[0].Words
		return look, rotations.store.EndLook(ctx, look, 0, entry)
	}
	h, err := rotations.hands(ctx, r)
	if err != nil {
		return look, err
	}
	l := &looking{acts: h, state: state, own: look.Own, since: endOf(journal)}
	retired, err := l.all(ctx)
	if err != nil {
		return look, err
	}
	look.Checks = l.told()
	now := rotations.base.Now()
	switch {
	case l.unfinished && now.Sub(r.Ended) < lookGivesUp:
		look.Due = now.Add(lookRetry)
		entry.Result = "unfinished"
	case soon.After(now) && by != app.ByService:
		look.Due = soon // a person looked early: what takes an hour is still to come
	}
	if l.failed > 0 {
		entry.Result = "failed"
	}
	entry.Detail = l.summary()
	if err := rotations.store.EndLook(ctx, look, retired, entry); err != nil {
		return look, err
	}
	look.Looked = now
	rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
	return look, rotations.store.SetFindings(ctx, fmt.Sprintf("look/%d/", r.CredentialID), l.findings(look))
}

// newer is a rotation of the same credential that was begun since, or 0.
func (rotations *Rotations) newer(ctx context.Context, r records.Rotation) (records.RotationID, error) {
	page, err := rotations.store.Rotations(ctx, records.Query{Filters: []string{fmt.Sprintf("credential_id=%d", r.CredentialID)}, Limit: 1})
	if err != nil || len(page.Items) == 0 || page.Items[0].ID <= r.ID {
		return 0, err
	}
	return page.Items[0].ID, nil
}

// endOf is when the last proof of a rotation was made: wrong passwords of ours are older.
func endOf(journal []rotation.Record) time.Time {
	var last time.Time
	for _, r := range journal {
		if r.Time.After(last) {
			last = r.Time
		}
	}
	return last
}

// noteOwnTrials keeps, right after the end, which wrong passwords the authorities have
// counted so far: the last one may be our own proof that the old value is refused.
// Where it cannot be read, the time by our clock has to do.
func (h *acts) noteOwnTrials(ctx context.Context, state rotation.State) {
	own := map[string]time.Time{}
	for i, step := range h.rotation.Plan.Steps {
		if step.Kind != rotation.StepSignIn || step.Door != nil || state.Steps[i].Status != ended(state) {
			continue
		}
		if _, in, err := h.inForce(ctx, step, state); err == nil {
			if verdict, _, err := h.asks(ctx, step, in); err == nil && verdict.Trials != nil {
				own[step.SystemID] = verdict.Trials.Last
			}
		}
	}
	if len(own) == 0 {
		return
	}
	if err := h.rotations.store.NoteOwnTrials(ctx, h.rotation.ID, own); err != nil {
		h.rotations.base.Log.Warn("our own trials could not be noted", "rotation", h.rotation.ID, "error", err)
	}
}

// ended is the status of what a rotation did and left so.
func ended(state rotation.State) rotation.Status {
	if state.Result == rotation.FinishedUndone {
		return rotation.Undone
	}
	return rotation.Done
}

// inForce opens the value that a rotation took away, and the one that it left in force:
// of one that was undone, the old one.
func (h *acts) inForce(ctx context.Context, step rotation.Step, state rotation.State) (gone, in secret.Value, err error) {
	old, next, err := h.secrets(ctx, step)
	if state.Result == rotation.FinishedUndone {
		return next, old, err
	}
	return old, next, err
}

// looking is one look.
type looking struct {
	*acts
	state rotation.State
	own   map[string]time.Time
	since time.Time

	lock       sync.Mutex
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
	if step.Subject != "" && step.Kind != rotation.StepSignIn && step.Kind != rotation.StepRefuse {
		what = step.Subject
	}
	l.checks = append(l.checks, seen{connect.Checked{System: step.System, What: what, Result: result, Words: words, Next: next}, kind})
}

// all looks at everything that the rotation did and proved. It returns the former value
// where that is found to be refused now.
func (l *looking) all(ctx context.Context) (records.SecretID, error) {
	ctx, end := connect.KeepSessions(ctx)
	defer end()
	lingered, refused := 0, 0
	var lock sync.Mutex
	var group errgroup.Group
	group.SetLimit(lookThreads)
	for i, step := range l.rotation.Plan.Steps {
		if l.state.Steps[i].Status != ended(l.state) {
			continue
		}
		switch step.Kind {
		case rotation.StepLogOn:
			if l.state.Result == rotation.FinishedUndone {
				continue // what it was given back is judged by whom it was given to
			}
		case rotation.StepSignIn, rotation.StepReplace, rotation.StepProve:
		case rotation.StepRefuse:
			if !l.state.Steps[i].Later {
				continue // proven; each question would be one more wrong password
			}
			lingered++
		default:
			continue
		}
		group.Go(func() error {
			if l.one(ctx, step) && step.Kind == rotation.StepRefuse {
				lock.Lock()
				defer lock.Unlock()
				refused++
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	if lingered == 0 || refused < lingered {
		return 0, nil
	}
	gone, next, err := l.rotations.sealed.OfRotation(ctx, l.rotation)
	if l.state.Result == rotation.FinishedUndone {
		gone = next
	}
	if err != nil || gone == nil {
		return 0, err
	}
	return gone.ID, nil
}

// one looks at what one step did. It reports whether all is well.
func (l *looking) one(ctx context.Context, step rotation.Step) bool {
	old, next, err := l.inForce(ctx, step, l.state)
	if err != nil {
		l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
		return false
	}
	switch step.Kind {
	case rotation.StepSignIn:
		verdict, target, err := l.asks(ctx, step, next)
		if !l.asked(step, err) {
			return false
		}
		if step.Door == nil {
			l.trials(ctx, step, verdict)
		}
		if err := proven(target, verdict, true); err != nil && verdict.Says() == connect.AnswerNo {
			l.say(step, "changed-since", connect.CheckFailed, step.Title(), err.Error(), "somebody set another value since: find out who; 'moss custody verify' says what is in force")
			return false
		} else if err != nil {
			l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
			return false
		}
		l.say(step, "", connect.CheckOK, "accepts the value in force", "", "")
	case rotation.StepRefuse:
		verdict, target, err := l.asks(ctx, step, old)
		if !l.asked(step, err) {
			return false
		}
		switch verdict.Says() {
		case connect.AnswerNo:
			l.say(step, "", connect.CheckOK, "refuses the former value", "", "")
			return true
		case connect.AnswerYes:
			l.say(step, "former-accepted", connect.CheckFailed, "the former value is refused", fmt.Sprintf("%s accepts the former value still, %s after it was replaced: %s", target.Name, l.rotations.base.Now().Sub(l.since).Round(time.Minute), verdict.Words), "find out how long this directory accepts former passwords; whoever knows it can still sign in")
		default:
			l.say(step, "", connect.CheckUnchecked, step.Title(), verdict.Words, "")
		}
		return false
	case rotation.StepReplace:
		return l.held(step, l.probeReplace(ctx, step, old, next), "holds the value in force")
	case rotation.StepLogOn:
		return l.held(step, l.probeLogOn(ctx, step, old, next), "has its log-on")
	case rotation.StepProve:
		return l.runs(ctx, step)
	}
	return true
}

// asked: an error is nothing that was seen. A system that is away is looked at later.
func (l *looking) asked(step rotation.Step, err error) bool {
	if err == nil {
		return true
	}
	l.lock.Lock()
	l.unfinished = l.unfinished || away(err)
	l.lock.Unlock()
	l.say(step, "", connect.CheckUnchecked, step.Title(), err.Error(), "")
	return false
}

// held judges what a place holds now.
func (l *looking) held(step rotation.Step, found rotation.Finding, good string) bool {
	switch found.Result {
	case rotation.ProbeEffective, rotation.ProbeBlind:
		l.say(step, "", connect.CheckOK, good, "", "")
		return true
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
	return false
}

// runs sees whether what was proven then is up now.
func (l *looking) runs(ctx context.Context, step rotation.Step) bool {
	connector, target, err := l.able(ctx, step, connect.ActRestart)
	var state connect.UnitState
	if err == nil {
		state, err = connector.UnitState(ctx, target, step.At())
	}
	if !l.asked(step, err) {
		return false
	}
	if state.Active == "failed" || state.Sub == "auto-restart" {
		l.say(step, "down-since", connect.CheckFailed, step.Title(), "it ran after its restart and is "+state.Active+" now: "+cmp.Or(state.Words, state.Result, state.Sub), "'moss explain' says why")
		return false
	}
	l.say(step, "", connect.CheckOK, "still runs", "", "")
	return true
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
	l.say(step, "wrong-passwords", connect.CheckWarning, "no wrong passwords since", words, "find what still gives the old value, and change or stop it: it may lock the account for everybody")
}

// clients are where refused sign-ins were recorded from since.
func (l *looking) clients(ctx context.Context, after time.Time) string {
	uses, err := l.rotations.store.SeenUses(ctx, l.account.ID)
	if err != nil {
		l.rotations.base.Log.Warn("recorded uses could not be read", "account", l.account.ID, "error", err)
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
	key := fmt.Sprintf("look/%d/", l.rotation.CredentialID)
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
			Key: fmt.Sprintf("%s%s/%s/%s", key, c.kind, c.System, c.What), Kind: c.kind, Severity: severity, Subject: cmp.Or(c.What, l.rotation.Credential), System: c.System,
			AccountID: l.rotation.AccountID, CredentialID: l.rotation.CredentialID, What: fmt.Sprintf("rotation %d, looked at again: %s", l.rotation.ID, c.Words), Next: c.Next,
		})
	}
	if l.unfinished && look.Due.IsZero() {
		list = append(list, records.Finding{
			Key: key + "look-unfinished", Kind: "look-unfinished", Severity: "medium", Subject: l.rotation.Credential, System: l.rotation.Authority, AccountID: l.rotation.AccountID, CredentialID: l.rotation.CredentialID,
			What: fmt.Sprintf("rotation %d could not be looked at again within a day: a system is away", l.rotation.ID), Next: fmt.Sprintf("bring it back, then 'moss rotate look %d'", l.rotation.ID),
		})
	}
	return list
}

// hands makes ready to do, or to look at, what a rotation does.
func (rotations *Rotations) hands(ctx context.Context, r records.Rotation) (*acts, error) {
	h := &acts{rotations: rotations, rotation: r}
	var err error
	if h.credential, err = rotations.store.Credential(ctx, r.CredentialID); err != nil {
		return nil, err
	}
	if r.AccountID != 0 {
		h.account, err = rotations.store.Account(ctx, r.AccountID)
	}
	return h, err
}
