package policies

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"time"

	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/records"
)

// Planned is a credential with the policy that decides for it, and its turn.
type Planned struct {
	records.Candidate
	By      records.Policy
	stagger *calendar.Stagger
}

// clockOff is how far the clocks of systems may be ahead.
const clockOff = 10 * time.Minute

// who names a credential where turns are given.
func who(id records.CredentialID) string { return fmt.Sprintf("credential/%d", id) }

// last is when it was done last: its value changed, or the policy began to decide.
func (p Planned) last() time.Time {
	if p.Last.After(p.Since) {
		return p.Last
	}
	return p.Since
}

// evaluate says which policy decides for each of some candidates, and when their turns
// are. Those for which none decides are left out.
func (policies *Policies) evaluate(ctx context.Context, all []records.Policy, list []records.Candidate) ([]Planned, error) {
	staggers := map[records.PolicyID]*calendar.Stagger{}
	now := policies.base.Now()
	var out []Planned
	for _, c := range list {
		decides := decidesFor(all, c)
		if decides == nil {
			continue
		}
		s := staggers[decides.ID]
		if s == nil {
			var err error
			if s, err = policies.stagger(ctx, *decides); err != nil {
				return nil, fmt.Errorf("policy %s: %w", decides.Name, err)
			}
			staggers[decides.ID] = s
		}
		p := Planned{Candidate: c, By: *decides, stagger: s}
		if !c.HasTurn || c.PolicyID != decides.ID {
			p.Since, p.Failed, p.Words, p.Tried = now, 0, "", time.Time{}
		}
		// What a clock that was wrong said is not waited for.
		if p.Last.After(now.Add(clockOff)) {
			p.Last = time.Time{}
		}
		if p.Since.After(now.Add(clockOff)) {
			p.Since = now
		}
		p.PolicyID, p.Policy, p.Window = decides.ID, decides.Name, decides.Window
		next, due := p.turn(now)
		if undone := !p.Undone.IsZero() && !p.Last.After(p.Undone.Add(clockOff)); undone && !c.Due.IsZero() && c.PolicyID == decides.ID {
			// What was put back was changed as well, and is due as it was.
			next, due = s.Opening(now), c.Due
		} else if p.Last.After(p.Tried) { // it was changed since, by whomever
			p.Failed = 0
			if due.IsZero() { // what it waits for now stays to be read
				p.Words = ""
			}
		}
		if !due.IsZero() && !p.Tried.Before(next.From) { // once in each opening
			next = s.Opening(next.To)
		}
		p.Next, p.NextEnds, p.Due = next.From, next.To, due
		p.State = stateOf(p)
		out = append(out, p)
	}
	return out, nil
}

// turn is when it is rotated next, and since when it is due: in its turn of a cycle, or, of a
// certificate, so many days before its end.
func (p Planned) turn(now time.Time) (next calendar.Slot, due time.Time) {
	if p.Ends.IsZero() {
		return p.stagger.Due(who(p.CredentialID), p.last(), now)
	}
	at := p.Ends.AddDate(0, 0, -p.By.RenewDays)
	if at.After(now) {
		return p.stagger.Opening(at), time.Time{}
	}
	return p.stagger.Opening(now), at
}

func stateOf(p Planned) string {
	switch {
	case p.Running:
		return "running"
	case p.By.Paused:
		return "paused"
	case !p.Due.IsZero() && p.Failed > 0:
		return "failed"
	case !p.Due.IsZero():
		return "due"
	}
	return "planned"
}

// Refresh works out the turns of all credentials in custody, keeps them, and returns them.
func (policies *Policies) Refresh(ctx context.Context) ([]Planned, error) {
	all, err := policies.store.AllPolicies(ctx)
	if err != nil {
		return nil, err
	}
	list, err := policies.store.Candidates(ctx, 0)
	if err != nil {
		return nil, err
	}
	planned, err := policies.evaluate(ctx, all, list)
	if err != nil {
		return nil, err
	}
	was := map[records.CredentialID]records.Candidate{}
	for _, c := range list {
		was[c.CredentialID] = c
	}
	var kept []records.Turn
	for _, p := range planned {
		before := was[p.CredentialID]
		delete(was, p.CredentialID)
		same := before.HasTurn && before.PolicyID == p.PolicyID && before.Next.Equal(p.Next) && before.NextEnds.Equal(p.NextEnds) && before.Due.Equal(p.Due) && before.Failed == p.Failed && before.Words == p.Words
		if !same {
			kept = append(kept, p.Turn)
		}
	}
	gone, err := policies.store.StaleTurns(ctx)
	if err != nil {
		return nil, err
	}
	for id, c := range was {
		if c.HasTurn {
			gone = append(gone, id)
		}
	}
	return planned, policies.store.KeepTurns(ctx, kept, gone)
}

// Night is one opening in which credentials have their turn.
type Night struct {
	calendar.Slot
	Policy      string   `json:"policy"`
	Window      string   `json:"window,omitempty"`
	Count       int      `json:"count" doc:"Credentials that are rotated in it"`
	Credentials []string `json:"credentials" nullable:"false" doc:"The first of them, by name"`
}

// shownNames is how many credentials of a night are named.
const shownNames = 20

// Nights says what will be rotated when, from one time until another: each opening in
// which something is, by policy. Policies that are paused rotate nothing.
func (policies *Policies) Nights(ctx context.Context, from, until time.Time) ([]Night, error) {
	all, err := policies.store.AllPolicies(ctx)
	if err != nil {
		return nil, err
	}
	list, err := policies.store.Candidates(ctx, 0)
	if err != nil {
		return nil, err
	}
	planned, err := policies.evaluate(ctx, all, list)
	if err != nil {
		return nil, err
	}
	return nightsOf(planned, from, until), nil
}

type nightKey struct {
	from   time.Time
	policy records.PolicyID
}

func nightsOf(planned []Planned, from, until time.Time) []Night {
	nights := map[nightKey]*Night{}
	add := func(p *Planned, slot calendar.Slot) {
		key := nightKey{slot.From, p.PolicyID}
		n := nights[key]
		if n == nil {
			n = &Night{Slot: slot, Policy: p.Policy, Window: p.Window, Credentials: []string{}}
			nights[key] = n
		}
		n.Count++
		if len(n.Credentials) < shownNames {
			n.Credentials = append(n.Credentials, p.Credential)
		}
	}
	for i := range planned {
		p := &planned[i]
		if p.By.Paused || p.Next.IsZero() {
			continue
		}
		first := calendar.Slot{From: p.Next, To: p.NextEnds}
		if first.To.After(from) && first.From.Before(until) {
			add(p, first)
		}
		if !p.Ends.IsZero() {
			continue // when the next one ends nobody knows yet
		}
		after := first.From
		if from.After(after) {
			after = from.Add(-time.Nanosecond)
		}
		for _, slot := range p.stagger.Turns(who(p.CredentialID), after, until.Add(-time.Nanosecond)) {
			add(p, slot)
		}
	}
	out := make([]Night, 0, len(nights))
	for _, n := range nights {
		slices.Sort(n.Credentials)
		out = append(out, *n)
	}
	sort.Slice(out, func(i, j int) bool {
		if !out[i].From.Equal(out[j].From) {
			return out[i].From.Before(out[j].From)
		}
		return out[i].Policy < out[j].Policy
	})
	return out
}
