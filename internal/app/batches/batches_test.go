package batches

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/app/sealed"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

var ines = access.Actor{Name: "ines", Roles: access.Roles()}

// yard is a real store with credentials, whose rehearsals and rotations are made up: a
// rotation runs until somebody ends it.
type yard struct {
	*Batches
	*store.Store
	t      *testing.T
	base   *app.Base
	folder string
	lock   sync.Mutex
	ids    []records.CredentialID
	fails  map[string]string // whose rehearsal does not pass
	errs   map[string]error  // whose start is refused
	units  map[string]string // what a rotation restarts
	ends   map[string]string // how a rotation ends; done for those that are not there
	open   map[string]records.RotationID
	most   int // so many ran at the same time
	began  []string
	looked int  // so many rehearsals
	held   bool // rotations do not end by themselves
	frozen bool

	approvals *approval.Approvals
	second    map[string]string // why one person is not enough
	digests   map[string]string // of what a rehearsal came to
	consents  map[string]string // with which one began
	wishes    map[string]planning.Request
}

func (y *yard) Frozen() bool {
	y.lock.Lock()
	defer y.lock.Unlock()
	return y.frozen
}

func (y *yard) Refuse() error {
	if y.Frozen() {
		return fmt.Errorf("%w: frozen", app.ErrRefused)
	}
	return nil
}

func newYard(t *testing.T, n int) *yard {
	y := &yard{t: t, folder: t.TempDir(), fails: map[string]string{}, errs: map[string]error{}, units: map[string]string{}, ends: map[string]string{}, open: map[string]records.RotationID{}, second: map[string]string{}, digests: map[string]string{}, consents: map[string]string{}, wishes: map[string]planning.Request{}}
	y.start()
	ctx := t.Context()
	require.NoError(t, y.AddUser(ctx, records.User{Name: "ines", Roles: access.Roles(), Password: "x"}, false))
	id, err := y.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	list := make([]estate.Account, n)
	for i := range list {
		list[i] = estate.Account{StableID: fmt.Sprint(i), Name: name(i), Type: "user"}
	}
	require.NoError(t, y.PutAccounts(ctx, id, list, store.NewSeen(), &records.Tally{}))
	for i := range n {
		c, err := y.NotePassword(ctx, records.AccountID(i+1))
		require.NoError(t, err)
		require.NoError(t, y.TakeCustody(ctx, records.Secret{CredentialID: c.ID, Kind: credential.Password, AccountID: records.AccountID(i + 1), Sealed: []byte{1}, Fingerprint: fmt.Sprint("f", i)}, "ines", "taken"))
		y.ids = append(y.ids, c.ID)
		y.units[name(i)] = "unit-" + name(i)
	}
	return y
}

func name(i int) string { return fmt.Sprintf("svc-%02d", i) }

// start opens the store and takes up what was left; stop ends both.
func (y *yard) start() {
	s, err := store.Open(context.Background(), filepath.Join(y.folder, "data"), time.Now)
	require.NoError(y.t, err)
	y.base, err = app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(y.t, err)
	require.NoError(y.t, s.OpenLedger(context.Background(), y.base.Sealer, s.FolderWitness()))
	y.Store = s
	y.approvals = approval.New(y.base, s)
	y.Batches = New(Needs{Base: y.base, Store: s, Rotations: y, Finder: y, Freeze: y, Sealed: sealed.New(y.base, s), Approvals: y.approvals})
	y.Batches.wait = func(ctx context.Context, _ string) { connect.Wait(ctx, time.Millisecond) } //nolint:errcheck // whichever comes first
	y.t.Cleanup(y.stop)
}

func (y *yard) stop() {
	y.base.Stop()
	_ = y.Store.Close()
}

func (y *yard) FindCredential(ctx context.Context, spelling string) (records.Credential, error) {
	for i, id := range y.ids {
		if name(i) == spelling {
			return y.Credential(ctx, id)
		}
	}
	return records.Credential{}, fmt.Errorf("%q: %w", spelling, records.ErrNotFound)
}

