package policies_test

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"mossledger.example/moss/internal/core/secret"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

var ines = access.Actor{Name: "ines", Roles: access.Roles()}

// office is a store with accounts in custody, and a clock.
type office struct {
	*policies.Policies
	store *store.Store
	base  *app.Base
	now   *atomic.Pointer[time.Time]
	ids   []records.AccountID
	creds []records.CredentialID
}

func (o *office) at(t time.Time) { o.now.Store(&t) }

func newOffice(t testing.TB, accounts int) *office {
	t.Helper()
	ctx := context.Background()
	o := &office{now: &atomic.Pointer[time.Time]{}}
	o.at(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC))
	clock := func() time.Time { return *o.now.Load() }
	s, err := store.Open(ctx, t.TempDir(), clock)
	require.NoError(t, err)
	o.store = s
	o.base, err = app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: clock, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, s.OpenLedger(ctx, o.base.Sealer, s.FolderWitness()))
	t.Cleanup(func() { o.base.Stop(); require.NoError(t, s.Close()) })
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	list := make([]estate.Account, accounts)
	for i := range list {
		list[i] = estate.Account{StableID: fmt.Sprint(i), Name: fmt.Sprintf("svc-%05d", i), Type: "user"}
	}
	require.NoError(t, s.PutAccounts(ctx, id, list, store.NewSeen(), &records.Tally{}))
	for page, err := s.Accounts(ctx, records.Query{Limit: 1000, Sort: "id"}); ; page, err = s.Accounts(ctx, records.Query{Limit: 1000, Sort: "id", Cursor: page.Next}) {
		require.NoError(t, err)
		for _, a := range page.Items {
			o.ids = append(o.ids, a.ID)
		}
		if page.Next == "" {
			break
		}
	}
	o.Policies = policies.New(o.base, s, approval.New(o.base, s))
	return o
}

// take takes the first accounts into custody.
func (o *office) take(t testing.TB, n int) {
	t.Helper()
	for i, id := range o.ids[:n] {
		c, err := o.store.NotePassword(context.Background(), id)
		require.NoError(t, err)
		require.NoError(t, o.store.TakeCustody(context.Background(), records.Secret{CredentialID: c.ID, Kind: credential.Password, AccountID: id, Sealed: []byte{1}, Fingerprint: fmt.Sprint("f", i)}, "ines", "taken"))
		o.creds = append(o.creds, c.ID)
	}
}

func (o *office) label(t testing.TB, account records.AccountID, label string) {
	t.Helper()
	require.NoError(t, o.store.PutLabel(context.Background(), records.HandLabel{AccountID: account, Label: label, Reason: "test", SetBy: "ines"}))
}

func every(days int) records.PolicySettings { return records.PolicySettings{EveryDays: days} }

func (o *office) save(t testing.TB, v records.Policy) records.Policy {
	t.Helper()
	v, err := o.Save(context.Background(), ines, v)
	require.NoError(t, err)
	return v
}

