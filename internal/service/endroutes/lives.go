package endroutes

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// Life is what is known of one thing that proves an account.
type Life struct {
	What        expiry.What         `json:"what" enum:"password,account,role,token,key,certificate,membership,right"`
	Name        string              `json:"name"`
	KeyID       string              `json:"key_id,omitempty" doc:"Of a key: its number, or the fingerprint of its public half"`
	DependentID records.DependentID `json:"dependent_id,omitempty" doc:"Of a key: where it is accepted"`
	Born        time.Time           `json:"born,omitzero" doc:"When it was made, where that is told"`
	FirstSeen   time.Time           `json:"first_seen" doc:"By a survey"`
	FirstUsed   time.Time           `json:"first_used,omitzero" doc:"The first sign-in that was seen"`
	LastUsed    time.Time           `json:"last_used,omitzero" doc:"As far as its system, records or sessions tell"`
	Changed     time.Time           `json:"changed,omitzero" doc:"Its value, as its system says"`
	Rotated     time.Time           `json:"rotated,omitzero" doc:"From here"`
	State       expiry.State        `json:"state" enum:"ends,ended,never,unknown"`
	At          time.Time           `json:"at,omitzero" doc:"When it ends, or has ended"`
	Left        string              `json:"left" doc:"In words"`
	Made        []records.EndMade   `json:"made" nullable:"false" doc:"What was done about its end from here, and stands: extended, ended, disabled, by whom and why"`
	Outlives    []string            `json:"outlives" nullable:"false" doc:"Why it has outlived its purpose, or may have; none where nothing is known"`
}

// boundsOf are those of the policy of an account's label.
func boundsOf(ctx context.Context, s *store.Store, id records.AccountID, custody bool) (b expiry.Bounds, err error) {
	list, err := s.AllPolicies(ctx)
	if err != nil {
		return b, err
	}
	on, err := s.LabelsOf(ctx, id)
	if err != nil {
		return b, err
	}
	var labels []string
	for _, l := range on {
		if l.On {
			labels = append(labels, l.Label)
		}
	}
	slices.SortFunc(list, func(a, b records.Policy) int { return cmp.Compare(b.Precedence, a.Precedence) })
	p := records.PolicyFor(list, labels, custody)
	return expiry.Bounds{MaxAge: time.Duration(p.MaxAgeDays) * expiry.Day, Idle: time.Duration(p.IdleDays) * expiry.Day}, nil
}

// usedBy is when somebody signed in last and first, as far as was told or seen; what was refused
// is no use.
func usedBy(told time.Time, seen []records.SeenUse) (last, first time.Time) {
	last = told
	for _, u := range seen {
		if u.Failed {
			continue
		}
		if u.Last.After(last) {
			last = u.Last
		}
		if first.IsZero() || u.First.Before(first) {
			first = u.First
		}
	}
	return last, first
}

// lives are those of everything that proves an account: what it signs in with, and each key.
func lives(ctx context.Context, s *store.Store, id records.AccountID, now time.Time) ([]Life, error) {
	a, err := s.Account(ctx, id)
	if err != nil {
		return nil, err
	}
	ends, err := s.EndsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	seen, err := s.SeenUses(ctx, id)
	if err != nil {
		return nil, err
	}
	tied, err := s.DependentsOfAccount(ctx, id)
	if err != nil {
		return nil, err
	}
	own, err := s.PasswordOf(ctx, id)
	if err != nil && !errors.Is(err, records.ErrNotFound) { // nobody noted it
		return nil, err
	}
	used, first := usedBy(a.LastLogOn, seen)
	bounds, err := boundsOf(ctx, s, id, own.InCustody())
	if err != nil {
		return nil, err
	}
	made, err := endsMade(ctx, s, id, tied)
	if err != nil {
		return nil, err
	}
	enabled := a.Enabled != estate.No
	out := []Life{}
	add := func(l Life, is expiry.Life) {
		l.State, l.At, l.Left = is.End.State, is.End.At, is.End.Left(now)
		l.Born, l.FirstSeen, l.LastUsed, l.Changed = is.Born, is.Seen, is.Used, is.Changed
		l.Outlives = append([]string{}, is.Outlives(now, bounds)...)
		l.Made = madeOf(made, l)
		out = append(out, l)
	}
	for _, e := range ends {
		if e.DependentID != 0 {
			continue // keys are told below, where they are accepted
		}
		is := expiry.Life{Seen: a.FirstSeen, Used: used, End: expiry.End{State: e.State, At: e.At, Why: e.Why}, Enabled: enabled}
		l := Life{What: e.What, Name: a.Name, FirstUsed: first}
		if e.What == expiry.Membership || e.What == expiry.Right { // how it signs in says nothing of them
			l.Name, l.FirstUsed = e.Place, time.Time{}
			is = expiry.Life{End: is.End, Enabled: true}
		}
		if e.What == expiry.Password || e.What == expiry.Role {
			is.Changed, l.Rotated = a.PasswordChanged, own.Rotated
		}
		add(l, is)
	}
	for _, d := range tied {
		if d.Key == nil || !d.Gone.IsZero() || d.Kind != estate.DependentIssued && d.Kind != estate.DependentAuthorized {
			continue
		}
		end := expiry.End{State: expiry.Never}
		switch {
		case d.Key.Ended != "":
			end = expiry.End{State: expiry.Ended, Why: d.Key.Ended}
		case !d.Key.Ends.IsZero():
			end = expiry.At(d.Key.Ends)
		}
		number := d.Key.KeyID
		if number == "" {
			number = d.Key.Fingerprint
		}
		add(Life{What: expiry.Key, Name: d.Name, KeyID: number, DependentID: d.ID},
			expiry.Life{Born: d.Key.Begins, Seen: d.FirstSeen, Used: d.Key.Used, End: end, Enabled: enabled && d.Key.Ended == ""})
	}
	return out, nil
}

// endsMade are the changes of ends from here, of an account and of the keys that let somebody in
// as it.
func endsMade(ctx context.Context, s *store.Store, id records.AccountID, tied []records.Dependent) ([]records.EndMade, error) {
	keys := []string{}
	for _, d := range tied {
		if d.Key != nil {
			keys = append(keys, cmp.Or(d.Key.KeyID, d.Key.Fingerprint))
		}
	}
	return s.EndsMade(ctx, id, keys)
}

// madeOf are those about one thing: an account that is disabled takes its password with it.
func madeOf(all []records.EndMade, l Life) []records.EndMade {
	out := []records.EndMade{}
	for _, m := range all {
		if (m.KeyID != "") != (l.KeyID != "") || m.KeyID != l.KeyID || l.KeyID == "" && m.Of != l.What && m.Of != expiry.Account {
			continue
		}
		if m.Act == expiry.SetEnd || m.Act == expiry.Extend || m.Act == expiry.Issue {
			m.Until = m.End.String()
		}
		out = append(out, m)
	}
	return out
}