func (y *yard) Rehearse(_ context.Context, by access.Actor, c records.Credential, wish planning.Request) (records.Rehearsal, error) {
	y.lock.Lock()
	defer y.lock.Unlock()
	y.wishes[c.Name] = wish
	assert.Equal(y.t, "ines", by.Name)
	y.looked++
	if words := y.fails[c.Name]; words != "" {
		return records.Rehearsal{Verdict: "failed", Checks: []connect.Checked{{System: "quay1", What: "reach the system", Result: connect.CheckFailed, Words: words}}}, nil
	}
	v := records.Rehearsal{Verdict: "passed", Plan: y.plan(c.Name), Digest: y.digests[c.Name] + wish.Given}
	if why := y.second[c.Name]; why != "" {
		v.Second = []string{why}
	}
	if wish.Given != "" {
		v.Second = append(v.Second, "a value that "+wish.GivenBy+" gave, and knows")
	}
	return v, nil
}

// StartConsented begins one with the consent of a second person.
func (y *yard) StartConsented(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, approved, digest string) (records.RotationID, error) {
	y.lock.Lock()
	y.consents[c.Name] = approved
	same := y.digests[c.Name]+wish.Given == digest
	y.lock.Unlock()
	if !same {
		return 0, fmt.Errorf("%w: not what was approved", app.ErrRefused)
	}
	return y.Start(ctx, by, c, wish, reason, "")
}

func (y *yard) plan(of string) rotation.Plan {
	return rotation.Plan{Steps: []rotation.Step{{Kind: rotation.StepRestart, SystemID: "1", Subject: y.units[of]}}}
}

func (y *yard) Start(ctx context.Context, by access.Actor, c records.Credential, wish planning.Request, reason, _ string) (records.RotationID, error) {
	y.lock.Lock()
	defer y.lock.Unlock()
	if err := y.errs[c.Name]; err != nil {
		return 0, err
	}
	id, err := y.BeginRotation(ctx, records.Rotation{CredentialID: c.ID, Credential: c.Name, Plan: y.plan(c.Name), OnFailure: string(wish.OnFailure), Mode: "running", RequestedBy: by.Name, Reason: reason})
	if err != nil {
		return 0, err
	}
	for other := range y.open {
		assert.NotEqual(y.t, y.units[other], y.units[c.Name], "two that restart the same run beside each other")
	}
	y.open[c.Name] = id
	y.began = append(y.began, c.Name)
	y.most = max(y.most, len(y.open))
	if !y.held {
		go y.end(c.Name)
	}
	return id, nil
}

// end ends a rotation.
func (y *yard) end(of string) {
	y.lock.Lock()
	defer y.lock.Unlock()
	id, result := y.open[of], y.ends[of]
	if result == "" {
		result = rotation.FinishedDone
	}
	delete(y.open, of)
	_ = y.AppendJournal(context.Background(), records.Rotation{ID: id}, rotation.Record{Seq: 1, Event: rotation.EventFinished, Step: -1, Result: result}, "finished", result, records.Effects{})
	y.base.Topics.Wake("all")
}

func (y *yard) until(id records.BatchID, state string) (v records.Batch) {
	y.t.Helper()
	require.Eventually(y.t, func() bool {
		var err error
		v, err = y.Batch(context.Background(), id)
		require.NoError(y.t, err)
		return v.State == state
	}, 20*time.Second, 2*time.Millisecond)
	return v
}

func (y *yard) create(ask Ask) records.Batch {
	y.t.Helper()
	ask.Wish.OnFailure, ask.Reason = rotation.UndoOnFailure, "test"
	v, err := y.Create(y.t.Context(), ines, ask)
	require.NoError(y.t, err)
	return y.until(v.ID, records.BatchRehearsed)
}

func (y *yard) states(id records.BatchID) string {
	items, err := y.ItemsOf(context.Background(), id)
	require.NoError(y.t, err)
	var out []string
	for _, i := range items {
		out = append(out, i.State)
	}
	return strings.Join(out, " ")
}

func names(n int) (out []string) {
	for i := range n {
		out = append(out, name(i))
	}
	return out
}

