package unattended

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// yard has credentials whose turns, rehearsals and rotations are made up.
type yard struct {
	*Unattended
	t       *testing.T
	now     time.Time
	lock    sync.Mutex
	planned []policies.Planned
	kept    map[records.CredentialID]records.Turn
	found   []records.Finding
	frozen  bool
	fails   map[records.CredentialID]string // whose rehearsal does not pass
	refuses map[records.CredentialID]error  // whose start is refused
	touches map[records.CredentialID]string // what a rotation restarts
	kinds   map[records.CredentialID]credential.Kind
	others  map[records.AccountID]time.Time // when somebody else changed it
	running []records.Rotation
	started []records.CredentialID
	asked   []planning.Request
	away    error // of the store
}

var opens = time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)

func newYard(t *testing.T, n int) *yard {
	y := &yard{t: t, now: opens.Add(time.Minute), kept: map[records.CredentialID]records.Turn{}, fails: map[records.CredentialID]string{}, refuses: map[records.CredentialID]error{}, touches: map[records.CredentialID]string{}, others: map[records.AccountID]time.Time{}}
	s, err := store.Open(t.Context(), t.TempDir(), time.Now)
	require.NoError(t, err)
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: func() time.Time { return y.now }, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { base.Stop(); require.NoError(t, s.Close()) })
	y.Unattended = New(base, y, y, y, y)
	for i := range n {
		id := records.CredentialID(i + 1)
		turn := records.Turn{CredentialID: id, Credential: fmt.Sprint("svc-", id), AccountID: records.AccountID(id), PolicyID: 1, Policy: "nightly", Due: opens.Add(-time.Duration(n-i) * time.Hour), Next: opens, NextEnds: opens.Add(4 * time.Hour)}
		y.planned = append(y.planned, policies.Planned{Candidate: records.Candidate{Turn: turn}, By: records.Policy{ID: 1, Name: "nightly"}})
		y.touches[id] = fmt.Sprint("unit-", id)
	}
	return y
}

func (y *yard) Refresh(context.Context) ([]policies.Planned, error) { return y.planned, y.away }
func (y *yard) Frozen() bool                                        { return y.frozen }

func (y *yard) Credential(_ context.Context, id records.CredentialID) (records.Credential, error) {
	return records.Credential{ID: id, Name: fmt.Sprint("svc-", id), Kind: y.kinds[id]}, nil
}

func (y *yard) KeepTurns(_ context.Context, kept []records.Turn, _ []records.CredentialID) error {
	y.lock.Lock()
	defer y.lock.Unlock()
	for _, v := range kept {
		y.kept[v.CredentialID] = v
	}
	return nil
}

func (y *yard) LatestChangeByOthers(_ context.Context, account records.AccountID, since time.Time) (records.SeenChange, error) {
	if at := y.others[account]; at.After(since) {
		return records.SeenChange{Name: "svc", Words: "password changed", At: at}, nil
	}
	return records.SeenChange{}, records.ErrNotFound
}

func (y *yard) SetFindings(_ context.Context, _ string, list []records.Finding) error {
	y.found = list
	return nil
}

func (y *yard) Unfinished(context.Context) ([]records.Rotation, error) { return y.running, nil }

func (y *yard) State(_ context.Context, id records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error) {
	for _, r := range y.running {
		if r.ID == id {
			state, err := rotation.Fold(r.Plan, nil)
			return r, state, nil, err
		}
	}
	return records.Rotation{}, rotation.State{}, nil, records.ErrNotFound
}

func planOf(unit string) rotation.Plan {
	return rotation.Plan{Steps: []rotation.Step{{Kind: rotation.StepRestart, SystemID: "1", Subject: unit}}}
}

