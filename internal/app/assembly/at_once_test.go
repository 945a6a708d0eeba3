package assembly_test

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store/database"
)

// What many people and the service itself do at the same moment. Run under the race
// detector these are about threads, without it about what is true afterwards.

func TestManyDecideAtOnce(t *testing.T) {
	for round, decisions := range [][]string{
		{rotation.DecideResume},
		{rotation.DecideUndo},
		{rotation.DecideUndo, rotation.DecideResume, rotation.DecideStop, rotation.DecideGoOn},
	} {
		t.Run(strings.Join(decisions, " "), func(t *testing.T) {
			f := start(t)
			a := f.take("svc-tidefeed")
			refuseRestarts(f.estate.Hosts["tide1"], "tidefeed.service", 3)
			r := f.rotate(a, rotation.StopOnFailure)
			require.Equal(t, "stopped", r.Mode)
			f.estate.Hosts["tide1"].SetFault(unixhost.Fault{})
			var all sync.WaitGroup
			errs := make([]error, 24)
			for i := range errs {
				all.Add(1)
				go func() {
					defer all.Done()
					errs[i] = f.Rotations.Decide(t.Context(), ines, r.ID, decisions[(i+round)%len(decisions)], "all at once")
				}()
			}
			all.Wait()
			taken := 0
			for _, err := range errs {
				sane(t, err)
				if err == nil {
					taken++
				}
			}
			assert.Positive(t, taken, "one of them is heard")
			told := 0
			_, _, records, err := f.Rotations.State(t.Context(), r.ID)
			require.NoError(t, err)
			for _, v := range records {
				if v.Event == rotation.EventDecision && v.Actor == ines.Name {
					told++
				}
			}
			assert.Equal(t, taken, told, "what was answered is in the journal, and nothing else")
			// One of them may have stopped it, before or after another was heard.
			require.Eventually(t, func() bool {
				r, err := f.Store.Rotation(t.Context(), r.ID)
				if err == nil && r.Mode == "stopped" {
					sane(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideUndo, ""))
				}
				return err == nil && r.Mode == "finished"
			}, time.Minute, 20*time.Millisecond)
			r = f.ended(r.ID)
			want := []string{rotation.FinishedDone, rotation.FinishedUndone}
			if len(decisions) > 1 { // going on leaves the restart that failed behind
				want = append(want, rotation.FinishedWithFailures)
			}
			require.Contains(t, want, r.Result)
			f.journalWhole(r.ID)
			f.agrees(a, "tide1", "/etc/tide/feed.pw")
		})
	}
}

// Many start a rotation of one credential: one begins.
func TestManyStartAtOnce(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict)
	var all sync.WaitGroup
	var lock sync.Mutex
	var begun []records.RotationID
	for range 16 {
		all.Add(1)
		go func() {
			defer all.Done()
			id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "at once", "")
			sane(t, err)
			if err == nil {
				lock.Lock()
				defer lock.Unlock()
				begun = append(begun, id)
			}
		}()
	}
	all.Wait()
	require.NotEmpty(t, begun)
	for _, id := range begun {
		require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
		f.journalWhole(id)
	}
	assert.Len(t, begun, 1, "the rehearsal of the others is of the value before")
	f.agrees(a, "tide1", "/etc/tide/feed.pw")
}

