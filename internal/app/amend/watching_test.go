package amend

import (
	"context"
	"fmt"
	"math/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/rotation/building"
	"mossledger.example/moss/internal/records"
)

// watched is a memory in which what is seen of an account appears with time.
type watched struct {
	mortal
	now  *time.Time
	uses []records.SeenUse
	list []records.Dependent
}

func (w *watched) SystemByID(context.Context, records.SystemID) (records.System, error) {
	return records.System{Name: "s", Complete: *w.now}, nil
}

func (w *watched) SeenUses(context.Context, records.AccountID) (out []records.SeenUse, _ error) {
	for _, u := range w.uses {
		if !u.Last.After(*w.now) {
			out = append(out, u)
		}
	}
	return out, nil
}

func (w *watched) DependentsOfAccount(context.Context, records.AccountID) ([]records.Dependent, error) {
	return w.list, nil
}

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

const month = 30 * 24 * time.Hour

// retiring is a plan that disables, watches, and deletes; and what runs it once, to where it
// stops or ends.
func retiring(t *testing.T, e *ending, w *watched, dies func() bool) (rotation.Plan, func() rotation.State) {
	t.Helper()
	c := func(act expiry.Act) expiry.EndChange {
		return expiry.EndChange{Act: act, Of: expiry.Account, Name: "svc", Account: "7"}
	}
	plan := building.End("svc", []building.Ending{{SystemID: "1", System: "s", Change: c(expiry.Disable), Watch: month}, {SystemID: "1", System: "s", Change: c(expiry.Delete)}}, rotation.StopOnFailure)
	w.mortal = mortal{&memory{fakeEstate: e.fakeEstate, dies: dies}, e}
	a := &Amendments{store: w, targets: w.mortal}
	return plan, func() rotation.State {
		for range 100 {
			runner := rotation.Runner{Plan: plan, Journal: w.mortal, Hands: &hands{amendments: a, id: 1, plan: plan}, Parallel: 1, Now: func() time.Time { return *w.now }, Wait: func(_ context.Context, d time.Duration) error { *w.now = w.now.Add(d); return nil }}
			state, err := runner.Run(t.Context(), w.records)
			if err == nil {
				return state
			}
			require.ErrorIs(t, err, rotation.ErrJournal)
		}
		t.Fatal("it does not end")
		return rotation.State{}
	}
}

// Whatever fails, is lost or is killed: nothing is deleted before it was refused, and watched
// for all of its time; what was asked for meanwhile is not deleted without a person; and until
// it is deleted it can be let in again.
func TestNothingIsDeletedUnwatched(t *testing.T) {
	ended := map[string]int{}
	for seed := range int64(2000) {
		r := rand.New(rand.NewSource(seed))
		e := &ending{fakeEstate: &fakeEstate{}, ends: map[string]string{"svc": []string{"", "disabled"}[r.Intn(2)]}}
		was := e.ends["svc"]
		now := noon
		w := &watched{now: &now}
		asks := r.Intn(3) == 0
		if asks {
			w.uses = []records.SeenUse{{Client: "192.0.2.7", How: "ssh, password", Failed: true, Last: noon.Add(time.Duration(r.Int63n(int64(month))) + time.Hour)}}
		}
		faults := r.Intn(5)
		e.fault = func(call string) string {
			if faults == 0 || r.Intn(4) > 0 {
				return ""
			}
			faults--
			if call == "standing" {
				return "away"
			}
			return []string{"away", "lost before", "lost after"}[r.Intn(3)]
		}
		deaths := r.Intn(4)
		plan, run := retiring(t, e, w, func() bool {
			if deaths == 0 || r.Intn(5) > 0 {
				return false
			}
			deaths--
			return true
		})
		require.Equal(t, []rotation.StepKind{rotation.StepEnd, rotation.StepConfirm, rotation.StepWatch, rotation.StepEnd, rotation.StepConfirm}, kindsOf(plan))
		state := run()
		var proven, gone time.Time
		for _, record := range w.records {
			if record.Step == 1 && record.Event != rotation.EventIntent && proven.IsZero() && state.Steps[1].Status == rotation.Done {
				proven = record.Time
			}
			if record.Step == 3 && record.Event == rotation.EventIntent && gone.IsZero() {
				gone = record.Time
			}
		}
		if !gone.IsZero() {
			require.False(t, gone.Before(proven.Add(month)), "seed %d: deleted after %s", seed, gone.Sub(proven))
			require.False(t, asks && w.uses[0].Last.After(proven) && w.uses[0].Last.Before(gone), "seed %d: it was asked for", seed)
		}
		switch {
		case state.Mode == rotation.ModeStopped && e.ends["svc"] != "gone":
			faults, deaths = 0, 0
			decision := []string{rotation.DecideUndo, rotation.DecideResume}[r.Intn(2)]
			require.NoError(t, state.Takes(decision))
			require.NoError(t, w.Append(t.Context(), rotation.Record{Seq: state.Last + 1, Time: now, Event: rotation.EventDecision, Step: -1, Result: decision, Actor: "ines"}))
			state = run()
			if decision == rotation.DecideUndo {
				require.Equal(t, was, e.ends["svc"], "seed %d", seed)
				require.Equal(t, rotation.FinishedUndone, state.Result, "seed %d", seed)
			}
			ended[decision]++
		case state.Result == rotation.FinishedDone:
			require.Equal(t, "gone", e.ends["svc"], "seed %d", seed)
		}
		ended[state.Result]++
	}
	for _, result := range []string{rotation.FinishedDone, rotation.FinishedUndone, rotation.DecideUndo, rotation.DecideResume} {
		require.Positive(t, ended[result], "%v", ended)
	}
}