func (y *yard) Rehearse(_ context.Context, by access.Actor, c records.Credential, wish planning.Request) (records.Rehearsal, error) {
	y.lock.Lock()
	defer y.lock.Unlock()
	require.True(y.t, by.IsService())
	require.Equal(y.t, "it is being rehearsed", y.kept[c.ID].Words, "that it is tried is kept before")
	y.asked = append(y.asked, wish)
	if words := y.fails[c.ID]; words != "" {
		return records.Rehearsal{Verdict: "failed", Checks: []connect.Checked{{System: "quay1", What: "a", Result: connect.CheckOK}, {System: "quay1", What: "reach the system", Result: connect.CheckFailed, Words: words}}}, nil
	}
	return records.Rehearsal{Verdict: "passed", Plan: planOf(y.touches[c.ID])}, nil
}

func (y *yard) Start(_ context.Context, by access.Actor, c records.Credential, _ planning.Request, reason, override string) (records.RotationID, error) {
	y.lock.Lock()
	defer y.lock.Unlock()
	require.True(y.t, by.IsService())
	require.Empty(y.t, override)
	require.Contains(y.t, reason, "policy nightly: its turn of 2026-11-28T")
	if err := y.refuses[c.ID]; err != nil {
		return 0, err
	}
	y.started = append(y.started, c.ID)
	return records.RotationID(100 + c.ID), nil
}

func (y *yard) look() string {
	y.t.Helper()
	words, err := y.Look(y.t.Context())
	require.NoError(y.t, err)
	slices.Sort(y.started)
	return words
}

// What is due longest comes first, so many at the same time; what does not begin takes no
// room.
func TestSoManyAtOnce(t *testing.T) {
	y := newYard(t, 9)
	assert.Equal(t, "9 have turns, 9 of them are due, 4 were begun now", y.look())
	assert.Equal(t, []records.CredentialID{1, 2, 3, 4}, y.started)
	assert.Equal(t, "begun as rotation 101", y.kept[1].Words)
	assert.Equal(t, records.RotationID(101), y.kept[1].RotationID)
	assert.Equal(t, y.now, y.kept[1].Tried)

	y = newYard(t, 9)
	for i := range y.planned {
		y.planned[i].By.AtOnce = 3
	}
	y.planned[4].Running = true
	y.fails[1], y.refuses[2] = "connection refused", errors.New("the disk is full")
	assert.Contains(t, y.look(), "2 were begun now")
	assert.Equal(t, []records.CredentialID{3, 4}, y.started)
	assert.Equal(t, "the rehearsal failed: quay1: reach the system: connection refused", y.kept[1].Words)
	assert.Equal(t, "the disk is full", y.kept[2].Words)
	assert.Equal(t, 1, y.kept[2].Failed)
	assert.NotContains(t, y.kept, records.CredentialID(5))
}

// Nothing begins while all is frozen, outside the opening, in its last minutes, or where
// the policy is paused.
func TestWhatMayNotBegin(t *testing.T) {
	for name, change := range map[string]func(*yard){
		"frozen":         func(y *yard) { y.frozen = true },
		"before":         func(y *yard) { y.now = opens.Add(-time.Second) },
		"after":          func(y *yard) { y.now = opens.Add(4 * time.Hour) },
		"last minutes":   func(y *yard) { y.now = opens.Add(4*time.Hour - lastMinutes + time.Second) },
		"paused":         func(y *yard) { y.planned[0].By.Paused = true },
		"not due":        func(y *yard) { y.planned[0].Due = time.Time{} },
		"running":        func(y *yard) { y.planned[0].Running = true },
		"no more turn":   func(y *yard) { y.planned[0].Next, y.planned[0].NextEnds = time.Time{}, time.Time{} },
		"the other way":  nil,
		"a short window": func(y *yard) { y.now = opens.Add(time.Minute); y.planned[0].NextEnds = opens.Add(6 * time.Minute) },
	} {
		y := newYard(t, 1)
		if change != nil {
			change(y)
		}
		y.look()
		want := 0
		if name == "the other way" || name == "a short window" {
			want = 1
		}
		assert.Len(t, y.started, want, name)
		assert.Len(t, y.kept, want, name)
	}
	y := newYard(t, 1)
	y.away = errors.New("the database is away")
	_, err := y.Look(t.Context())
	require.ErrorIs(t, err, y.away)
}

