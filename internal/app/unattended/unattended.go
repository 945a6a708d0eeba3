// Package unattended rotates what is due, while nobody watches: what policies say, in
// their windows, so many at the same time, and none beside another that restarts the same.
// What cannot be rotated is tried again in the next opening, and is a finding until it is.
package unattended

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Credential(ctx context.Context, id records.CredentialID) (records.Credential, error)
	KeepTurns(ctx context.Context, kept []records.Turn, gone []records.CredentialID) error
	LatestChangeByOthers(ctx context.Context, account records.AccountID, since time.Time) (records.SeenChange, error)
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	Unfinished(ctx context.Context) ([]records.Rotation, error)
}

// Rotations rehearses and starts them.
type Rotations interface {
	Rehearse(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request) (records.Rehearsal, error)
	Start(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, override string) (records.RotationID, error)
	State(ctx context.Context, id records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error)
}

// Turns are worked out anew for each look.
type Turns interface {
	Refresh(ctx context.Context) ([]policies.Planned, error)
}

// Frozen says whether nothing may begin.
type Frozen interface{ Frozen() bool }

// Unattended rotates what is due. Safe for concurrent use.
type Unattended struct {
	base      *app.Base
	store     Store
	turns     Turns
	rotations Rotations
	freeze    Frozen
	waiting   *planning.Waiting
	turn      sync.Mutex
	kicked    atomic.Bool
}

// New makes one.
func New(base *app.Base, store Store, turns Turns, rotations Rotations, freeze Frozen) *Unattended {
	return &Unattended{base: base, store: store, turns: turns, rotations: rotations, freeze: freeze, waiting: planning.NewWaiting()}
}

// defaultAtOnce is how many rotations of a policy run at the same time where it does not
// say; together is how many are rehearsed at the same time.
const (
	defaultAtOnce = 4
	together      = 4
)

// apartAgain is after how long one is looked at again that would wait for another window
// too long.
const apartAgain = 30 * time.Minute

// beingTried stands there while one is; after a crash it stands there still.
const beingTried = "it is being rehearsed"

// Recover tells of those that were being tried when the service ended. They are tried
// again in the next opening: whatever ended the service may have been that.
func (u *Unattended) Recover(ctx context.Context) error {
	planned, err := u.turns.Refresh(ctx)
	if err != nil {
		return err
	}
	var kept []records.Turn
	for _, p := range planned {
		if p.Words == beingTried {
			p.Words = "the service ended while it was tried"
			kept = append(kept, p.Turn)
		}
	}
	return u.store.KeepTurns(ctx, kept, nil)
}

// lastMinutes of an opening begin nothing more.
const lastMinutes = 5 * time.Minute

// Kick has a look soon: a rotation has ended, or policies were changed. It returns at once.
func (u *Unattended) Kick() {
	if u.kicked.Swap(true) || !u.base.Begin() {
		return
	}
	go func() {
		defer u.base.Work.Done()
		u.kicked.Store(false)
		if _, err := u.Look(u.base.Context); err != nil && u.base.Context.Err() == nil {
			u.base.Log.Warn("what is due could not be rotated", "error", err)
		}
	}()
}

// Look works out what is due, and starts what may be.
func (u *Unattended) Look(ctx context.Context) (words string, err error) {
	u.turn.Lock()
	defer u.turn.Unlock()
	planned, err := u.turns.Refresh(ctx)
	if err != nil {
		return "", err
	}
	if err := u.store.SetFindings(ctx, "turn/", findings(planned, u.base.Now())); err != nil {
		return "", err
	}
	due := 0
	for _, p := range planned {
		if !p.Due.IsZero() {
			due++
		}
	}
	if u.freeze.Frozen() {
		return fmt.Sprintf("%d have turns, %d of them are due; everything is frozen", len(planned), due), nil
	}
	started, err := u.start(ctx, planned)
	return fmt.Sprintf("%d have turns, %d of them are due, %d were begun now", len(planned), due, started), err
}

// startable are those that may be begun now, the ones that are due longest first, and how
// many more of each policy may run.
func startable(planned []policies.Planned, now time.Time) (list []policies.Planned, room map[records.PolicyID]int) {
	room = map[records.PolicyID]int{}
	for _, p := range planned {
		if _, known := room[p.PolicyID]; !known {
			room[p.PolicyID] = cmp.Or(p.By.AtOnce, defaultAtOnce)
		}
		if p.Running {
			room[p.PolicyID]--
		}
		slot := calendar.Slot{From: p.Next, To: p.NextEnds}
		late := slot.To.Sub(now) < lastMinutes && slot.To.Sub(slot.From) > 2*lastMinutes
		if !p.Due.IsZero() && !p.Running && !p.By.Paused && slot.Open(now) && !late {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b policies.Planned) int {
		return cmp.Or(a.Due.Compare(b.Due), cmp.Compare(a.CredentialID, b.CredentialID))
	})
	return list, room
}