// All are rehearsed, and so many run at the same time, none beside another that restarts
// the same, in their order.
func TestABatch(t *testing.T) {
	y := newYard(t, 8)
	y.units[name(3)] = y.units[name(0)]
	v := y.create(Ask{Names: append([]string{"# a list", ""}, names(8)...), AtOnce: 3})
	assert.Equal(t, [4]int{8, 8, 0, 0}, [4]int{v.Total, v.Ready, v.Blocked, v.Waiting})
	items, err := y.ItemsOf(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{name(3)}, items[0].Behind)
	assert.Equal(t, []string{name(0)}, items[3].Behind)
	assert.Empty(t, items[1].Behind)
	assert.Empty(t, y.began, "a rehearsal starts nothing")
	_, err = y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, 8, v.Done)
	assert.LessOrEqual(t, y.most, 3)
	slices.Sort(y.began)
	assert.Equal(t, names(8), y.began, "each once")
	_, err = y.Retry(t.Context(), ines, v.ID)
	require.ErrorContains(t, err, "nothing of batch 1 failed")
	_, err = y.Batches.Start(t.Context(), ines, v.ID, true)
	require.ErrorIs(t, err, app.ErrRefused)
	rotations, err := y.Rotations(t.Context(), records.Query{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "test (batch 1)", rotations.Items[0].Reason)
}

// What must wait for another of the batch is not rehearsed over and over meanwhile: each
// rehearsal signs in everywhere.
func TestWaitingIsQuiet(t *testing.T) {
	y := newYard(t, 12)
	y.held = true
	for i := range 12 {
		y.units[name(i)] = "berth.service"
	}
	v := y.create(Ask{Names: names(12), AtOnce: 4})
	items, err := y.ItemsOf(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Len(t, items[5].Behind, 11)
	_, err = y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	looked := func() int {
		y.lock.Lock()
		defer y.lock.Unlock()
		return y.looked
	}
	require.Eventually(t, func() bool { return looked() >= 24 }, 20*time.Second, 2*time.Millisecond, "all once, and each once more")
	for range 50 {
		y.wait(t.Context(), "all") // as often as something happens anywhere
	}
	assert.Equal(t, 24, looked())
	y.held = false
	y.end(name(0))
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, 12, v.Done)
	assert.ElementsMatch(t, names(12), y.began, "each once")
}

// When some do not pass, nothing is started unless asked; only what failed is tried again.
func TestSomeDoNotPass(t *testing.T) {
	y := newYard(t, 5)
	y.fails[name(1)], y.ends[name(2)], y.errs[name(3)] = "connection refused", rotation.FinishedUndone, errors.New("the disk is full")
	v := y.create(Ask{Names: names(5)})
	assert.Equal(t, 1, v.Blocked)
	_, err := y.Batches.Start(t.Context(), ines, v.ID, false)
	require.ErrorContains(t, err, "1 of 5 rehearsals of batch 1 did not pass")
	assert.Empty(t, y.began)
	_, err = y.Batches.Start(t.Context(), ines, v.ID, true)
	require.NoError(t, err)
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, "done blocked failed failed done", y.states(v.ID))
	items, err := y.ItemsOf(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, "the rehearsal failed: quay1: reach the system: connection refused", items[1].Words)
	assert.Equal(t, "rotation 2: undone", items[2].Words)
	assert.Equal(t, "the disk is full", items[3].Words)

	y.fails, y.ends, y.errs, y.began = map[string]string{}, map[string]string{}, map[string]error{}, nil
	_, err = y.Retry(t.Context(), ines, v.ID)
	require.NoError(t, err)
	y.until(v.ID, records.BatchRehearsed)
	_, err = y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, "done done done done done", y.states(v.ID))
	slices.Sort(y.began)
	assert.Equal(t, []string{name(1), name(2), name(3)}, y.began)
}

// Everything that is wrong with a list is told at once, by line, and nothing is kept.
func TestAListThatIsWrong(t *testing.T) {
	y := newYard(t, 3)
	require.NoError(t, y.ReleaseCustody(t.Context(), y.ids[2]))
	ask := Ask{Names: []string{name(0), "nobody", name(0), name(2)}, Reason: "test"}
	ask.Wish.OnFailure = rotation.UndoOnFailure
	_, err := y.Create(t.Context(), ines, ask)
	require.ErrorIs(t, err, app.ErrInput)
	for _, words := range []string{`line 2: "nobody"`, "line 3: svc-00 is the same as line 1", "line 4: svc-02 is not in custody"} {
		assert.ErrorContains(t, err, words)
	}
	for words, change := range map[string]func(*Ask){
		"give a reason":             func(a *Ask) { a.Reason = " " },
		"in one way":                func(a *Ask) { a.Label = "boats" },
		"choose credentials":        func(a *Ask) { a.Names = nil },
		"no credential in custody":  func(a *Ask) { a.Names, a.Label = nil, "boats" },
		"rotations run at the same": func(a *Ask) { a.AtOnce = 101 },
		"on failure":                func(a *Ask) { a.Wish.OnFailure = "hope" },
	} {
		one := Ask{Names: []string{name(0)}, Reason: "test"}
		one.Wish.OnFailure = rotation.UndoOnFailure
		change(&one)
		_, err := y.Create(t.Context(), ines, one)
		require.ErrorContains(t, err, words)
	}
	_, err = y.Create(t.Context(), access.Actor{Name: "vera", Roles: []string{access.RoleViewer}}, ask)
	require.ErrorIs(t, err, access.ErrDenied)
	page, err := y.AllBatches(t.Context(), records.Query{})
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}