// Two that restart the same, or one beside a rotation that runs already, come one after
// the other: that is no failed try.
func TestOneAfterTheOther(t *testing.T) {
	y := newYard(t, 3)
	y.touches[2] = y.touches[1]
	y.running = []records.Rotation{{ID: 9, Plan: planOf(y.touches[3])}}
	assert.Contains(t, y.look(), "1 were begun now")
	require.Len(t, y.started, 1)
	require.Len(t, y.asked, 3)
	assert.Contains(t, []records.CredentialID{1, 2}, y.started[0])
	for _, id := range []records.CredentialID{3 - y.started[0], 3} {
		assert.Zero(t, y.kept[id].Failed)
		assert.Zero(t, y.kept[id].Tried, "it is tried again in the same opening")
		assert.Contains(t, y.kept[id].Words, "another rotation")
	}

	// While it is so, none is rehearsed over and over: that signs in everywhere.
	first := int(y.started[0])
	y.planned[first-1].Running = true
	y.running = append(y.running, records.Rotation{ID: 10, Plan: planOf(y.touches[1])})
	for range 5 {
		y.now = y.now.Add(time.Minute)
		assert.Contains(t, y.look(), "0 were begun now")
	}
	assert.Len(t, y.asked, 3)
	y.running = nil
	assert.Contains(t, y.look(), "2 were begun now")
	assert.Len(t, y.asked, 5)
}

// For a while after somebody else changed it, it is left alone; what a policy says is what
// is asked of the rotation.
func TestQuietTime(t *testing.T) {
	y := newYard(t, 2)
	for i := range y.planned {
		y.planned[i].By = records.Policy{ID: 1, Name: "nightly", Window: "nights", PolicySettings: records.PolicySettings{QuietHours: 24, OnFailure: rotation.StopOnFailure, AtWindowEnd: rotation.EndUndo, FirstAlone: true, Way: "overlap", Patience: 90, Restart: rotation.RestartLeave}}
	}
	y.others[1] = y.now.Add(-23 * time.Hour)
	y.others[2] = y.now.Add(-25 * time.Hour)
	y.look()
	assert.Equal(t, []records.CredentialID{2}, y.started)
	assert.Contains(t, y.kept[1].Words, "it is left alone until 2026-11-28T23:01:00Z")
	assert.Zero(t, y.kept[1].Failed)
	assert.Equal(t, []planning.Request{{OnFailure: rotation.StopOnFailure, When: rotation.RestartLeave, Window: "nights", AtWindowEnd: rotation.EndUndo, FirstAlone: true, Way: "overlap", Patience: 90 * time.Second}}, y.asked)
	assert.Equal(t, planning.Request{OnFailure: rotation.UndoOnFailure, When: rotation.RestartNow}, Request(records.Policy{}))
}

// What a policy says of passwords is not said of the keys for which it decides too.
func TestPasswordsAndKeys(t *testing.T) {
	y := newYard(t, 2)
	y.kinds = map[records.CredentialID]credential.Kind{1: credential.Password, 2: credential.SSHKey}
	for i := range y.planned {
		y.planned[i].By.PolicySettings = records.PolicySettings{Length: 24, Without: "@", AtOnce: 1}
	}
	y.look()
	wish := planning.Request{OnFailure: rotation.UndoOnFailure, When: rotation.RestartNow, Length: 24, Without: "@"}
	assert.Equal(t, []planning.Request{wish}, y.asked)
	y.planned, y.asked = y.planned[1:], nil
	y.look()
	assert.Equal(t, []planning.Request{{OnFailure: rotation.UndoOnFailure, When: rotation.RestartNow}}, y.asked)
}

// windowed is a plan whose change and restart wait for windows.
func windowed(overlap bool, change, restart string, slots map[string]calendar.Slot) rotation.Plan {
	plan := rotation.Plan{Windows: map[string]rotation.Openings{}, Steps: []rotation.Step{{Kind: rotation.StepChange, SystemID: "d", Overlap: overlap, Window: change}, {Index: 1, Kind: rotation.StepRestart, SystemID: "1", Subject: "unit", Window: restart, Needs: []int{0}}}}
	for name, slot := range slots {
		plan.Windows[name] = rotation.Openings{Slots: []calendar.Slot{slot}}
	}
	return plan
}

