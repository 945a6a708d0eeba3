package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/windowshost"
)

const lockersDN = "CN=gmsa-lockers,OU=Service Accounts," + larkmoor.Base

// handedTo is what a rehearsal of giving dependents to an account says, by verdict and what keeps it
// from passing.
func (f *ferry) handedTo(a records.Account, of ...records.Dependent) (planning.Request, records.Rehearsal) {
	f.t.Helper()
	wish := planning.Request{OnFailure: rotation.UndoOnFailure}
	for _, d := range of {
		wish.Assign = append(wish.Assign, d.ID)
	}
	v, err := f.Rotations.Rehearse(f.t.Context(), ines, cred(f, a), wish)
	require.NoError(f.t, err)
	return wish, v
}

// Services, tasks and pools are given a managed account once their hosts can fetch its password, and
// not before; they run with what the directory gives them, and have what they had before when that
// is undone. Nobody here ever has the password.
func TestManagedAccountsAreAssigned(t *testing.T) {
	f := terminals(t)
	ctx := t.Context()
	terminal, lockers := f.take("svc-terminal"), f.account("gmsa-lockers$")
	f.survey("dir", "north1", "skerry1")
	north, skerry := f.estate.Windows["north1"], f.estate.Windows["skerry1"]

	// A host that is not permitted, does not know it yet, and knows it.
	agent := f.dependent("north1", "KioskAgent")
	wish, v := f.handedTo(lockers, agent)
	assert.Equal(t, "failed", v.Verdict)
	assert.Equal(t, "north1 is permitted", bad(v.Checks)[0].What)
	_, err := f.Rotations.Start(ctx, ines, cred(f, lockers), wish, "test", "")
	require.ErrorIs(t, err, app.ErrRefused)
	code, words := f.estate.Directory.Join(larkmoor.LockerHosts, "CN=NORTH1,OU=Hosts,"+larkmoor.Base, time.Now())
	require.Zero(t, code, words)
	_, v = f.handedTo(lockers, agent)
	require.Len(t, bad(v.Checks), 1)
	assert.Equal(t, "north1 knows that it is permitted", bad(v.Checks)[0].What)
	assert.Contains(t, bad(v.Checks)[0].Next, "restart it")
	north.Reboot()
	f.survey("north1")
	_, v = f.handedTo(lockers, agent)
	assert.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))

	// All three kinds on a host, and back.
	task, pool := f.dependent("skerry1", "Kiosk report"), f.dependent("skerry1", "KioskSite")
	agent = f.dependent("skerry1", "KioskAgent")
	was, stored := skerry.Stores("KioskAgent")
	wish, _ = f.handedTo(lockers, agent, task, pool)
	r := f.run(lockers, wish)
	require.Equal(t, rotation.FinishedDone, r.Result)
	const gmsa = `LARKMOOR\gmsa-lockers$`
	runs := func() {
		t.Helper()
		account, none := skerry.Stores("KioskAgent")
		assert.Equal(t, gmsa+"/", account+"/"+none)
		account, password := skerry.Uses("KioskAgent")
		assert.Equal(t, gmsa, account)
		assert.True(t, f.estate.Directory.Accepts(gmsa, password), "it runs with what the directory gave its host")
		account, none = skerry.TaskStores("Kiosk report")
		assert.Equal(t, gmsa+"/", account+"/"+none)
		account, none = skerry.PoolStores("KioskSite")
		assert.Equal(t, gmsa+"/", account+"/"+none)
		assert.True(t, skerry.PoolServes("KioskSite"))
	}
	runs()
	f.quiet()
	assert.Equal(t, gmsa, f.dependent("skerry1", "KioskAgent").RunsAs)
	assert.Equal(t, estate.IdentityManaged, f.dependent("skerry1", "KioskAgent").Identity)
	look, err := f.Looks.LookNow(ctx, ines, r.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"ok": 2}, results(look), "%+v", look.Checks)
	values, err := f.Store.Secrets(ctx, cred(f, lockers).ID)
	require.NoError(t, err)
	assert.Empty(t, values)
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "not after all"))
	require.Eventually(t, func() bool { now := f.ended(r.ID); return now.Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	account, password := skerry.Stores("KioskAgent")
	assert.Equal(t, was+"/"+stored, account+"/"+password)
	assert.Equal(t, windowshost.Running, skerry.State("KioskAgent"))
	account, password = skerry.PoolStores("KioskSite")
	assert.Equal(t, stored, password, account)
	f.quiet()

	// Permitted when it was rehearsed, and not any more when it begins: the first that does not start
	// has everything put back.
	wish, v = f.handedTo(lockers, agent, pool)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	f.estate.Directory.Permit(lockersDN)
	id, err := f.Rotations.Start(ctx, ines, cred(f, lockers), wish, "test", "")
	require.NoError(t, err)
	assert.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	account, password = skerry.Stores("KioskAgent")
	assert.Equal(t, was+"/"+stored, account+"/"+password)
	assert.Equal(t, windowshost.Running, skerry.State("KioskAgent"))
	f.quiet()
	f.estate.Directory.Permit(lockersDN, larkmoor.LockerHosts)
	f.estate.Directory.Update(lockersDN, func(e *directory.Entry) { e.Disabled = true })
	_, v = f.handedTo(lockers, agent)
	require.Len(t, bad(v.Checks), 1)
	assert.Equal(t, "the account is enabled", bad(v.Checks)[0].What)

	// From a managed account to one in custody, and back: what goes back has no password.
	f.estate.Directory.Update(lockersDN, func(e *directory.Entry) { e.Disabled = false })
	control := f.dependent("skerry1", "LockerControl")
	wish, _ = f.handedTo(terminal, control)
	r = f.run(terminal, wish)
	require.Equal(t, rotation.FinishedDone, r.Result)
	_, password = skerry.Stores("LockerControl")
	assert.Equal(t, stored, password)
	f.quiet()
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "not after all"))
	require.Eventually(t, func() bool { return f.ended(r.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	account, password = skerry.Stores("LockerControl")
	assert.Equal(t, gmsa+"/", account+"/"+password)
	assert.Equal(t, windowshost.Running, skerry.State("LockerControl"))

	// What nobody can do: rotate it, and put it into a file.
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, lockers), undo)
	require.ErrorIs(t, err, app.ErrRefused)
	assert.ErrorContains(t, err, "changes the password of gmsa-lockers$ by itself")
	file := f.dependent("tide1", "backup.env")
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, lockers), planning.Request{OnFailure: rotation.UndoOnFailure, Assign: []records.DependentID{file.ID}})
	require.ErrorIs(t, err, app.ErrInput)
	assert.ErrorContains(t, err, "nobody knows the password of gmsa-lockers$")
}
