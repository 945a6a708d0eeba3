package assembly_test

import (
	"context"
	"crypto/rand"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store"
)

func TestCustody(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.account(`LARKMOOR\svc-tidefeed`)
	_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New("not-the-Password-1"))
	assert.ErrorIs(t, err, app.ErrRefused)
	assert.Empty(t, f.states(a.ID), "a refused value is not kept")
	_, err = f.Custody.Take(ctx, ines, cred(f, a), secret.Value{})
	assert.ErrorIs(t, err, app.ErrInput)
	f.take("svc-tidefeed")
	assert.Equal(t, "current", f.states(a.ID))
	assert.Len(t, f.findings("stale-copy"), 1, "the copy from last winter's backup")

	f.estate.SetPassword("svc-tidefeed", "Changed-By-Hand-2026")
	verdict, err := f.Custody.Verify(ctx, access.Service(), cred(f, a))
	require.NoError(t, err)
	assert.Equal(t, connect.VerdictWrong, verdict.Code)
	require.Len(t, f.findings("drift"), 1)
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict, "a rotation does not start from a value that is refused")
	_, err = f.Custody.Take(ctx, ines, cred(f, a), secret.New("Changed-By-Hand-2026"))
	require.NoError(t, err)
	assert.Empty(t, f.findings("drift"), "repaired")
	assert.Equal(t, "current previous", f.states(a.ID), "the earlier value is kept: nobody proved that it is refused")

	f.estate.Directory.Update(larkmoor.DN("svc-tidefeed"), func(e *standindir.Entry) { e.Locked = true })
	verdict, err = f.Custody.Verify(ctx, access.Service(), cred(f, a))
	require.NoError(t, err)
	assert.Equal(t, connect.VerdictLocked, verdict.Code)
	assert.Contains(t, f.findings("drift")[0].Next, "unlock")
	f.estate.Directory.Update(larkmoor.DN("svc-tidefeed"), func(e *standindir.Entry) { e.Locked = false })

	assert.ErrorIs(t, f.Custody.Reset(ctx, ines, "", cred(f, a)), app.ErrInput, "a reset needs a reason")
	f.estate.Directory.SetFault(standindir.Fault{LoseAnswer: true})
	require.NoError(t, f.Custody.Reset(ctx, ines, "nobody knows it", cred(f, a)), "the answer was lost: the authority itself says that it is in force")
	f.estate.Directory.SetFault(standindir.Fault{RefuseChange: true})
	assert.Error(t, f.Custody.Reset(ctx, ines, "again", cred(f, a)))
	assert.True(t, strings.HasPrefix(f.states(a.ID), "retired current"), f.states(a.ID))
	f.estate.Directory.SetFault(standindir.Fault{})
	verdict, err = f.Custody.Verify(ctx, access.Service(), cred(f, a))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted)

	assert.ErrorIs(t, f.Custody.Release(ctx, ines, "", cred(f, a)), app.ErrInput)
	require.NoError(t, f.Custody.Release(ctx, ines, "handed over", cred(f, a)))
	assert.Empty(t, f.states(a.ID))
	_, err = f.Custody.Verify(ctx, ines, cred(f, a))
	assert.ErrorIs(t, err, app.ErrRefused)
}

func TestRotationNeedsARehearsal(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.account("dir/svc-berth")
	_, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	assert.ErrorContains(t, err, "not in custody")
	f.take("svc-berth")
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	assert.ErrorContains(t, err, "no rehearsal")
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "", "")
	assert.ErrorIs(t, err, app.ErrInput, "and a reason")
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), planning.Request{OnFailure: "hope"}, "test", "")
	assert.ErrorIs(t, err, app.ErrInput)
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict)
	// The picture changes: what was rehearsed is not what would be done.
	f.estate.Hosts["tide1"].Write("/etc/tide/backup.env", unixhost.File{Content: []byte("BIND_DN=" + larkmoor.DN("svc-berth") + "\nBIND_PASSWORD=" + larkmoor.Passwords["svc-berth"] + "\n")})
	f.estate.Hosts["tide1"].AddUnit(unixhost.Unit{Name: "late.service", Environment: []string{"/etc/tide/backup.env"}, Exec: "/bin/late", Enabled: true})
	f.survey("tide1")
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	assert.ErrorContains(t, err, "picture changed")
	// A failing rehearsal does not count either; an override does.
	f.estate.Hosts["quay2"].SetFault(unixhost.Fault{Down: true})
	v, err = f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	assert.ErrorContains(t, err, "failed")
	f.estate.Hosts["quay2"].SetFault(unixhost.Fault{})
	id, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "it burns")
	require.NoError(t, err)
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "twice")
	assert.ErrorIs(t, err, app.ErrRefused, "one at a time")
	_, err = f.Custody.Verify(ctx, ines, cred(f, a))
	assert.ErrorIs(t, err, app.ErrRefused, "not while it is being changed")
	assert.Equal(t, "done", f.ended(id).Result)
	late, _ := f.estate.Hosts["tide1"].Read("/etc/tide/backup.env")
	assert.NotContains(t, string(late.Content), larkmoor.Passwords["svc-berth"], "the late copy was replaced too")
	entries, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=rotation.start"}})
	require.NoError(t, err)
	assert.Contains(t, entries.Items[0].Detail, "it burns", "the override is recorded")
}