// What is restarted in another window is not left with a value that is refused: it begins
// when both are open. Where both values are accepted it may wait, and takes no room then.
func TestAnotherWindow(t *testing.T) {
	night := calendar.Slot{From: opens, To: opens.Add(4 * time.Hour)}
	sunday := calendar.Slot{From: opens.AddDate(0, 0, 3), To: opens.AddDate(0, 0, 3).Add(time.Hour)}
	later := calendar.Slot{From: opens.Add(2 * time.Hour), To: opens.Add(3 * time.Hour)}
	for name, c := range map[string]struct {
		overlap bool
		restart calendar.Slot
		want    string
	}{"another night": {false, sunday, "other"}, "the same night": {false, later, ""}, "both accepted": {true, sunday, ""}} {
		plan := windowed(c.overlap, "nights", "other", map[string]calendar.Slot{"nights": night, "other": c.restart})
		assert.Equal(t, c.want, apart(plan, opens.Add(time.Minute), night.To), name)
	}
	assert.Equal(t, "gone", apart(windowed(false, "", "gone", nil), opens, night.To))

	y := newYard(t, 3)
	for i := range y.planned {
		y.planned[i].By.AtOnce = 1
	}
	y.planned[0].Running = true
	waits := windowed(true, "other", "other", map[string]calendar.Slot{"other": sunday})
	y.running = []records.Rotation{{ID: 9, CredentialID: 1, Plan: waits}}
	y.look()
	assert.Equal(t, []records.CredentialID{2}, y.started)
	y = newYard(t, 3)
	for i := range y.planned {
		y.planned[i].By.AtOnce = 1
	}
	y.planned[0].Running = true
	y.running = []records.Rotation{{ID: 9, CredentialID: 1, Plan: windowed(true, "other", "other", map[string]calendar.Slot{"other": night})}}
	y.look()
	assert.Empty(t, y.started, "one that is not waiting takes its room")
}

// What was being tried when the service ended says so, and is not tried again at once.
func TestEndedWhileItWasTried(t *testing.T) {
	y := newYard(t, 2)
	y.planned[0].Words, y.planned[0].Failed, y.planned[0].Tried = beingTried, 1, y.now
	require.NoError(t, y.Recover(t.Context()))
	require.Len(t, y.kept, 1)
	assert.Equal(t, "the service ended while it was tried", y.kept[1].Words)
	assert.Equal(t, 1, y.kept[1].Failed)
}

// Who is due and could not be rotated is a finding, grave when it goes on.
func TestWhoIsNotRotated(t *testing.T) {
	y := newYard(t, 4)
	y.frozen = true
	for i, failed := range []int{0, 1, 3, 1} {
		y.planned[i].Failed, y.planned[i].Words = failed, "connection refused"
	}
	y.planned[3].Due = opens.AddDate(0, 0, -8)
	y.planned[3].Next = time.Time{}
	y.look()
	require.Len(t, y.found, 3)
	assert.Equal(t, "medium", y.found[0].Severity)
	assert.Equal(t, "it is due since 2026-11-28T19:00:00Z by the policy nightly, and was tried 1 times: connection refused", y.found[0].What)
	assert.Contains(t, y.found[0].Next, "tried again from 2026-11-28T22:00:00Z on")
	assert.Equal(t, "high", y.found[1].Severity)
	assert.Equal(t, "high", y.found[2].Severity)
	assert.Contains(t, y.found[2].Next, "no opening comes any more")
	y.planned[0].Due, y.planned[0].Words = opens.AddDate(0, 0, -8), "another rotation that runs restarts the same"
	y.look()
	require.Len(t, y.found, 4, "also one that only waits, for more than a week")
	y.planned[0].By.Paused = true
	y.look()
	require.Len(t, y.found, 3)
}
