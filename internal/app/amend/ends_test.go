package amend

import (
	"context"
	"fmt"
	"math/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// ending is a connector whose accounts end: each is accepted until its end, unless disabled or
// gone. Every call to it may fail before, after or in the middle.
type ending struct {
	*fakeEstate
	ends map[string]string // by name: an end, "disabled", "gone"; "" for never
}

func (e *ending) after(c expiry.EndChange) string {
	switch c.Act {
	case expiry.Disable:
		return "disabled"
	case expiry.Delete:
		return "gone"
	case expiry.Enable:
		return ""
	case expiry.Expire:
		return "now"
	}
	return c.End.String()
}

func (e *ending) Ending(_ context.Context, _ connect.Target, c expiry.EndChange) (connect.Ending, error) {
	switch e.fault("standing") {
	case "away":
		return connect.Ending{}, e.failure(connect.CodeUnreachable)
	case "refused":
		return connect.Ending{}, e.failure(connect.CodeFailed)
	}
	is := e.ends[c.Name]
	return connect.Ending{Standing: connect.Standing{There: is == e.after(c), InForce: is == "now" || is == "disabled" || is == "gone", Former: is, Words: "it is " + is}}, nil
}

func (e *ending) End(_ context.Context, t connect.Target, c expiry.EndChange, back bool) error {
	effect := func() error {
		is := connect.Ending{Standing: connect.Standing{There: e.ends[c.Name] == e.after(c), Former: e.ends[c.Name]}}
		if due, err := t.Due(c, is, back); !due {
			return err
		}
		if e.ends[c.Name] = e.after(c); back {
			e.ends[c.Name] = c.Former
		}
		return nil
	}
	switch e.fault("end") {
	case "away":
		return e.failure(connect.CodeUnreachable)
	case "refused":
		return e.failure(connect.CodeNotPermitted)
	case "lost before":
		return e.failure("unclear")
	case "lost after":
		_ = effect()
		return e.failure("unclear")
	}
	return effect()
}

// mortal is a memory whose systems have ends.
type mortal struct {
	*memory
	of *ending
}

func (m mortal) Target(ctx context.Context, v records.System) (connect.Connector, connect.Target, error) {
	_, target, err := m.memory.Target(ctx, v)
	return m.of, target, err
}

// Whatever fails, is lost, or is killed at any record: what is done is as it was wished, what
// is undone is as it was before, whatever that was.
func TestEndsSurviveFaults(t *testing.T) {
	ended := map[string]int{}
	for seed := range int64(3000) {
		r := rand.New(rand.NewSource(seed))
		e := &ending{fakeEstate: &fakeEstate{}, ends: map[string]string{}}
		acts := []expiry.Act{expiry.SetEnd, expiry.Expire, expiry.Disable, expiry.Enable}
		var changes []building.Ending
		for i := range 1 + r.Intn(4) {
			c := expiry.EndChange{Act: acts[r.Intn(len(acts))], Of: expiry.Account, Name: fmt.Sprint("svc", i), End: expiry.At(time.Date(2030+i, 1, 1, 0, 0, 0, 0, time.UTC))}
			e.ends[c.Name] = []string{"", "disabled", "2029", "now", c.End.String()}[r.Intn(5)]
			changes = append(changes, building.Ending{SystemID: fmt.Sprint(1 + i%2), System: "s", Change: c})
		}
		was := map[string]string{}
		for k, v := range e.ends {
			was[k] = v
		}
		plan := building.End("svc", changes, []rotation.OnFailure{rotation.UndoOnFailure, rotation.StopOnFailure, rotation.ContinueOnFailure}[r.Intn(3)])
		faults := 1 + r.Intn(6)
		e.fault = func(call string) string {
			if faults == 0 || r.Intn(4) > 0 {
				return ""
			}
			faults--
			if call == "standing" {
				return []string{"away", "refused"}[r.Intn(2)]
			}
			return []string{"away", "refused", "lost before", "lost after"}[r.Intn(4)]
		}
		deaths := r.Intn(4)
		m := mortal{&memory{fakeEstate: e.fakeEstate, dies: func() bool {
			if deaths == 0 || r.Intn(6) > 0 {
				return false
			}
			deaths--
			return true
		}}, e}
		a := &Amendments{store: m, targets: m}
		now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
		run := func() rotation.State {
			for range 50 {
				runner := rotation.Runner{Plan: plan, Journal: m, Hands: &hands{amendments: a, id: 1, plan: plan}, Parallel: 1, Now: func() time.Time { return now }, Wait: func(_ context.Context, d time.Duration) error { now = now.Add(d); return nil }}
				state, err := runner.Run(t.Context(), m.records)
				if err == nil {
					return state
				}
				require.ErrorIs(t, err, rotation.ErrJournal, "seed %d", seed)
			}
			t.Fatal("it does not end")
			return rotation.State{}
		}
		state := run()
		if seed%3 == 0 && state.Takes(rotation.DecideUndo) == nil {
			faults, deaths = 0, 0
			require.NoError(t, m.Append(t.Context(), rotation.Record{Seq: state.Last + 1, Time: now, Event: rotation.EventDecision, Step: -1, Result: rotation.DecideUndo, Actor: "ines"}))
			state = run()
			require.Equal(t, rotation.FinishedUndone, state.Result, "seed %d", seed)
		}
		ended[state.Result]++
		switch state.Result {
		case rotation.FinishedDone:
			for _, c := range changes {
				require.Equal(t, e.after(c.Change), e.ends[c.Change.Name], "seed %d: %s", seed, c.Change.Words())
			}
		case rotation.FinishedUndone:
			require.Equal(t, was, e.ends, "seed %d", seed)
		}
	}
	for _, result := range []string{rotation.FinishedDone, rotation.FinishedUndone, rotation.FinishedWithFailures, ""} {
		require.Positive(t, ended[result], "%v", ended)
	}
}

// What is deleted comes last, once all else is proven, and cannot be undone from then on.
func TestDeletionsComeLast(t *testing.T) {
	e := &ending{fakeEstate: &fakeEstate{fault: func(string) string { return "" }}, ends: map[string]string{"a": "", "b": ""}}
	change := func(act expiry.Act, name string) building.Ending {
		return building.Ending{SystemID: "1", System: "s", Change: expiry.EndChange{Act: act, Of: expiry.Account, Name: name}}
	}
	plan := building.End("both", []building.Ending{change(expiry.Delete, "a"), change(expiry.Disable, "b")}, rotation.StopOnFailure)
	require.Equal(t, []int{1}, plan.Steps[2].Needs)
	m := mortal{&memory{fakeEstate: e.fakeEstate, dies: func() bool { return false }}, e}
	a := &Amendments{store: m, targets: m}
	runner := rotation.Runner{Plan: plan, Journal: m, Hands: &hands{amendments: a, id: 1, plan: plan}, Parallel: 4, Now: time.Now, Wait: func(context.Context, time.Duration) error { return nil }}
	state, err := runner.Run(t.Context(), m.records)
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, state.Result)
	require.Equal(t, map[string]string{"a": "gone", "b": "disabled"}, e.ends)
	require.ErrorContains(t, state.Takes(rotation.DecideUndo), "deleted, or may be")
	require.NotContains(t, state.Decisions(), rotation.DecideUndo)
}
