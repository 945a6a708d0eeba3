// Package looks looks at rotations once more.
//
// A rotation that ended well an hour ago may not look well now: a directory that still
// took the former value then refuses it now, a program that keeps files in step has put
// one back, a unit died with its next connection, and whatever was forgotten gives a
// wrong password again and again. All of that is silent until it is an outage. So each
// rotation is looked at once more, an hour after its end.
package looks

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

const (
	looksAtOnce = 20
	lookThreads = 8
	lookRetry   = 30 * time.Minute // until a look that could not be finished is tried again
	lookGivesUp = 24 * time.Hour   // after the end of the rotation
	clockMargin = 2 * time.Minute  // between the clocks of systems and ours
	mostLooked  = 200              // lines that are kept

	longestSummary = 600 // characters, in the ledger
)

// Store is what this package needs of the store.
type Store interface {
	DueLooks(ctx context.Context, most int) ([]records.Look, error)
	EndLook(ctx context.Context, v records.Look, retired records.SecretID, entries ...ledger.Entry) error
	Look(ctx context.Context, id records.RotationID) (records.Look, error)
	NoteOwnTrials(ctx context.Context, id records.RotationID, own map[string]time.Time) error
	Rotation(ctx context.Context, id records.RotationID) (records.Rotation, error)
	Rotations(ctx context.Context, q records.Query) (records.Page[records.Rotation], error)
	SeenUses(ctx context.Context, account records.AccountID) ([]records.SeenUse, error)
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
}

// stater reads a rotation with its journal.
type stater interface {
	State(ctx context.Context, id records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error)
}

// Looks looks at rotations that have ended.
type Looks struct {
	base   *app.Base
	store  Store
	sealed *sealed.Keeper
	acts   *acts.Acts
	states stater
}

// New makes Looks.
func New(base *app.Base, store Store, keeper *sealed.Keeper, acts *acts.Acts) *Looks {
	return &Looks{base: base, store: store, sealed: keeper, acts: acts, states: acts}
}

// LookAgain looks at the rotations that are due.
func (looks *Looks) LookAgain(ctx context.Context) (string, error) {
	due, err := looks.store.DueLooks(ctx, looksAtOnce)
	if err != nil {
		return "", err
	}
	troubled := 0
	for _, look := range due {
		if look, err = looks.look(ctx, look, app.ByService); err != nil {
			if err = looks.putOff(ctx, look, err); err != nil {
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
func (looks *Looks) putOff(ctx context.Context, look records.Look, why error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	looks.base.Log.Warn("a rotation could not be looked at again", "rotation", look.RotationID, "error", why)
	look.Due = looks.base.Now().Add(lookRetry)
	look.Checks = []connect.Checked{{What: "look again", Result: connect.CheckUnchecked, Words: why.Error()}}
	return looks.store.EndLook(ctx, look, 0)
}

// LookNow looks at one that has ended, due or not.
func (looks *Looks) LookNow(ctx context.Context, by access.Actor, id records.RotationID) (records.Look, error) {
	if err := access.Decide(by, access.LookAgain, access.Object{Kind: "rotation", Name: app.RotationTopic(id)}); err != nil {
		return records.Look{}, err
	}
	if _, err := looks.store.Rotation(ctx, id); err != nil {
		return records.Look{}, err
	}
	look, err := looks.store.Look(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return look, fmt.Errorf("%w: rotation %d has not ended, or not with one value everywhere: there is nothing to look at again", app.ErrRefused, id)
	}
	if err != nil {
		return look, err
	}
	return looks.look(ctx, look, by.Name)
}

// look does one and keeps what was seen. The look is as it was where that fails.
func (looks *Looks) look(ctx context.Context, look records.Look, by string) (records.Look, error) {
	r, state, journal, err := looks.states.State(ctx, look.RotationID)
	if err != nil {
		return look, err
	}
	entry := ledger.Entry{Actor: by, Act: "rotation.look", Phase: ledger.Outcome, Subject: r.Credential, System: r.Authority, Ref: app.RotationTopic(r.ID), Result: "done"}
	if over, err := looks.overtaken(ctx, r, &look, entry); over || err != nil {
		return look, err
	}
	h, err := looks.acts.Of(ctx, r)
	if err != nil {
		return look, err
	}
	now := looks.base.Now()
	end := r.Ended.Add(rotation.LookAgainAfter)
	l := &looking{looks: looks, hands: h, state: state, own: map[string]time.Time{}, since: endOf(journal), refused: map[int]bool{}}
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
	if over, err := looks.overtaken(ctx, r, &look, entry); over || err != nil {
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
	if err := looks.store.EndLook(ctx, seen, retired, entry); err != nil {
		return look, err
	}
	looks.base.Topics.Wake(app.RotationTopic(r.ID), "all")
	return seen, looks.store.SetFindings(ctx, fmt.Sprintf("look/%d/", r.CredentialID), l.findings(seen))
}

// overtaken ends a look at a rotation that another one followed, or that is taken up once
// more: what would be seen is not what it left. It reports whether that is so.
func (looks *Looks) overtaken(ctx context.Context, r records.Rotation, look *records.Look, entry ledger.Entry) (bool, error) {
	newer, err := looks.newer(ctx, r)
	if err != nil {
		return false, err
	}
	words := fmt.Sprintf("rotation %d changed it since", newer)
	if newer == 0 {
		again, err := looks.store.Rotation(ctx, r.ID)
		if err != nil || again.Mode == r.Mode && again.Result == r.Result && again.Ended.Equal(r.Ended) {
			return false, err
		}
		words = "it was taken up once more"
	}
	entry.Detail = words
	look.Due, look.Looked = time.Time{}, looks.base.Now()
	look.Checks = []connect.Checked{{System: r.Authority, What: "look again", Result: connect.CheckUnchecked, Words: words}}
	return true, looks.store.EndLook(ctx, *look, 0, entry)
}

// newer is a rotation of the same credential that was begun since, or 0.
func (looks *Looks) newer(ctx context.Context, r records.Rotation) (records.RotationID, error) {
	page, err := looks.store.Rotations(ctx, records.Query{Filters: []string{fmt.Sprintf("credential_id=%d", r.CredentialID)}, Limit: 1})
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

// NoteOwnTrials keeps, right after the end, which wrong passwords the authorities have
// counted so far: the last one may be our own proof that the old value is refused.
// Where it cannot be read, the time by our clock has to do.
func (looks *Looks) NoteOwnTrials(ctx context.Context, h *acts.Hands, state rotation.State) {
	own := trialsSoFar(ctx, h, state)
	if len(own) == 0 {
		return
	}
	if err := looks.store.NoteOwnTrials(ctx, h.Rotation.ID, own); err != nil {
		looks.base.Log.Warn("our own trials could not be noted", "rotation", h.Rotation.ID, "error", err)
	}
}

// trialsSoFar are the latest wrong passwords by system, each by that system's clock.
func trialsSoFar(ctx context.Context, h *acts.Hands, state rotation.State) map[string]time.Time {
	own := map[string]time.Time{}
	for i, step := range h.Rotation.Plan.Steps {
		if step.Kind != rotation.StepSignIn || step.Door != nil || state.Steps[i].Status != ended(state) {
			continue
		}
		if _, in, err := h.InForce(ctx, step, state); err == nil {
			if verdict, _, err := h.Asks(ctx, step, in); err == nil && verdict.Trials != nil {
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