func kindsOf(plan rotation.Plan) (out []rotation.StepKind) {
	for _, s := range plan.Steps {
		out = append(out, s.Kind)
	}
	return out
}

// Who lets it in again meanwhile, and what is down for want of it, keep it from being deleted,
// in words that say who; a person who resumes has judged what was seen, and not what comes.
func TestWhatWatchingSees(t *testing.T) {
	for name, c := range map[string]struct {
		meanwhile func(e *ending, w *watched)
		words     string
	}{
		"let in again": {func(e *ending, _ *watched) { e.ends["svc"] = "" }, "somebody let it in again"},
		"asked for": {func(_ *ending, w *watched) {
			w.uses = append(w.uses, records.SeenUse{Host: "tide1", Unit: "tide.service", How: "session", Last: noon.Add(time.Hour)})
		}, "it is asked for: tide1, tide.service signed in at 2026-11-30T13:00:00Z (session)"},
		"down": {func(_ *ending, w *watched) {
			w.list = []records.Dependent{{System: "quay1", Dependent: estate.Dependent{Kind: estate.DependentUnit, Place: "berth.service", State: "failed", Result: "exit-code"}, Ties: []records.Tie{{AccountID: 7, Strength: string(estate.StrengthRunsAs)}}}}
		}, "berth.service on quay1, which uses it, is down (failed exit-code)"},
	} {
		e := &ending{fakeEstate: &fakeEstate{fault: func(string) string { return "" }}, ends: map[string]string{"svc": ""}}
		now := noon
		w := &watched{now: &now}
		_, run := retiring(t, e, w, func() bool { return false })
		once := false
		e.fault = func(call string) string { // after it is disabled, as the next thing begins
			if call == "standing" && e.ends["svc"] == "disabled" && now.After(noon.Add(time.Hour)) && !once {
				once = true
				c.meanwhile(e, w)
			}
			return ""
		}
		state := run()
		require.Equal(t, rotation.ModeStopped, state.Mode, name)
		assert.Contains(t, state.Steps[2].Words, c.words, name)
		assert.NotEqual(t, "gone", e.ends["svc"], name)
	}
}

// Only a deletion is watched for, and for a time that can be.
func TestWatchingIsForDeletions(t *testing.T) {
	a := &Amendments{}
	for _, w := range []EndWish{{Act: expiry.Disable, Watch: month}, {Act: expiry.Delete, Watch: time.Minute}, {Act: expiry.Delete, Watch: 400 * 24 * time.Hour}} {
		_, err := a.watched(t.Context(), w)
		require.Error(t, err, fmt.Sprint(w))
	}
	list, err := a.watched(t.Context(), EndWish{Act: expiry.Delete})
	require.NoError(t, err)
	assert.Empty(t, list)
}
