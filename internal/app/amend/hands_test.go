package amend

import (
	"context"
	"errors"
	"fmt"
	"math/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// fakeEstate has who has what. Every call to it may fail before, after or in the middle.
type fakeEstate struct {
	connect.Cannot
	has    map[string]bool
	former map[string]string
	fault  func(call string) string
	takes  func()
}

func key(c privilege.RightChange) string { return c.To + " " + c.Words() }

func (e *fakeEstate) Describe() connect.Description { return connect.Description{} }
func (e *fakeEstate) Check(context.Context, connect.Target) connect.CheckReport {
	return connect.CheckReport{}
}

func (e *fakeEstate) failure(what string) error {
	return &connect.Failure{System: "s", Stage: connect.StageChange, Code: what, Words: what, Unclear: what == "unclear"}
}

func (e *fakeEstate) Standing(_ context.Context, _ connect.Target, c privilege.RightChange) (connect.Standing, error) {
	switch e.fault("standing") {
	case "away":
		return connect.Standing{}, e.failure(connect.CodeUnreachable)
	case "refused":
		return connect.Standing{}, e.failure(connect.CodeFailed)
	}
	return connect.Standing{There: e.has[key(c)], InForce: e.has[key(c)], Former: e.former[key(c)], Words: "as it is"}, nil
}

func (e *fakeEstate) Amend(_ context.Context, _ connect.Target, c privilege.RightChange, back bool) error {
	give := c.Give != back
	effect := func() {
		if !give && !back {
			e.takes()
		}
		e.has[key(c)] = give
		if give && back && c.Text != "" {
			e.former[key(c)] = c.Text
		}
		if !give {
			delete(e.former, key(c))
		}
	}
	switch e.fault("amend") {
	case "away":
		return e.failure(connect.CodeUnreachable)
	case "refused":
		return e.failure(connect.CodeNotPermitted)
	case "lost before":
		return e.failure("unclear")
	case "lost after":
		effect()
		return e.failure("unclear")
	}
	effect()
	return nil
}

// memory is a journal that a run may be killed at.
type memory struct {
	Store
	fakeEstate *fakeEstate
	records    []rotation.Record
	dies       func() bool
}

var errKilled = errors.New("killed")

func (m *memory) Append(_ context.Context, r rotation.Record) error {
	if m.dies() {
		return errKilled
	}
	m.records = append(m.records, r)
	return nil
}

func (m *memory) AmendmentJournal(context.Context, records.AmendmentID) ([]rotation.Record, error) {
	return m.records, nil
}

func (m *memory) SystemByID(context.Context, records.SystemID) (records.System, error) {
	return records.System{Name: "s"}, nil
}

func (m *memory) Target(context.Context, records.System) (connect.Connector, connect.Target, error) {
	return m.fakeEstate, connect.Target{Name: "s"}, nil
}

func (m *memory) Record(context.Context, ledger.Entry) error { return nil }

// Whatever fails, is lost, or is killed at any record: an amendment that is done has made all
// as it was wished, one that is undone has left all as it was (also what was so before, and
// how), and nothing is taken before everything that is given is there.
func TestAmendmentsSurviveFaults(t *testing.T) {
	ended := map[string]int{}
	for seed := range int64(3000) {
		r := rand.New(rand.NewSource(seed))
		e := &fakeEstate{has: map[string]bool{}, former: map[string]string{}}
		var changes []building.Amended
		for i := range 2 + r.Intn(4) {
			c := privilege.RightChange{Give: r.Intn(2) == 0, To: "svc", Group: fmt.Sprint("group", i)}
			e.has[key(c)] = !c.Give != (r.Intn(5) == 0) // one in five is so already
			if e.has[key(c)] && r.Intn(2) == 0 {
				e.former[key(c)] = "with more"
			}
			changes = append(changes, building.Amended{SystemID: fmt.Sprint(1 + i%2), System: "s", Change: c})
		}
		has, former := map[string]bool{}, map[string]string{}
		for k, v := range e.has {
			has[k] = v
		}
		for k, v := range e.former {
			former[k] = v
		}
		plan := building.Amend("svc", changes, []rotation.OnFailure{rotation.UndoOnFailure, rotation.StopOnFailure, rotation.ContinueOnFailure}[r.Intn(3)])
		early := ""
		e.takes = func() {
			for _, c := range changes {
				if c.Change.Give && !e.has[key(c.Change)] {
					early = key(c.Change)
				}
			}
		}
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
		m := &memory{fakeEstate: e, dies: func() bool {
			if deaths == 0 || r.Intn(6) > 0 {
				return false
			}
			deaths--
			return true
		}}
		a := &Amendments{store: m, targets: m}
		now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
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
		if seed%3 == 0 && state.Takes(rotation.DecideUndo) == nil { // a person undoes what came of it
			faults, deaths = 0, 0
			require.NoError(t, m.Append(t.Context(), rotation.Record{Seq: state.Last + 1, Time: now, Event: rotation.EventDecision, Step: -1, Result: rotation.DecideUndo, Actor: "ines"}))
			state = run()
			require.Equal(t, rotation.FinishedUndone, state.Result, "seed %d", seed)
		}
		require.Empty(t, early, "seed %d: something was taken before it was given", seed)
		ended[state.Result]++
		switch state.Result {
		case rotation.FinishedDone:
			for _, c := range changes {
				require.Equal(t, c.Change.Give, e.has[key(c.Change)], "seed %d: %s", seed, key(c.Change))
			}
		case rotation.FinishedUndone:
			require.Equal(t, has, e.has, "seed %d", seed)
			require.Equal(t, former, e.former, "seed %d", seed)
		}
	}
	for _, result := range []string{rotation.FinishedDone, rotation.FinishedUndone, rotation.FinishedWithFailures, ""} {
		require.Positive(t, ended[result], "%v", ended)
	}
}