// start tries what is due, some at the same time, until there is no room for more.
func (u *Unattended) start(ctx context.Context, planned []policies.Planned) (started int, err error) {
	list, room := startable(planned, u.base.Now())
	if len(list) == 0 {
		return 0, nil
	}
	unfinished, err := u.store.Unfinished(ctx)
	if err != nil {
		return 0, err
	}
	busy := planning.NewBusy(unfinished)
	list = slices.DeleteFunc(list, func(p policies.Planned) bool { return u.waiting.Still(p.CredentialID, busy, u.base.Now()) })
	if err := u.makeRoom(ctx, planned, unfinished, room); err != nil {
		return 0, err
	}
	for len(list) > 0 && ctx.Err() == nil && !u.freeze.Frozen() {
		var batch []policies.Planned
		list = slices.DeleteFunc(list, func(p policies.Planned) bool {
			if len(batch) == together || room[p.PolicyID] <= 0 {
				return false
			}
			room[p.PolicyID]--
			batch = append(batch, p)
			return true
		})
		if len(batch) == 0 {
			return started, nil
		}
		results := make([]result, len(batch))
		var all sync.WaitGroup
		for i, p := range batch {
			all.Go(func() { results[i] = u.try(ctx, p, busy) })
		}
		all.Wait()
		for i, r := range results {
			switch {
			case r.started:
				started++
			default: // it takes no room
				room[batch[i].PolicyID]++
			}
			err = errors.Join(err, r.err)
		}
		if err != nil {
			return started, err
		}
	}
	return started, nil
}

// makeRoom counts those no more that only wait for a window: they may do so for days.
func (u *Unattended) makeRoom(ctx context.Context, planned []policies.Planned, unfinished []records.Rotation, room map[records.PolicyID]int) error {
	of := map[records.CredentialID]records.PolicyID{}
	for _, p := range planned {
		of[p.CredentialID] = p.PolicyID
	}
	for _, r := range unfinished {
		policy, known := of[r.CredentialID]
		if !known || len(r.Plan.Windows) == 0 {
			continue
		}
		_, state, _, err := u.rotations.State(ctx, r.ID)
		if err != nil {
			return err
		}
		if window, _ := state.WaitsFor(u.base.Now()); window != "" {
			room[policy]++
		}
	}
	return nil
}

type result struct {
	started bool
	err     error // of our own: nothing can be kept
}

// Request is what a policy asks of a rotation.
func Request(p records.Policy) planning.Request {
	return planning.Request{
		OnFailure: cmp.Or(p.OnFailure, rotation.UndoOnFailure), When: cmp.Or(p.Restart, rotation.RestartNow), Window: p.Window, AtWindowEnd: p.AtWindowEnd, FirstAlone: p.FirstAlone, Way: p.Way,
		Patience: time.Duration(p.Patience) * time.Second, Length: p.Length, Without: p.Without,
	}
}

// try rotates one, or keeps why it could not be.
func (u *Unattended) try(ctx context.Context, p policies.Planned, busy *planning.Busy) result {
	// It is kept that it was tried before it is: a crash in between makes no second try of it
	// in the same opening.
	was := p.Turn
	p.Tried, p.Failed = u.base.Now().UTC(), p.Failed+1
	p.Words = beingTried
	if err := u.store.KeepTurns(ctx, []records.Turn{p.Turn}, nil); err != nil {
		return result{err: err}
	}
	id, later, words := u.rotate(ctx, p, busy)
	keep := p.Turn
	switch {
	case later || ctx.Err() != nil:
		keep = was // it was no try
		keep.Words = words
	case id != 0:
		keep.RotationID, keep.Words = id, fmt.Sprintf("begun as rotation %d", id)
	default:
		keep.Words = u.base.Redact(ctx, words)
	}
	return result{started: id != 0, err: u.store.KeepTurns(context.WithoutCancel(ctx), []records.Turn{keep}, nil)}
}