// Which of several policies decides is told, with why the others do not.
func TestWhichPolicyDecides(t *testing.T) {
	o := newOffice(t, 4)
	ctx := t.Context()
	why, err := o.Why(ctx, o.ids[0])
	require.NoError(t, err)
	assert.Contains(t, why.Words, "there are no policies")
	o.save(t, records.Policy{Name: "rest", Precedence: 1, PolicySettings: every(90)})
	o.save(t, records.Policy{Name: "boats", Label: "boats", Precedence: 50, PolicySettings: every(30)})
	o.save(t, records.Policy{Name: "piers", Label: "piers", Precedence: 40, PolicySettings: every(60)})
	for _, label := range []string{"boats", "piers"} {
		o.label(t, o.ids[1], label)
	}
	why, err = o.Why(ctx, o.ids[1])
	require.NoError(t, err)
	assert.Contains(t, why.Words, "nothing of it is in custody")
	o.take(t, 4)
	why, err = o.Why(ctx, o.ids[1])
	require.NoError(t, err)
	require.Len(t, why.Policies, 3)
	assert.Equal(t, policies.WhyPolicy{Policy: "boats", Label: "boats", Precedence: 50, Decides: true, Because: "it has the label boats, and no policy with a higher precedence is for it"}, why.Policies[0])
	assert.Equal(t, "it would be for it, and boats has the higher precedence 50", why.Policies[1].Because)
	assert.False(t, why.Policies[2].Decides)
	assert.Contains(t, why.Words, "the policy boats rotates it every 30 days; next between")
	require.Len(t, why.Turns, 1)
	assert.Equal(t, "planned", why.Turns[0].State)
	why, err = o.Why(ctx, o.ids[0])
	require.NoError(t, err)
	assert.Equal(t, "it has not the label boats", why.Policies[0].Because)
	assert.Equal(t, "it is for every account, and no other one with a higher precedence is for it", why.Policies[2].Because)

	// One of its name, and one of its precedence, are refused; also one that was not seen as it is.
	_, err = o.Save(ctx, ines, records.Policy{Name: "BOATS", Precedence: 77, PolicySettings: every(30)})
	require.ErrorIs(t, err, app.ErrInput, "small letters")
	for _, settings := range []records.PolicySettings{{EveryDays: 30, Length: 11}, {EveryDays: 30, Length: 257}, {EveryDays: 30, Without: secret.Symbols + secret.Digits}} {
		_, err = o.Save(ctx, ines, records.Policy{Name: "short", Precedence: 77, PolicySettings: settings})
		require.ErrorIs(t, err, app.ErrInput, "no such password is made: %+v", settings)
	}
	_, err = o.Save(ctx, ines, records.Policy{Name: "boats", Precedence: 77, PolicySettings: every(30)})
	require.ErrorIs(t, err, records.ErrConflict)
	_, err = o.Save(ctx, ines, records.Policy{Name: "more", Precedence: 50, PolicySettings: every(30)})
	require.ErrorContains(t, err, "which of two decides must be clear")
	_, err = o.Save(ctx, ines, records.Policy{Name: "boats", Label: "boats", Precedence: 51, PolicySettings: every(30), Revision: 7})
	require.ErrorIs(t, err, records.ErrStale)
	changed := o.save(t, records.Policy{Name: "boats", Label: "boats", Precedence: 51, PolicySettings: every(31), Revision: 1})
	assert.Equal(t, int64(2), changed.Revision)
	require.ErrorIs(t, o.Remove(ctx, ines, "boats", 1), records.ErrStale)
	require.NoError(t, o.Remove(ctx, ines, "boats", 2))
	why, err = o.Why(ctx, o.ids[1])
	require.NoError(t, err)
	assert.True(t, why.Policies[0].Decides)
	_, err = o.Save(ctx, access.Actor{Name: "ben", Roles: []string{access.RoleOperator}}, records.Policy{Name: "mine", Precedence: 3, PolicySettings: every(30)})
	require.ErrorIs(t, err, access.ErrDenied)
}

