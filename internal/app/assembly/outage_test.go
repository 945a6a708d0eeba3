package assembly_test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store/database"
)

// after waits until a rotation has a record that satisfies a condition.
func (f *ferry) after(id records.RotationID, what func(rotation.Plan, rotation.Record) bool) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		r, err := f.Store.Rotation(f.t.Context(), id)
		if err != nil {
			return false
		}
		records, err := f.Store.Journal(f.t.Context(), id, 0)
		for _, record := range records {
			if err == nil && record.Step >= 0 && what(r.Plan, record) {
				return true
			}
		}
		return false
	}, 60*time.Second, 2*time.Millisecond)
}

// begun starts a rotation that was rehearsed.
func (f *ferry) begun(a records.Account, policy rotation.OnFailure) records.RotationID {
	f.t.Helper()
	v, err := f.Rotations.Rehearse(f.t.Context(), ines, cred(f, a), planning.Request{OnFailure: policy})
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict, "%+v", v.Checks)
	id, err := f.Rotations.Start(f.t.Context(), ines, cred(f, a), planning.Request{OnFailure: policy}, "test", "")
	require.NoError(f.t, err)
	return id
}

// restarts: the command restarts a unit, and does not only ask whether it may.
func restarts(argv []string) bool {
	return len(argv) > 4 && argv[2] == "--" && argv[len(argv)-2] == "restart"
}

// An authority that is away for some seconds takes nothing down with it: what
// failed to start meanwhile is started once it is back.
func TestAnAuthorityThatIsAwayForAMoment(t *testing.T) {
	for _, policy := range []rotation.OnFailure{rotation.UndoOnFailure, rotation.StopOnFailure} {
		t.Run(string(policy), func(t *testing.T) {
			f := start(t)
			a := f.take("svc-berth")
			var once sync.Once
			back := make(chan struct{})
			// The directory goes away when the first unit is restarted.
			for _, name := range quays {
				f.estate.Hosts[name].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
					if restarts(argv) {
						once.Do(func() {
							f.estate.Directory.SetFault(standindir.Fault{Down: true})
							go func() {
								defer close(back)
								time.AfterFunc(3*time.Second, func() { f.estate.Directory.SetFault(standindir.Fault{}) })
							}()
						})
					}
					return 0, "", false
				}})
			}
			id := f.begun(a, policy)
			r := f.ended(id)
			<-back
			assert.Equal(t, rotation.FinishedDone, r.Result)
			f.ready(true, "quay1/berth.service", "quay1/gangway.service", "quay2/berth.service", "quay2/gangway.service")
			assert.Equal(t, "current retired", f.states(a.ID))
		})
	}
}

// A host that goes away after the decision to undo is waited for; until then
// nothing is put back by halves.
func TestAHostThatIsAwayWhileUndoing(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	var once sync.Once
	f.estate.Hosts["quay2"].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if restarts(argv) {
			once.Do(func() { f.estate.Hosts["quay1"].SetFault(unixhost.Fault{Down: true}) })
			return 1, "Job failed.", true
		}
		return 0, "", false
	}})
	id := f.begun(a, rotation.UndoOnFailure)
	f.after(id, func(p rotation.Plan, r rotation.Record) bool {
		// An act on it that was under way is asked about before anything is undone.
		return (r.Event == rotation.EventReached || r.Event == rotation.EventProbed) && r.Result == rotation.ProbeAway && p.Steps[r.Step].System == "quay1"
	})
	f.after(id, func(p rotation.Plan, r rotation.Record) bool {
		return r.Event == rotation.EventOutcome && r.Result == rotation.ResultFailed && p.Steps[r.Step].System == "quay2"
	})
	assert.False(t, f.estate.Directory.Accepts(larkmoor.DN("svc-berth"), larkmoor.Passwords["svc-berth"]), "the authority waits too")
	_, state, _, err := f.Rotations.State(t.Context(), id)
	require.NoError(t, err)
	waiting := 0
	for _, s := range state.Steps {
		if s.Waiting() {
			waiting++
		}
	}
	assert.NotZero(t, waiting, "it says what it waits for")
	f.estate.Hosts["quay1"].SetFault(unixhost.Fault{})
	f.estate.Hosts["quay2"].SetFault(unixhost.Fault{})
	assert.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	f.ready(true, "quay1/berth.service", "quay2/berth.service")
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-berth"), larkmoor.Passwords["svc-berth"]))
}