func TestPolicyContinueAndResume(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	refuseRestarts(f.estate.Hosts["quay2"], "berth.service", 1)
	r := f.rotate(a, rotation.ContinueOnFailure)
	assert.Equal(t, rotation.FinishedWithFailures, r.Result)
	f.ready(true, "quay1/berth.service", "quay1/gangway.service")
	require.Eventually(t, func() bool { return len(f.findings("rotation")) == 1 }, 10*time.Second, 10*time.Millisecond)
	require.Contains(t, f.findings("rotation")[0].Next, "resume")
	assert.Equal(t, "current retired", f.states(a.ID), "the authority accepts the new value and refuses the old one")
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideResume, "mended"))
	assert.Equal(t, rotation.FinishedDone, f.ended(r.ID).Result)
	f.ready(true, "quay1/berth.service", "quay2/berth.service", "quay2/gangway.service")
	assert.Eventually(t, func() bool { return len(f.findings("rotation")) == 0 }, 10*time.Second, 10*time.Millisecond)
}

// The application's own check is part of the proof, whichever kind it is.
func TestApplicationChecks(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-tidefeed")
	page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"name=tidefeed.service"}})
	require.NoError(t, err)
	unit := page.Items[0].ID
	for _, c := range []struct {
		check rotation.AppCheck
		words string
	}{
		{rotation.AppCheck{Kind: "tcp", Target: f.estate.Address}, "accepts connections"},
		{rotation.AppCheck{Kind: "http", Target: f.estate.Board + "/tide1/tidefeed.service", Contains: "ready"}, "answers as expected"},
		{rotation.AppCheck{Kind: "command", Target: "cat /etc/machine-id", Contains: f.estate.Hosts["tide1"].MachineID}, "the check command succeeded"},
	} {
		require.NoError(t, f.Store.SetCheck(ctx, unit, &c.check))
		r := f.rotate(a, rotation.UndoOnFailure)
		assert.Equal(t, "done", r.Result)
		_, state, _, err := f.Rotations.State(ctx, r.ID)
		require.NoError(t, err)
		said := ""
		for i, s := range r.Plan.Steps {
			if s.Kind == rotation.StepProve {
				said = state.Steps[i].Words
			}
		}
		assert.Contains(t, said, c.words, c.check.Kind)
		f.survey("tide1")
	}
}

func TestUndoAfterTheEnd(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-berth")
	before, _ := f.estate.Hosts["quay1"].Read("/etc/gangway/gangway.env")
	r := f.rotate(a, rotation.StopOnFailure)
	require.Equal(t, "done", r.Result)
	_, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "a program elsewhere broke"))
	require.Eventually(t, func() bool {
		v, err := f.Store.Rotation(ctx, r.ID)
		return err == nil && v.Result == rotation.FinishedUndone
	}, 60*time.Second, 20*time.Millisecond)
	after, _ := f.estate.Hosts["quay1"].Read("/etc/gangway/gangway.env")
	assert.Equal(t, string(before.Content), string(after.Content))
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-berth"), larkmoor.Passwords["svc-berth"]))
	for _, quay := range quays {
		f.ready(true, quay+"/berth.service", quay+"/gangway.service")
	}
	assert.Equal(t, "retired current", f.states(a.ID))
	verdict, err := f.Custody.Verify(ctx, ines, cred(f, a))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted)
	assert.ErrorIs(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "again"), app.ErrRefused)
	assert.ErrorIs(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideResume, ""), app.ErrRefused)
	second := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, "done", second.Result)
	assert.ErrorContains(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "too late"), "undone already")
}

// Somebody edits a file between rehearsal and rotation: it is told, nothing of
// theirs is lost, and everything goes back.
func TestFileEditedInBetween(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	h := f.estate.Hosts["quay2"]
	h.Write("/etc/berth/berth.env", unixhost.File{Mode: 0o640, Content: []byte("BERTH_BIND_DN=x\nBERTH_BIND_PASSWORD=edited-by-hand\n")})
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "test", "")
	require.NoError(t, err)
	assert.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	records, err := f.Store.Journal(t.Context(), id, 0)
	require.NoError(t, err)
	said := ""
	for _, r := range records {
		said += r.Words + "\n"
	}
	assert.Contains(t, said, "quay2: replace: /etc/berth/berth.env#BERTH_BIND_PASSWORD")
	edited, _ := h.Read("/etc/berth/berth.env")
	assert.Contains(t, string(edited.Content), "edited-by-hand")
	f.ready(true, "quay1/berth.service", "quay1/gangway.service")
	for _, host := range f.estate.Hosts {
		for _, path := range host.Paths() {
			assert.NotContains(t, path, ".moss-new")
		}
	}
}