// The service is stopped at any moment of everything at once, and started again.
func TestStoppedInTheMiddleOfEverything(t *testing.T) {
	f := start(t)
	a, b := f.take("svc-tidefeed"), f.take("svc-manifest")
	for _, c := range []records.Account{a, b} {
		_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, c), undo)
		require.NoError(t, err)
	}
	rounds := 4
	if testing.Short() {
		rounds = 2
	}
	for round := range rounds {
		ca, cb := cred(f, a), cred(f, b)
		work, cancel := context.WithCancel(t.Context())
		var all sync.WaitGroup
		begin := func(do func()) {
			all.Add(1)
			go func() { defer all.Done(); do() }()
		}
		begin(func() {
			id, err := f.Rotations.Start(work, ines, ca, undo, "in the middle", "")
			sane(t, err)
			if err == nil {
				sane(t, f.Rotations.Decide(work, ines, id, rotation.DecideStop, "wait"))
				sane(t, f.Rotations.Decide(work, ines, id, rotation.DecideResume, "on"))
			}
		})
		begin(func() { _, err := f.Rotations.Start(work, ines, cb, undo, "in the middle", ""); sane(t, err) })
		begin(func() { _, err := f.Surveys.Start(work, ines, nil); sane(t, err) })
		begin(func() { _, _, _, err := f.Custody.VerifyAll(work, ines); sane(t, err) })
		begin(func() {
			_, err := f.Rotations.Rehearse(work, ines, cb, undo)
			sane(t, err)
		})
		// Until the round's turn of the journal has come.
		require.Eventually(t, func() bool {
			page, err := f.Store.Rotations(t.Context(), records.Query{})
			if err != nil || len(page.Items) == 0 {
				return false
			}
			records, err := f.Store.Journal(t.Context(), page.Items[0].ID, 0)
			return err == nil && len(records) > 3*round
		}, 30*time.Second, time.Millisecond)
		f.Stop()
		cancel()
		all.Wait()
		require.NoError(t, f.Store.Close())
		f.reopen()
		page, err := f.Store.Rotations(t.Context(), records.Query{})
		require.NoError(t, err)
		for _, r := range page.Items {
			if r = f.ended(r.ID); r.Mode == "stopped" {
				require.NoError(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideResume, "after the start"))
				r = f.ended(r.ID)
			}
			require.Contains(t, []string{rotation.FinishedDone, rotation.FinishedUndone}, r.Result)
			f.journalWhole(r.ID)
		}
		f.Rotations.Settled(t.Context())
		f.agrees(a, "tide1", "/etc/tide/feed.pw")
		require.NoError(t, f.Store.LedgerTrouble())
		for _, c := range []records.Account{a, b} {
			_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, c), undo)
			require.NoError(t, err)
		}
	}
}