// A journal that cannot be written halts a rotation in words, and it goes on by
// itself.
func TestAFullDisk(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-berth")
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(t, err)
	defer db.Close()
	exec := func(statement string) {
		_, err := db.ExecContext(ctx, statement)
		require.NoError(t, err)
	}
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict)
	exec("CREATE TRIGGER full BEFORE INSERT ON journal WHEN NEW.seq = 9 BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END")
	id, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return f.Rotations.Halted(id) != "" }, 30*time.Second, 5*time.Millisecond)
	assert.Contains(t, f.Rotations.Halted(id), "disk is full")
	require.ErrorIs(t, f.Rotations.Decide(ctx, ines, id, rotation.DecideUndo, "x"), app.ErrRefused, "who decides is told")
	require.Eventually(t, func() bool { return len(f.findings("rotation")) == 1 }, 10*time.Second, 10*time.Millisecond)
	exec("DROP TRIGGER full")
	assert.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	assert.Empty(t, f.Rotations.Halted(id))
	require.Eventually(t, func() bool { return len(f.findings("rotation")) == 0 }, 10*time.Second, 10*time.Millisecond)
}

// Undoing a finished rotation needs what a rotation needs.
func TestUndoingWhatIsFinished(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, "done", r.Result)
	require.ErrorIs(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, ""), app.ErrInput)
	require.ErrorContains(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "it broke"), "rehearse")
	v, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "x", "")
	require.ErrorIs(t, err, app.ErrRefused, "that rehearsal is for nothing else")
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "it broke"))
	assert.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.ErrorIs(t, err, app.ErrRefused, "it is undone")

	// Custody that was taken anew since is not overwritten.
	r = f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, "done", r.Result)
	f.estate.SetPassword("svc-manifest", "Set-By-Somebody-Else-77")
	_, err = f.Custody.Take(ctx, ines, cred(f, a), secret.New("Set-By-Somebody-Else-77"))
	require.NoError(t, err)
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.ErrorContains(t, err, "taken anew")
}

// The trial that found it: what rotation 1 made and gave up is newer than what
// was current, and must not come back with rotation 2's undoing.
func TestUndoPutsBackWhatWasCurrent(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	dn := larkmoor.DN("svc-manifest")
	undoIt := func(r records.Rotation) {
		_, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
		require.NoError(t, err)
		require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
		require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
		require.True(t, f.estate.Directory.Accepts(dn, larkmoor.Passwords["svc-manifest"]), "rotation %d", r.ID)
	}
	for range 3 {
		r := f.rotate(a, rotation.UndoOnFailure)
		require.Equal(t, "done", r.Result)
		undoIt(r)
	}
}

// TestHistories takes an account through histories of up to six acts and holds
// the store's idea of what is current, and of what each rotation would put
// back, against a model of what the authority accepts.
func TestHistories(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.account("dir/svc-manifest")
	dn := larkmoor.DN("svc-manifest")
	random := rand.New(rand.NewPCG(7, 7))
	for round := range 25 {
		now := fmt.Sprintf("Round-%d-Begins-Here", round)
		f.estate.SetPassword("svc-manifest", now)
		_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New(now))
		require.NoError(t, err)
		var before string // what undoing the last rotation must put back
		var last records.Rotation
		history := ""
		for range 2 + random.IntN(5) {
			switch act := []string{"run", "run", "fail", "undo", "undo", "take"}[random.IntN(6)]; act {
			case "run":
				history += " run"
				before = f.currentOf(a)
				last = f.rotate(a, rotation.UndoOnFailure)
				require.Equal(t, "done", last.Result)
			case "fail":
				history += " fail"
				f.estate.Directory.SetFault(standindir.Fault{RefuseChange: true})
				r := f.rotate(a, rotation.UndoOnFailure)
				f.estate.Directory.SetFault(standindir.Fault{})
				require.Equal(t, rotation.FinishedUndone, r.Result)
				last = records.Rotation{}
			case "take":
				history += " take"
				value := fmt.Sprintf("Taken-%d-%d-Anew", round, random.IntN(1_000_000))
				f.estate.SetPassword("svc-manifest", value)
				_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New(value))
				require.NoError(t, err)
				last = records.Rotation{}
			case "undo":
				if last.ID == 0 {
					continue
				}
				history += " undo"
				_, err := f.Rotations.RehearseUndo(ctx, ines, last.ID)
				require.NoError(t, err, history)
				require.NoError(t, f.Rotations.Decide(ctx, ines, last.ID, rotation.DecideUndo, "test"), history)
				require.Equal(t, rotation.FinishedUndone, f.ended(last.ID).Result, history)
				require.Equal(t, before, f.currentOf(a), history)
				last = records.Rotation{}
			}
			require.True(t, f.estate.Directory.Accepts(dn, f.currentOf(a)), "round %d:%s: the authority accepts what is current", round, history)
		}
	}
}