// The connection is cut at each command of a replacement, after it took
// effect: the engine finds out what is true and ends well.
func TestConnectionCutAtEachCommand(t *testing.T) {
	for _, command := range []string{"/usr/bin/cp", "/usr/bin/dd", "/usr/bin/mv", "/usr/bin/sync", "/usr/bin/systemctl restart"} {
		t.Run(command, func(t *testing.T) {
			f := start(t)
			a := f.take("svc-tidefeed")
			cut := true
			f.estate.Hosts["tide1"].SetFault(unixhost.Fault{Cut: func(argv []string) bool {
				hit := cut && strings.Contains(strings.Join(argv, " "), "-- "+command) && !strings.Contains(strings.Join(argv, " "), "-l")
				cut = cut && !hit
				return hit
			}})
			r := f.rotate(a, rotation.UndoOnFailure)
			assert.False(t, cut, "the connection was cut")
			assert.Contains(t, []string{rotation.FinishedDone, rotation.FinishedUndone}, r.Result)
			f.ready(true, "tide1/tidefeed.service")
			held, _ := f.estate.Hosts["tide1"].Read("/etc/tide/feed.pw")
			assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-tidefeed"), strings.TrimSpace(string(held.Content))), "the copy is what the directory accepts")
			for _, path := range f.estate.Hosts["tide1"].Paths() {
				assert.NotContains(t, path, ".moss-new", "nothing is left")
			}
			verdict, err := f.Custody.Verify(t.Context(), ines, cred(f, a))
			require.NoError(t, err)
			assert.True(t, verdict.Accepted)
		})
	}
}

func TestAnOperatorThatStopsIsTakenUpAgain(t *testing.T) {
	estate, err := larkmoor.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, estate.Close()) })
	folder := t.TempDir()
	open := func() *assembly.Application {
		s, err := store.Open(context.Background(), folder, time.Now)
		require.NoError(t, err)
		o, err := assembly.New(context.Background(), assembly.Config{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		require.NoError(t, o.Start(context.Background()))
		return o
	}
	o := open()
	f := &ferry{o, t, estate, folder}
	ctx := t.Context()
	require.NoError(t, o.Inventory.SaveSteward(ctx, ines, "dir", larkmoor.ManagerDN, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	host, port := larkmoor.Port(estate.Address)
	_, err = o.Inventory.Add(ctx, ines, records.System{Name: "dir", Kind: "directory", Address: host, Port: port, Steward: "dir", TrustedCA: estate.CA})
	require.NoError(t, err)
	f.survey()
	a := f.take("svc-manifest")
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict)
	hang := make(chan struct{})
	estate.Directory.SetFault(standindir.Fault{Hang: hang})
	id, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		records, err := f.Store.Journal(ctx, id, 0)
		return err == nil && len(records) >= 2 // an act was begun, and hangs
	}, 20*time.Second, 10*time.Millisecond)
	o.Stop() // in an orderly way, in the middle of the change
	require.NoError(t, o.Store.Close())
	close(hang)
	estate.Directory.SetFault(standindir.Fault{})
	f.Application = open()
	assert.Equal(t, "done", f.ended(id).Result)
	assert.False(t, estate.Directory.Accepts(larkmoor.DN("svc-manifest"), larkmoor.Passwords["svc-manifest"]))
	f.Stop()
	require.NoError(t, f.Store.Close())
	_, err = f.Surveys.Start(ctx, ines, nil)
	assert.Error(t, err, "a stopped operator takes nothing new")
}

// The acts of a rotation on a host use one sign-in, as those of its rehearsal do;
// reading the host again afterwards is one of its own.
func TestARotationSignsInOnceOnAHost(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	f.Rotations.Settled(t.Context())
	host := f.estate.Hosts["tide1"]
	before := len(host.Log())
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.Rotations.Settled(t.Context())
	signIns, restarts := 0, 0
	for _, line := range host.Log()[before:] {
		if strings.HasSuffix(line, ": /usr/bin/id -u") {
			signIns++
		}
		if strings.Contains(line, "/usr/bin/systemctl restart") && !strings.Contains(line, "-l") {
			restarts++
		}
	}
	assert.Equal(t, 1, restarts, "the unit was restarted")
	assert.Equal(t, 3, signIns, "rehearsal, rotation, reading again: %d commands\n%s", len(host.Log())-before, strings.Join(host.Log()[before:], "\n"))
}