// A system is removed in every state that it can be in: refused with the reason, or
// gone with all that was seen on it and nothing else.
func TestRemovalInEveryState(t *testing.T) {
	hold := func(f *ferry, host string) func() {
		hang := make(chan struct{})
		f.estate.Hosts[host].SetFault(unixhost.Fault{Command: func(string, []string) (int, string, bool) { <-hang; return 0, "", false }})
		return sync.OnceFunc(func() { close(hang); f.estate.Hosts[host].SetFault(unixhost.Fault{}) })
	}
	for name, c := range map[string]struct {
		system  string
		prepare func(f *ferry) (after func())
		refused string
	}{
		"never read": {system: "fresh", prepare: func(f *ferry) func() {
			_, err := f.Inventory.Add(f.t.Context(), ines, records.System{Name: "fresh", Kind: "unix-host", Address: "192.0.2.9"})
			require.NoError(f.t, err)
			return nil
		}},
		"read": {system: "quay2"},
		"unreachable": {system: "quay2", prepare: func(f *ferry) func() {
			f.estate.Hosts["quay2"].SetFault(unixhost.Fault{Down: true})
			f.survey("quay2")
			return nil
		}},
		"being read": {system: "quay2", prepare: func(f *ferry) func() {
			release := hold(f, "quay2")
			id, err := f.Surveys.Start(f.t.Context(), ines, []string{"quay2"})
			require.NoError(f.t, err)
			require.Eventually(f.t, func() bool {
				page, err := f.Store.Visits(f.t.Context(), id, records.Query{})
				return err == nil && len(page.Items) == 1 && page.Items[0].State == "running"
			}, 20*time.Second, 5*time.Millisecond)
			return func() {
				release()
				require.Eventually(f.t, func() bool {
					v, err := f.Store.Survey(f.t.Context(), id)
					return err == nil && v.State != "running"
				}, 30*time.Second, 10*time.Millisecond)
			}
		}},
		"its account is in custody":      {system: "dir", prepare: func(f *ferry) func() { f.take("svc-tidefeed"); return nil }, refused: "custody"},
		"a copy in custody stands there": {system: "tide1", prepare: func(f *ferry) func() { f.take("svc-tidefeed"); return nil }, refused: "custody"},
		"released again": {system: "dir", prepare: func(f *ferry) func() {
			a := f.take("svc-tidefeed")
			require.NoError(f.t, f.Custody.Release(f.t.Context(), ines, "over", cred(f, a)))
			return nil
		}},
		"a change of it waits": {system: "quay2", prepare: func(f *ferry) func() {
			f.person("ola", "approver")
			f.person("ines", "operator")
			v, err := f.Store.System(f.t.Context(), "quay2")
			require.NoError(f.t, err)
			after := v
			after.Address = "192.0.2.77"
			require.NoError(f.t, f.Inventory.Change(f.t.Context(), ines, v, after, v.Revision))
			return nil
		}},
		"a rotation of it is over": {system: "dir", prepare: func(f *ferry) func() {
			a := f.take("svc-tidefeed")
			require.Equal(f.t, rotation.FinishedDone, f.rotate(a, rotation.UndoOnFailure).Result)
			f.Rotations.Settled(f.t.Context())
			require.NoError(f.t, f.Custody.Release(f.t.Context(), ines, "over", cred(f, a)))
			return nil
		}},
		"a rotation is stopped there": {system: "tide1", prepare: func(f *ferry) func() {
			a := f.take("svc-tidefeed")
			refuseRestarts(f.estate.Hosts["tide1"], "tidefeed.service", 3)
			require.Equal(f.t, "stopped", f.rotate(a, rotation.StopOnFailure).Mode)
			return nil
		}, refused: "custody"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := start(t)
			var after func()
			if c.prepare != nil {
				after = c.prepare(f)
			}
			counts := func() (out []string) {
				db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?mode=ro")
				require.NoError(t, err)
				defer db.Close()
				for _, table := range []string{"systems", "accounts", "dependents", "ties", "secrets", "credentials", "rotations", "scopes"} {
					var n int
					require.NoError(t, db.QueryRowContext(t.Context(), "SELECT COUNT(*) FROM "+table).Scan(&n))
					out = append(out, fmt.Sprintf("%s %d", table, n))
				}
				rows, err := db.QueryContext(t.Context(), "PRAGMA foreign_key_check")
				require.NoError(t, err)
				defer rows.Close()
				assert.False(t, rows.Next(), "no row refers to one that is gone")
				require.NoError(t, rows.Err())
				return out
			}
			if after == nil { // what taking custody began is over
				f.Rotations.Settled(t.Context())
			}
			before := counts()
			err := f.Inventory.Remove(t.Context(), ines, c.system)
			if after != nil {
				after()
			}
			if c.refused != "" {
				require.ErrorIs(t, err, records.ErrConflict)
				assert.ErrorContains(t, err, c.refused)
				assert.Equal(t, before, counts(), "nothing is gone")
				_, err = f.Store.System(t.Context(), c.system)
				require.NoError(t, err)
				return
			}
			require.NoError(t, err)
			_, err = f.Store.System(t.Context(), c.system)
			require.ErrorIs(t, err, records.ErrNotFound)
			counts()
			for _, list := range []func(records.Query) (int, error){
				func(q records.Query) (int, error) { p, err := f.Store.Accounts(t.Context(), q); return p.Total, err },
				func(q records.Query) (int, error) {
					p, err := f.Store.Dependents(t.Context(), 0, q)
					return p.Total, err
				},
				func(q records.Query) (int, error) {
					p, err := f.Store.Findings(t.Context(), false, q)
					return p.Total, err
				},
			} {
				n, err := list(records.Query{Filters: []string{"system=" + c.system}})
				require.NoError(t, err)
				assert.Zero(t, n)
			}
			// A system of that name begins anew, and everything else still works.
			_, err = f.Inventory.Add(t.Context(), ines, records.System{Name: c.system, Kind: "unix-host", Address: "192.0.2.9"})
			require.NoError(t, err)
			f.survey("quay1")
			require.NoError(t, f.Store.LedgerTrouble())
		})
	}
}

// A reset and a rotation of one credential at the same moment: the later one is
// refused or comes after, and what is current is in force.
func TestAResetAndARotationAtOnce(t *testing.T) {
	f := start(t)
	a := f.take("svc-tidefeed")
	for range 4 {
		f.Rotations.Settled(t.Context())
		c := cred(f, a)
		_, err := f.Rotations.Rehearse(t.Context(), ines, c, undo)
		require.NoError(t, err)
		var all sync.WaitGroup
		var id records.RotationID
		all.Add(2)
		go func() {
			defer all.Done()
			sane(t, f.Custody.Reset(t.Context(), ines, "at once", c))
		}()
		go func() {
			defer all.Done()
			var err error
			id, err = f.Rotations.Start(t.Context(), ines, c, undo, "at once", "")
			sane(t, err)
		}()
		all.Wait()
		if id != 0 {
			r := f.ended(id)
			require.Contains(t, []string{rotation.FinishedDone, rotation.FinishedUndone, rotation.FinishedWithFailures}, r.Result)
		}
		now, err := f.Sealed.Values(t.Context(), c.ID)
		require.NoError(t, err)
		require.True(t, f.estate.Directory.Accepts(larkmoor.DN(a.Name), now.Current.RevealString()), "what is current is in force")
		assert.Equal(t, 1, strings.Count(f.statesOf(c), "current"), f.statesOf(c))
		assert.NotContains(t, f.statesOf(c), "candidate")
	}
}