// currentOf is the plain current value of an account, as the directory's owner
// knows it: the one of all sealed ones that the directory accepts.
func (f *ferry) currentOf(a records.Account) string {
	f.t.Helper()
	all, err := f.Store.Secrets(f.t.Context(), cred(f, a).ID)
	require.NoError(f.t, err)
	for _, s := range all {
		if s.State == records.SecretCurrent {
			value, err := f.Base.Sealer.Open(s.Binding(), s.Sealed)
			require.NoError(f.t, err)
			return value.RevealString()
		}
	}
	f.t.Fatal("nothing is current")
	return ""
}

// A reset that is killed in the act loses nothing: whichever value is in force
// is found out.
func TestAResetThatIsKilled(t *testing.T) {
	for name, fault := range map[string]standindir.Fault{"the change took effect": {LoseAnswer: true}, "it did not": {RefuseChange: true}} {
		t.Run(name, func(t *testing.T) {
			f := start(t)
			ctx := t.Context()
			a := f.take("svc-manifest")
			// As a kill between the change and its record leaves it: the value is
			// sealed, and the directory may have it.
			f.estate.Directory.SetFault(fault)
			value := secret.New("Sealed-But-Never-Recorded-9")
			sealed := f.sealed(a, value)
			require.NoError(t, f.Store.AddCandidate(ctx, sealed))
			if fault.LoseAnswer {
				f.estate.SetPassword("svc-manifest", value.RevealString())
			}
			f.estate.Directory.SetFault(standindir.Fault{Down: true})
			f.Stop()
			require.NoError(t, f.Store.Close())
			f.reopen()
			require.Eventually(t, func() bool { return len(f.findings("unsettled")) == 1 }, 20*time.Second, 10*time.Millisecond, "it is told while the directory is away")
			f.estate.Directory.SetFault(standindir.Fault{})
			require.Eventually(t, func() bool { return len(f.findings("unsettled")) == 0 }, 20*time.Second, 10*time.Millisecond)
			verdict, err := f.Custody.Verify(ctx, ines, cred(f, a))
			require.NoError(t, err)
			assert.True(t, verdict.Accepted)
			want := larkmoor.Passwords["svc-manifest"]
			if fault.LoseAnswer {
				want = value.RevealString()
			}
			assert.Equal(t, want, f.currentOf(a))
		})
	}
}

func (f *ferry) sealed(a records.Account, value secret.Value) records.Secret {
	f.t.Helper()
	prints, err := secret.NewFingerprinter(make([]byte, secret.KeySize))
	require.NoError(f.t, err)
	c := cred(f, a)
	s := records.Secret{CredentialID: c.ID, Kind: c.Kind, AccountID: a.ID, SystemID: a.SystemID, Fingerprint: prints.Of(value)}
	s.Sealed, err = f.Base.Sealer.Seal(s.Binding(), value)
	require.NoError(f.t, err)
	return s
}

func TestPasswordsThatAreNotOurs(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	page, err := f.Store.Accounts(ctx, records.Query{Limit: 1000})
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, a := range page.Items {
		if a.Type != "managed" && a.Type != "computer" {
			continue
		}
		seen[a.Type] = true
		require.ErrorIs(t, f.Custody.Reset(ctx, ines, "because", cred(f, a)), app.ErrRefused, a.Name)
		_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New("whatever-it-may-be"))
		require.ErrorIs(t, err, app.ErrRefused)
		assert.Empty(t, f.states(a.ID))
	}
	assert.Len(t, seen, 2)
	f.estate.Directory.Update(larkmoor.DN("svc-manifest"), func(e *standindir.Entry) { e.Disabled = true })
	f.survey("dir")
	a := f.account("dir/svc-manifest")
	require.Equal(t, estate.No, a.Enabled)
	require.ErrorContains(t, f.Custody.Reset(ctx, ines, "because", cred(f, a)), "disabled")
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-manifest"), larkmoor.Passwords["svc-manifest"]) || f.states(a.ID) == "", "nothing was changed")
}
