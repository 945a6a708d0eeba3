package rotate

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

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
			if err = rotations.putOff(ctx, look, err); err != nil {
				return "", err
			}
			troubled++
			continue
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

// putOff makes a look that could not be made due later, so that the others have their
// turn.
func (rotations *Rotations) putOff(ctx context.Context, look records.Look, why error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	rotations.base.Log.Warn("a rotation could not be looked at again", "rotation", look.RotationID, "error", why)
	look.Due = rotations.base.Now().Add(lookRetry)
	look.Checks = []connect.Checked{{What: "look again", Result: connect.CheckUnchecked, Words: why.Error()}}
	return rotations.store.EndLook(ctx, look, 0)
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

// look does one and keeps what was seen. The look is as it was where that fails.
func (rotations *Rotations) look(ctx context.Context, look records.Look, by string) (records.Look, error) {
	r, state, journal, err := rotations.State(ctx, look.RotationID)
	if err != nil {
		return look, err
	}
	entry := ledger.Entry{Actor: by, Act: "rotation.look", Phase: ledger.Outcome, Subject: r.Credential, System: r.Authority, Ref: app.RotationTopic(r.ID), Result: "done"}
	if over, err := rotations.overtaken(ctx, r, &look, entry); over || err != nil {
		return look, err
	}
	h, err := rotations.hands(ctx, r)
	if err != nil {
		return look, err
	}
	now := rotations.base.Now()
	end := r.Ended.Add(rotation.LookAgainAfter)
	l := &looking{acts: h, state: state, own: map[string]time.Time{}, since: endOf(journal), refused: map[int]bool{}}
	if now.Before(end) {
		l.early = end
	}
	maps.Copy(l.own, look.Own)
	for _, i := range look.Refused {
		l.refused[i] = true
	}
	retired, err := l.all(ctx)
	if err != nil {
		return look, err
	}
	// What was seen while another rotation changed it says nothing.
	if over, err := rotations.overtaken(ctx, r, &look, entry); over || err != nil {
		return look, err
	}
	soon := look.Due
	if !soon.IsZero() {
		l.keepTrials(look.Checks)
	}
	seen := records.Look{RotationID: look.RotationID, Looked: now, Checks: l.told(), Own: l.own, Refused: slices.Sorted(maps.Keys(l.refused))}
	if l.unfinished && now.Sub(r.Ended) < lookGivesUp {
		seen.Due = now.Add(lookRetry)
		entry.Result = "unfinished"
	}
	if soon.After(now) && soon.After(seen.Due) {
		seen.Due = soon // a person looked early: what takes an hour is still to come
	}
	if l.failed > 0 {
		entry.Result = "failed"
	}
	entry.Detail = l.summary()
	if err := rotations.store.EndLook(ctx, seen, retired, entry); err != nil {
		return look, err
	}
	rotations.base.Topics.Wake(app.RotationTopic(r.ID), "all")
	return seen, rotations.store.SetFindings(ctx, fmt.Sprintf("look/%d/", r.CredentialID), l.findings(seen))
}

// overtaken ends a look at a rotation that another one followed, or that is taken up once
// more: what would be seen is not what it left. It reports whether that is so.
func (rotations *Rotations) overtaken(ctx context.Context, r records.Rotation, look *records.Look, entry ledger.Entry) (bool, error) {
	newer, err := rotations.newer(ctx, r)
	if err != nil {
		return false, err
	}
	words := fmt.Sprintf("rotation %d changed it since", newer)
	if newer == 0 {
		again, err := rotations.store.Rotation(ctx, r.ID)
		if err != nil || again.Mode == r.Mode && again.Result == r.Result && again.Ended.Equal(r.Ended) {
			return false, err
		}
		words = "it was taken up once more"
	}
	entry.Detail = words
	look.Due, look.Looked = time.Time{}, rotations.base.Now()
	look.Checks = []connect.Checked{{System: r.Authority, What: "look again", Result: connect.CheckUnchecked, Words: words}}
	return true, rotations.store.EndLook(ctx, *look, 0, entry)
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
	own := h.trialsSoFar(ctx, state)
	if len(own) == 0 {
		return
	}
	if err := h.rotations.store.NoteOwnTrials(ctx, h.rotation.ID, own); err != nil {
		h.rotations.base.Log.Warn("our own trials could not be noted", "rotation", h.rotation.ID, "error", err)
	}
}

// trialsSoFar are the latest wrong passwords by system, each by that system's clock.
func (h *acts) trialsSoFar(ctx context.Context, state rotation.State) map[string]time.Time {
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
	return own
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
