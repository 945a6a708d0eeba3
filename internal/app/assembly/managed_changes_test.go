package assembly_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/managing"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/store/database"
)

func (f *ferry) stands(dn string) (there bool) {
	f.estate.Directory.Update(dn, func(*directory.Entry) { there = true })
	return there
}

// gates is an account that is to be created.
func gates(name string) managing.NewAccount {
	return managing.NewAccount{Name: name, DNSName: name + ".larkmoor.example", Group: "Locker Hosts", Services: []string{"HTTP/" + name + ".larkmoor.example"}}
}

// A managed account is created and a group permitted as one person asks and another approves; it
// is in the picture then, undone it is gone, and what somebody else did to it meanwhile is not lost.
func TestManagedAccountsAreCreated(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	rehearsed := func(wish managing.NewAccount) records.Amendment {
		t.Helper()
		v, err := f.Managing.RehearseNew(ctx, ines, "dir", wish)
		require.NoError(t, err)
		return v
	}
	started := func(v records.Amendment, err error) records.AmendmentView {
		t.Helper()
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
		_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
		require.NoError(t, f.approved(ola, err))
		return f.amended(v.ID)
	}
	container := "CN=Managed Service Accounts," + larkmoor.Base
	v := rehearsed(gates("gmsa-gates"))
	require.Equal(t, "passed", v.Verdict)
	_, asked := f.Amendments.Start(ctx, ines, v.ID, "test")
	require.Error(t, asked)
	page, err := f.Store.Approvals(ctx, records.Query{Limit: 1})
	require.NoError(t, err)
	require.NotEmpty(t, page.Items)
	seen := fmt.Sprint(page.Items[0].Changes)
	for _, want := range []string{"HTTP/gmsa-gates.larkmoor.example", "gmsa-gates.larkmoor.example", "AES128, AES256", "CN=Locker Hosts"} {
		assert.Contains(t, seen, want, "who approves it sees all of it")
	}
	done := started(v, nil)
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	assert.True(t, f.stands("CN=gmsa-gates,"+container))
	f.Amendments.Settled(ctx)
	a := f.account("gmsa-gates$")
	assert.Equal(t, "managed", a.Type)
	r, err := f.Managing.Check(ctx, ines, "dir", managing.Wish{Account: a.ID})
	require.NoError(t, err)
	assert.Equal(t, []any{30, "Locker Hosts", 1}, []any{r.Account.Interval, r.Account.Permitted[0].Name, len(r.Account.Hosts)})
	assert.Equal(t, "failed", rehearsed(managing.NewAccount{Name: "gmsa-gates", DNSName: "other.larkmoor.example"}).Verdict, "it is another one")
	again := rehearsed(gates("gmsa-gates"))
	assert.Equal(t, []string{"passed", "warning"}, []string{again.Verdict, again.Checks[0].Result}, "it is so already")

	permitted := started(f.Managing.RehearsePermit(ctx, ines, a.ID, "Operations"))
	require.Equal(t, rotation.FinishedDone, permitted.Result, "%+v", permitted.Steps)
	who := func() int {
		r, err := f.Managing.Check(ctx, ines, "dir", managing.Wish{Account: a.ID})
		require.NoError(t, err)
		return len(r.Account.Permitted)
	}
	assert.Equal(t, 2, who())
	undo := func(id records.AmendmentID) records.AmendmentView {
		t.Helper()
		require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, id, rotation.DecideUndo, "not after all")))
		require.Eventually(t, func() bool { return f.amended(id).Result != rotation.FinishedDone }, 20*time.Second, 10*time.Millisecond)
		return f.amended(id)
	}
	first := undo(done.ID)
	assert.Equal(t, rotation.FinishedUndoFailed, first.Result, "others may ask for it by now: it is not deleted")
	assert.True(t, f.stands("CN=gmsa-gates,"+container))
	assert.Equal(t, rotation.FinishedUndone, undo(permitted.ID).Result)
	assert.Equal(t, 1, who())
	require.NoError(t, f.Amendments.Decide(ctx, ines, done.ID, rotation.DecideUndo, "now nobody else may"), "it was approved, and is not over")
	require.Eventually(t, func() bool { return f.amended(done.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.False(t, f.stands("CN=gmsa-gates,"+container))

	// It may be given groups at once, which have what it needs on hosts: both are there, or neither is.
	both := gates("gmsa-gates")
	both.MemberOf = []string{"Terminal Services", "CN=Operations,OU=Groups," + larkmoor.Base}
	grouped := rehearsed(both)
	assert.Contains(t, fmt.Sprint(grouped.Checks), "once the account is there")
	done = started(grouped, nil)
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	groups := f.estate.Directory.GroupsOf(`LARKMOOR\gmsa-gates$`)
	assert.ElementsMatch(t, []string{"Terminal Services", "Operations"}, groups)
	assert.Equal(t, rotation.FinishedUndone, undo(done.ID).Result)
	assert.False(t, f.stands("CN=gmsa-gates,"+container))
	nowhere := gates("gmsa-gates")
	nowhere.MemberOf = []string{"Nobody At All"}
	_, err = f.Managing.RehearseNew(ctx, ines, "dir", nowhere)
	require.ErrorIs(t, err, app.ErrInput)

	// What a directory needs is missing, or a name is taken: nothing is begun.
	f.estate.Directory.Remove("CN=6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11,CN=Master Root Keys,CN=Group Key Distribution Service,CN=Services,CN=Configuration," + larkmoor.Base)
	none := rehearsed(gates("gmsa-late"))
	assert.Equal(t, "failed", none.Verdict)
	assert.Contains(t, none.Checks[0].Words, "there is none")
	f.estate.Directory.AddRootKey("young", time.Now().Add(-time.Hour), time.Now().Add(-time.Hour))
	young := rehearsed(gates("gmsa-late"))
	assert.Equal(t, "failed", young.Verdict)
	assert.Contains(t, young.Checks[0].Next, "or say why not with --early")
	early := gates("gmsa-late")
	early.Early = "a test estate"
	forced := rehearsed(early)
	require.Equal(t, "passed", forced.Verdict, "%+v", forced.Checks)
	assert.Contains(t, fmt.Sprint(forced.Checks), "it is created all the same: a test estate")
	_, err = f.Amendments.Start(ctx, ines, forced.ID, " ")
	require.ErrorIs(t, err, app.ErrInput, "without a reason nothing begins")
	for name, wish := range map[string]managing.NewAccount{
		"a name that is too long":  gates("gmsa-of-all-the-gates"),
		"a group that is no group": {Name: "gmsa-x", DNSName: "x.larkmoor.example", Group: larkmoor.DN("svc-berth")},
		"no DNS name":              {Name: "gmsa-x"},
		"years":                    {Name: "gmsa-x", DNSName: "x.larkmoor.example", Interval: 4000},
	} {
		_, err := f.Managing.RehearseNew(ctx, ines, "dir", wish)
		require.ErrorIs(t, err, app.ErrInput, name)
	}
}

// Whatever record cannot be written, and the service ends there: taken up again it finds out what
// became of its act, and the account is there once, or not at all. So it is with undoing, and
// where the answer of the directory is lost.
func TestManagedAccountsSurvive(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	exec := f.statements()
	cuts := 0
	for at := 2; at <= 16; at++ {
		name := fmt.Sprintf("gmsa-at%d", at)
		dn := "CN=" + name + ",CN=Managed Service Accounts," + larkmoor.Base
		wish := gates(name)
		wish.MemberOf = []string{"Terminal Services"}
		v, err := f.Managing.RehearseNew(ctx, ines, "dir", wish)
		require.NoError(t, err)
		exec(cutForward(at))
		f.estate.Directory.SetFault(directory.Fault{LoseAnswer: at%2 == 0})
		cuts += f.cut(exec, v.ID, func() error { _, err := f.Amendments.Start(ctx, ines, v.ID, "test"); return err })
		f.estate.Directory.SetFault(directory.Fault{})
		done := f.amended(v.ID)
		require.Equal(t, rotation.FinishedDone, done.Result, "cut at record %d: %+v", at, done.Steps)
		assert.True(t, f.stands(dn), "%d", at)
		assert.Equal(t, []string{"Terminal Services"}, f.estate.Directory.GroupsOf(`LARKMOOR\`+name+"$"), "%d", at)
		exec(cutBack(at))
		cuts += f.cut(exec, v.ID, func() error { return f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "back") })
		require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond, "cut at record %d of undoing", at)
		assert.False(t, f.stands(dn), "%d", at)
	}
	assert.Greater(t, cuts, 12, "records of going forward and of undoing")
}

// A host that becomes a member and is restarted is both, whichever record of the journal could not be
// written, and where its answer was lost; it is restarted once.
func TestGivingHostsSurvives(t *testing.T) {
	f := terminals(t)
	ctx := t.Context()
	exec := f.statements()
	lockers, north := f.account("gmsa-lockers$"), f.estate.Windows["north1"]
	cuts := 0
	for at := 2; at <= 13; at++ {
		v, err := f.Managing.RehearseHosts(ctx, ines, lockers.ID, managing.HostsWish{Hosts: []string{"north1"}, Restart: true})
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
		exec(cutForward(at))
		asked := north.Calls("/Reboot")
		north.UpdateService("RpcSs", func(*windowshost.Service) { north.Skew += 10 * time.Second }) // a restart takes its time
		if at%2 == 0 {
			north.SetFault(windowshost.Fault{Drop: once("/Reboot")})
		}
		cuts += f.cut(exec, v.ID, func() error { _, err := f.Amendments.Start(ctx, ines, v.ID, "test"); return err })
		done := f.amended(v.ID)
		north.SetFault(windowshost.Fault{})
		require.Equal(t, rotation.FinishedDone, done.Result, "cut at record %d: %+v", at, done.Steps)
		assert.True(t, f.isMember("NORTH1"), "%d", at)
		assert.Equal(t, 1, north.Calls("/Reboot")-asked, "cut at record %d: %+v", at, done.Steps)
		f.Amendments.Settled(ctx)
		exec(cutBack(at))
		cuts += f.cut(exec, v.ID, func() error { return f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "back") })
		require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond, "cut at record %d of undoing", at)
		assert.False(t, f.isMember("NORTH1"), "%d", at)
		f.Amendments.Settled(ctx)
	}
	assert.Greater(t, cuts, 10)
}

// statements runs statements on the database of the service, beside it.
func (f *ferry) statements() func(string) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(f.t, err)
	f.t.Cleanup(func() { _ = db.Close() })
	return func(statement string) {
		f.t.Helper()
		_, err := db.ExecContext(f.t.Context(), statement)
		require.NoError(f.t, err)
	}
}

// cutForward lets a record of an amendment's journal not be written, and cutBack one of its undoing.
func cutForward(at int) string {
	return fmt.Sprintf("CREATE TRIGGER full BEFORE INSERT ON amendment_journal WHEN NEW.seq = %d BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END", at)
}

func cutBack(at int) string {
	return fmt.Sprintf("CREATE TRIGGER full BEFORE INSERT ON amendment_journal WHEN NEW.seq = (SELECT %d + max(seq) FROM amendment_journal WHERE amendment_id = NEW.amendment_id AND event = 'finished') BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END", at)
}

// cut begins something, ends the service where a record could not be written, or at its end, and
// starts it again. It answers 1 where it was cut.
func (f *ferry) cut(exec func(string), id records.AmendmentID, begin func() error) (cut int) {
	f.t.Helper()
	require.NoError(f.t, begin())
	require.Eventually(f.t, func() bool { return f.Amendments.Halted(id) != "" || f.amendedNow(id) }, 30*time.Second, 5*time.Millisecond)
	if f.Amendments.Halted(id) != "" {
		cut = 1
	}
	f.Stop()
	require.NoError(f.t, f.Store.Close())
	exec("DROP TRIGGER full")
	f.reopen()
	return cut
}

// amendedNow: it has ended, or was undone.
func (f *ferry) amendedNow(id records.AmendmentID) bool {
	v, err := f.Store.Amendment(f.t.Context(), id)
	return err == nil && (v.Mode == string(rotation.ModeFinished) || v.Mode == string(rotation.ModeStopped))
}