// Chosen by label or by filters.
func TestHowTheyAreChosen(t *testing.T) {
	y := newYard(t, 4)
	require.NoError(t, y.PutLabel(t.Context(), records.HandLabel{AccountID: 2, Label: "boats", Reason: "x", SetBy: "ines"}))
	v := y.create(Ask{Label: "boats"})
	assert.Equal(t, 1, v.Total)
	assert.Equal(t, "the label boats", v.Chosen)
	v = y.create(Ask{Filters: []string{"name~svc-0", "name!=svc-03"}})
	assert.Equal(t, 3, v.Total)
}

// A person stops it: what runs goes on, and nothing more begins; started again, the rest
// goes on. Frozen, nothing begins either.
func TestStoppedAndFrozen(t *testing.T) {
	y := newYard(t, 4)
	y.held = true
	v := y.create(Ask{Names: names(4), AtOnce: 1})
	_, err := y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	running := func(n int) {
		require.Eventually(t, func() bool { y.lock.Lock(); defer y.lock.Unlock(); return len(y.open) == n }, 10*time.Second, time.Millisecond)
	}
	running(1)
	_, err = y.Batches.Stop(t.Context(), ines, v.ID)
	require.NoError(t, err)
	y.end(name(0))
	require.Eventually(t, func() bool { return y.states(v.ID) == "done ready ready ready" }, 10*time.Second, time.Millisecond)
	_, err = y.Batches.Stop(t.Context(), ines, v.ID)
	require.ErrorIs(t, err, app.ErrRefused)
	y.lock.Lock()
	y.frozen = true
	y.lock.Unlock()
	_, err = y.Batches.Start(t.Context(), ines, v.ID, false)
	require.ErrorContains(t, err, "frozen")
	y.lock.Lock()
	y.frozen = false
	y.lock.Unlock()
	_, err = y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	running(1)
	y.lock.Lock()
	y.frozen = true
	y.lock.Unlock()
	y.end(name(1))
	require.Eventually(t, func() bool { return y.states(v.ID) == "done done ready ready" }, 10*time.Second, time.Millisecond)
	y.lock.Lock()
	assert.Empty(t, y.open)
	y.frozen, y.held = false, false
	y.lock.Unlock()
	y.until(v.ID, records.BatchDone)
}

// Who asked and may not rotate any more begins nothing more: what runs goes on.
func TestWhoAskedMayNotAnyMore(t *testing.T) {
	y := newYard(t, 3)
	y.held = true
	v := y.create(Ask{Names: names(3), AtOnce: 1})
	_, err := y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { y.lock.Lock(); defer y.lock.Unlock(); return len(y.open) == 1 }, 10*time.Second, time.Millisecond)
	user, err := y.User(t.Context(), "ines")
	require.NoError(t, err)
	user.Roles = []string{access.RoleViewer}
	require.NoError(t, y.ChangeUser(t.Context(), user, false))
	y.end(name(0))
	y.until(v.ID, records.BatchStopped)
	require.Eventually(t, func() bool { return y.states(v.ID) == "done ready ready" }, 10*time.Second, time.Millisecond)
	assert.Equal(t, []string{name(0)}, y.began)
}

// The service ends and starts again, at any time: what had begun is waited for, the rest
// goes on, and nothing runs twice.
func TestTakenUpAgain(t *testing.T) {
	y := newYard(t, 6)
	y.held = true
	v := y.create(Ask{Names: names(6), AtOnce: 2})
	_, err := y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.Count(y.states(v.ID), "rotating") == 2 }, 10*time.Second, time.Millisecond)
	y.stop()
	y.start()
	require.NoError(t, y.Recover(t.Context()))
	y.held = false
	y.end(name(0))
	y.end(name(1))
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, 6, v.Done)
	slices.Sort(y.began)
	assert.Equal(t, names(6), y.began)
}