func TestPoliciesThatCannotBe(t *testing.T) {
	o := newOffice(t, 0)
	for words, v := range map[string]records.Policy{
		"say how often":                   {},
		"in one way":                      {PolicySettings: records.PolicySettings{EveryDays: 1, Rule: "FREQ=DAILY"}},
		"belong to a recurrence rule":     {PolicySettings: records.PolicySettings{EveryDays: 1, Spread: 3}},
		"name a time zone":                {PolicySettings: records.PolicySettings{Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00"}},
		"there is no time zone":           {PolicySettings: records.PolicySettings{Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "../../etc/passwd"}},
		"is not written like":             {PolicySettings: records.PolicySettings{Rule: "FREQ=DAILY", Begins: "soon", Zone: "UTC"}},
		"not a recurrence":                {PolicySettings: records.PolicySettings{Rule: "FREQ=NEVER", Begins: "2026-01-01T00:00", Zone: "UTC"}},
		"without a window none ends":      {PolicySettings: records.PolicySettings{EveryDays: 1, AtWindowEnd: rotation.EndUndo}},
		"on failure: \"hope\" is none of": {PolicySettings: records.PolicySettings{EveryDays: 1, OnFailure: "hope"}},
		"way: \"by-magic\" is none of":    {PolicySettings: records.PolicySettings{EveryDays: 1, Way: "by-magic"}},
		"window \"never\": not found":     {Window: "never", PolicySettings: every(1)},
		"the precedence is a number from": {Precedence: -1, PolicySettings: every(1)},
		"a label is of small letters":     {Label: "Big Boats", PolicySettings: every(1)},
		"every 1 to 3,660 days":           {PolicySettings: every(-3)},
		"restart: \"window\" is none of":  {PolicySettings: records.PolicySettings{EveryDays: 1, Restart: rotation.RestartWindow}},
		"spread over 1 to 366":            {PolicySettings: records.PolicySettings{Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "UTC", Spread: 400}},
		"cannot be the name of a policy":  {Name: "../x", PolicySettings: every(1)},
	} {
		if v.Name == "" {
			v.Name = "one"
		}
		_, err := o.Save(t.Context(), ines, v)
		require.Error(t, err, words)
		require.ErrorContains(t, err, words)
	}
	for words, v := range map[string]records.Window{
		"5 minutes to 7 days":   {Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "UTC", Minutes: 1},
		"there is no time zone": {Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "Europa/Oslo", Minutes: 60},
		"system \"gone\"":       {Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "UTC", Minutes: 60, Systems: []string{"gone"}},
		"dependent 99":          {Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "UTC", Minutes: 60, Dependents: []records.WindowDependent{{ID: 99}}},
	} {
		v.Name = "one"
		_, err := o.SaveWindow(t.Context(), ines, v)
		require.ErrorContains(t, err, words)
	}
	for words, v := range map[string]records.Order{
		"a group or a sequence": {Kind: "queue", Members: []records.OrderMember{{Place: "a"}}},
		"2 to 50 members":       {Kind: "sequence", Members: []records.OrderMember{{Place: "a"}}},
		"says of which system":  {Kind: "group", Members: []records.OrderMember{{}}},
		"not of a sequence":     {Kind: "sequence", AtOnce: 2, Members: []records.OrderMember{{Place: "a"}, {Place: "b"}}},
	} {
		v.Name = "one"
		_, err := o.SaveOrder(t.Context(), ines, v)
		require.ErrorContains(t, err, words)
	}
}

// Turns are kept as they come and go: with policies, labels, custody and what was rotated.
func TestTurnsFollow(t *testing.T) {
	o := newOffice(t, 30)
	ctx := t.Context()
	o.take(t, 20)
	turns := func() []records.Turn {
		_, err := o.Refresh(ctx)
		require.NoError(t, err)
		page, err := o.store.Turns(ctx, records.Query{Limit: 100})
		require.NoError(t, err)
		return page.Items
	}
	require.Empty(t, turns())
	_, err := o.SaveWindow(ctx, ines, records.Window{Name: "nights", Rule: "FREQ=DAILY", Begins: "2026-01-01T22:00", Zone: "Europe/Oslo", Minutes: 240})
	require.NoError(t, err)
	o.save(t, records.Policy{Name: "nightly", Precedence: 5, Window: "nights", PolicySettings: every(10)})
	list := turns()
	require.Len(t, list, 20)
	start := *o.now.Load()
	for _, v := range list {
		require.Equal(t, "planned", v.State)
		require.True(t, v.Next.After(start) && v.Next.Before(start.AddDate(0, 0, 10).Add(3*time.Hour)), v.Next)
		require.Equal(t, 21, v.Next.UTC().Hour())
		require.Equal(t, start, v.Since.UTC())
	}
	first := list[0]
	o.at(first.Next.Add(time.Hour))
	due := turns()[0]
	require.Equal(t, first.CredentialID, due.CredentialID)
	require.Equal(t, "due", due.State)
	require.Equal(t, first.Next, due.Due)
	require.Equal(t, first.Next, due.Next, "it is open now")
	// Tried, and not done: once in each opening, until it is.
	due.Tried, due.Failed, due.Words = o.now.Load().UTC(), 1, "the rehearsal failed"
	require.NoError(t, o.store.KeepTurns(ctx, []records.Turn{due}, nil))
	page, err := o.store.Turns(ctx, records.Query{Filters: []string{"state=failed"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	planned, err := o.Refresh(ctx)
	require.NoError(t, err)
	for _, p := range planned {
		if p.CredentialID == first.CredentialID {
			require.Equal(t, first.Next.AddDate(0, 0, 1), p.Next, "the next night")
			require.Equal(t, first.Next, p.Due)
			require.Equal(t, "failed", p.State)
		}
	}
	// Another policy decides: the count begins anew. Without custody or policy there is no turn.
	o.save(t, records.Policy{Name: "rare", Label: "rare", Precedence: 9, PolicySettings: every(300)})
	o.label(t, due.AccountID, "rare")
	for _, v := range turns() {
		if v.CredentialID == due.CredentialID {
			require.Equal(t, "rare", v.Policy)
			require.Zero(t, v.Due)
			require.Empty(t, v.Words)
			require.Equal(t, o.now.Load().UTC(), v.Since.UTC())
		}
	}
	require.NoError(t, o.store.ReleaseCustody(ctx, due.CredentialID))
	require.Len(t, turns(), 19)
	paused := records.Policy{Name: "nightly", Precedence: 5, Window: "nights", PolicySettings: every(10), Paused: true, Revision: 1}
	o.save(t, paused)
	for _, v := range turns() {
		require.Equal(t, "paused", v.State)
	}
	nights, err := o.Nights(ctx, start, start.AddDate(1, 0, 0))
	require.NoError(t, err)
	require.Empty(t, nights, "what is paused rotates nothing")
	require.NoError(t, o.Remove(ctx, ines, "nightly", 2))
	require.Empty(t, turns())
	require.NoError(t, o.RemoveWindow(ctx, ines, "nights", 1))
}

// A clock that was wrong, here or there, stops nothing: what it said of the future is not
// waited for.
func TestAClockThatWasWrong(t *testing.T) {
	o := newOffice(t, 1)
	ctx := t.Context()
	right := *o.now.Load()
	o.take(t, 1)
	o.save(t, records.Policy{Name: "weekly", PolicySettings: every(7)})
	o.at(right.AddDate(9, 0, 0))
	planned, err := o.Refresh(ctx)
	require.NoError(t, err)
	require.Equal(t, *o.now.Load(), planned[0].Since)
	o.at(right)
	planned, err = o.Refresh(ctx)
	require.NoError(t, err)
	require.Equal(t, right, planned[0].Since)
	require.Less(t, planned[0].Next.Sub(right), 8*24*time.Hour)
	o.at(right.AddDate(0, 0, 8))
	planned, err = o.Refresh(ctx)
	require.NoError(t, err)
	require.False(t, planned[0].Due.IsZero(), "it is due as it should be")
}

// A year of nights shows each credential as often as it will be rotated.
func TestAYearOfNights(t *testing.T) {
	o := newOffice(t, 200)
	ctx := t.Context()
	o.take(t, 200)
	o.save(t, records.Policy{Name: "monthly", Precedence: 5, PolicySettings: every(30)})
	_, err := o.Refresh(ctx)
	require.NoError(t, err)
	now := *o.now.Load()
	nights, err := o.Nights(ctx, now, now.AddDate(0, 0, 360))
	require.NoError(t, err)
	total := 0
	for i, n := range nights {
		total += n.Count
		require.LessOrEqual(t, len(n.Credentials), 20)
		require.Less(t, n.Count, 20)
		require.True(t, i == 0 || nights[i-1].From.Before(n.From))
	}
	require.Equal(t, 200*12, total)
	part, err := o.Nights(ctx, nights[5].From, nights[6].To)
	require.NoError(t, err)
	require.Equal(t, nights[5:7], part, "a part of it shows the same")

	p, err := o.Preview(ctx, ines, records.Policy{Name: "boats", Label: "boats", Precedence: 50, PolicySettings: every(30)}, false)
	require.NoError(t, err)
	require.Zero(t, p.Decides)
	require.Contains(t, p.Warnings[0], "no credential in custody")
	p, err = o.Preview(ctx, ines, records.Policy{Name: "all", Precedence: 50, PolicySettings: every(10)}, false)
	require.NoError(t, err)
	require.Equal(t, [4]int{200, 200, 0, 10}, [4]int{p.Decides, p.Gains, p.Loses, p.Openings})
	require.Equal(t, "monthly", p.Rows[0].Was)
	require.Equal(t, "all", p.Rows[0].Becomes)
	p, err = o.Preview(ctx, ines, records.Policy{Name: "monthly"}, true)
	require.NoError(t, err)
	require.Equal(t, 200, p.Loses)
	_, err = o.Preview(ctx, ines, records.Policy{Name: "other", Precedence: 5, PolicySettings: every(10)}, false)
	require.ErrorContains(t, err, "precedence 5 already")
}

// A window counts for a dependent, its system, or its account, in that order; and each has
// at most one.
func TestWhichWindowCounts(t *testing.T) {
	o := newOffice(t, 2)
	ctx := t.Context()
	daily := records.Window{Rule: "FREQ=DAILY", Begins: "2026-01-01T22:00", Zone: "UTC", Minutes: 60}
	window := func(name string, change func(*records.Window)) error {
		w := daily
		w.Name = name
		change(&w)
		_, err := o.SaveWindow(ctx, ines, w)
		return err
	}
	require.NoError(t, window("labels", func(w *records.Window) { w.Labels = []string{"boats"} }))
	require.NoError(t, window("systems", func(w *records.Window) { w.Systems = []string{"dir"} }))
	require.NoError(t, window("policy", func(*records.Window) {}))
	require.ErrorContains(t, window("more", func(w *records.Window) { w.Systems = []string{"dir"} }), `the system dir has the window "systems" already`)
	require.ErrorContains(t, window("more", func(w *records.Window) { w.Labels = []string{"boats"} }), `the label boats has the window "labels" already`)
	o.label(t, o.ids[0], "boats")
	for _, c := range []struct {
		account      records.AccountID
		policy, want string
	}{{o.ids[0], "", "labels"}, {o.ids[0], "policy", "policy"}, {o.ids[1], "", ""}} {
		b, err := o.BoundsOf(ctx, c.account, c.policy)
		require.NoError(t, err)
		assert.Equal(t, c.want, b.Window)
		assert.Equal(t, "systems", b.Of(records.Dependent{ID: 1, System: "dir"}))
		assert.Equal(t, c.want, b.Of(records.Dependent{ID: 1, System: "other"}))
		openings, err := b.Openings()
		require.NoError(t, err)
		require.Contains(t, openings, "systems")
		assert.Equal(t, time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC), openings["systems"].Slots[0].From.UTC())
	}
	o.save(t, records.Policy{Name: "p", Window: "policy", PolicySettings: every(1)})
	require.ErrorContains(t, o.RemoveWindow(ctx, ines, "policy", 1), `the policy "p" rotates in it`)
	got, err := o.store.Window(ctx, "policy")
	require.NoError(t, err)
	assert.Equal(t, []string{"p"}, got.Policies)
	now, err := o.PreviewWindow(ines, daily)
	require.NoError(t, err)
	assert.False(t, now.Open)
	assert.Len(t, now.Slots, 10)
}

func at(system, place string) records.Dependent {
	d := records.Dependent{System: system}
	d.Place = place
	return d
}

// Members of an order are chosen by system, place and label, in any letters.
func TestOrders(t *testing.T) {
	o := newOffice(t, 1)
	ctx := t.Context()
	o.label(t, o.ids[0], "boats")
	save := func(name, kind string, atOnce int, members ...records.OrderMember) {
		_, err := o.SaveOrder(ctx, ines, records.Order{Name: name, Kind: kind, AtOnce: atOnce, Members: members})
		require.NoError(t, err)
	}
	save("gauges", "group", 2, records.OrderMember{System: "tide*", Place: "gauge*.service"})
	save("boats", "group", 0, records.OrderMember{Label: "boats"})
	save("piers", "group", 3, records.OrderMember{Label: "piers", Place: "*"})
	save("first-db", "sequence", 0, records.OrderMember{Place: "*DB*"}, records.OrderMember{System: "nowhere"}, records.OrderMember{System: "quay1"})
	b, err := o.BoundsOf(ctx, o.ids[0], "")
	require.NoError(t, err)
	list := []records.Dependent{at("Tide1", "gauge-north.service"), at("quay1", "berth.service"), at("quay1", "maindb.service"), at("tide1", "gauge")}
	assert.Equal(t, []string{"boats", "gauges"}, b.Groups(list[0]))
	assert.Equal(t, []string{"boats"}, b.Groups(list[1]))
	assert.Equal(t, map[string]int{"boats": 1, "gauges": 2, "piers": 3}, b.AtOnce())
	assert.Equal(t, [][][]int{{{2}, {1}}}, b.Sequences(list), "the database first, also on the same system")
	b, err = o.BoundsOf(ctx, 0, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"gauges"}, b.Groups(list[0]), "a key has no labels")
	require.ErrorIs(t, o.RemoveOrder(ctx, ines, "boats", 4), records.ErrStale)
	require.NoError(t, o.RemoveOrder(ctx, ines, "boats", 1))
	page, err := o.store.Orders(ctx, records.Query{Filters: []string{"kind=group"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 2)
}

// What a dependent stood still is the middle one of its last five times.
func TestExpectedInterruptions(t *testing.T) {
	o := newOffice(t, 1)
	ctx := t.Context()
	o.take(t, 1)
	for i, seconds := range []int64{900, 900, 1, 3, 2, 60, 4} {
		id, err := o.store.BeginRotation(ctx, records.Rotation{CredentialID: o.creds[0], Credential: "svc", Plan: rotation.Plan{}, OnFailure: "undo", Mode: "running"})
		require.NoError(t, err)
		require.NoError(t, o.store.AppendJournal(ctx, records.Rotation{ID: id, CredentialID: o.creds[0]}, rotation.Record{Seq: 1, Event: rotation.EventFinished, Step: -1, Result: "done"}, "finished", "done", records.Effects{}))
		require.NoError(t, o.store.AddInterruptions(ctx, []records.Interruption{{RotationID: id, SystemID: 1, Place: "berth.service", At: o.now.Load().Add(time.Duration(i) * time.Hour), Milliseconds: seconds * 1000, Expected: 5}}))
	}
	got, err := o.store.ExpectedInterruptions(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, map[string]time.Duration{"berth.service": 3 * time.Second}, got)
	list, err := o.store.Interruptions(ctx, 6)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, int64(60_000), list[0].Milliseconds)
	assert.Equal(t, "dir", list[0].System)
}