// rotate rehearses and starts one. later: not now, and that is no failure.
func (u *Unattended) rotate(ctx context.Context, p policies.Planned, busy *planning.Busy) (id records.RotationID, later bool, words string) {
	if hours := p.By.QuietHours; hours > 0 {
		quiet := time.Duration(hours) * time.Hour
		switch c, err := u.store.LatestChangeByOthers(ctx, p.AccountID, u.base.Now().Add(-quiet)); {
		case err == nil:
			return 0, true, fmt.Sprintf("somebody else changed %s (%s) at %s: it is left alone until %s", c.Name, c.Words, c.At.UTC().Format(time.RFC3339), c.At.Add(quiet).UTC().Format(time.RFC3339))
		case !errors.Is(err, app.ErrNotFound):
			return 0, false, err.Error()
		}
	}
	c, err := u.store.Credential(ctx, p.CredentialID)
	if err != nil {
		return 0, false, err.Error()
	}
	wish := Request(p.By).For(c.Kind)
	rehearsal, err := u.rotations.Rehearse(ctx, access.Service(), c, wish)
	if err != nil {
		return 0, false, err.Error()
	}
	if rehearsal.Verdict != "passed" {
		return 0, false, "the rehearsal failed: " + rehearsal.Failures()
	}
	if window := apart(rehearsal.Plan, u.base.Now(), p.NextEnds); window != "" {
		u.waiting.Until(p.CredentialID, u.base.Now().Add(apartAgain))
		return 0, true, "what it restarts in the window " + window + " could not sign in between its change and that window: it waits until both are open"
	}
	if !busy.Take(rehearsal.Plan) {
		u.waiting.Behind(p.CredentialID, rehearsal.Plan)
		return 0, true, "another rotation that runs restarts or writes the same: it comes after that"
	}
	id, err = u.rotations.Start(ctx, access.Service(), c, wish, fmt.Sprintf("policy %s: its turn of %s", p.Policy, p.Due.UTC().Format(time.RFC3339)), "")
	var waits *rotate.WaitsError
	if errors.As(err, &waits) {
		u.waiting.Until(p.CredentialID, u.base.Now().Add(apartAgain))
		return 0, waits.Refused == "", err.Error()
	}
	if err != nil {
		return 0, false, err.Error()
	}
	return id, false, ""
}

// apart names a window of a plan that does not open until some time, although the value
// that is in use stops being accepted before; "" when there is none.
func apart(plan rotation.Plan, from, until time.Time) string {
	for _, s := range plan.Steps {
		if s.Kind == rotation.StepChange && s.Overlap {
			return "" // both values are accepted: it may wait
		}
	}
	for _, s := range plan.Steps {
		if s.Kind != rotation.StepRestart || s.Window == "" {
			continue
		}
		if slot, found := calendar.OpenIn(plan.Windows[s.Window].Slots, from); !found || !slot.From.Before(until) {
			return s.Window
		}
	}
	return ""
}

// longDue is after how long being due is grave.
const longDue = 7 * 24 * time.Hour

// findings are about those that were due and could not be rotated.
func findings(planned []policies.Planned, now time.Time) []records.Finding {
	var out []records.Finding
	for _, p := range planned {
		long := now.Sub(p.Due) > longDue
		if p.Due.IsZero() || p.Failed == 0 && !long || p.Running || p.By.Paused {
			continue
		}
		severity := "medium"
		if p.Failed >= 3 || long || !p.Ends.IsZero() && p.Ends.Before(now.Add(longDue)) {
			severity = "high"
		}
		name := p.Credential
		if !p.Ends.IsZero() { // what a certificate is called is what somebody wrote who may be anybody
			name = fmt.Sprintf("credential:%d", p.CredentialID)
		}
		next := fmt.Sprintf("see 'moss rotate rehearse %s'", name)
		if p.Next.IsZero() {
			next += "; no opening comes any more in which it would be tried again"
		} else {
			next += "; it is tried again from " + p.Next.UTC().Format(time.RFC3339) + " on"
		}
		out = append(out, records.Finding{
			Key: fmt.Sprintf("turn/%d", p.CredentialID), Kind: "not-rotated", Severity: severity, Subject: p.Credential, System: p.System, AccountID: p.AccountID, CredentialID: p.CredentialID,
			What: fmt.Sprintf("it is due since %s by the policy %s, and was tried %d times: %s", p.Due.UTC().Format(time.RFC3339), p.Policy, p.Failed, p.Words), Next: next,
		})
	}
	return out
}
