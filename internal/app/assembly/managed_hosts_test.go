package assembly_test

import (
	"strings"
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
)

// begunManaged starts what was rehearsed, approved by somebody else, and waits for its end.
func (f *ferry) begunManaged(v records.Amendment, err error) records.AmendmentView {
	f.t.Helper()
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict, "%+v", bad(v.Checks))
	_, err = f.Amendments.Start(f.t.Context(), ines, v.ID, "test")
	require.NoError(f.t, f.approved(ola, err))
	out := f.amended(v.ID)
	f.Amendments.Settled(f.t.Context())
	return out
}

func (f *ferry) isMember(host string) (is bool) {
	f.estate.Directory.Update(larkmoor.LockerHosts, func(e *directory.Entry) {
		for _, m := range e.Attributes["member"] {
			is = is || strings.HasPrefix(m, "CN="+host+",")
		}
	})
	return is
}

// A host becomes a member, is restarted, and only then can have the account; it loses it again when
// nothing there uses it, and not before. Each wrong order is refused with the way out.
func TestHostsAreGivenManagedAccounts(t *testing.T) {
	f := terminals(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	lockers := f.account("gmsa-lockers$")
	north := f.estate.Windows["north1"]
	up := func() time.Time { return f.system("north1").Facts.Booted }
	before := up()

	// Without a restart it is a member that does not know it, and that is said.
	v, err := f.Managing.RehearseHosts(ctx, ines, lockers.ID, managing.HostsWish{Hosts: []string{"north1"}})
	require.NoError(t, err)
	assert.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	require.Len(t, v.LeftOut, 1)
	assert.Contains(t, v.LeftOut[0], "has to be restarted afterwards")
	assert.False(t, f.isMember("NORTH1"), "it was only rehearsed")

	// With one: member, proven, restarted, proven. What would not come back keeps it from beginning.
	north.UpdatePool("KioskSite", func(p *windowshost.Pool) { p.Password = "By-Hand-1" })
	f.take("svc-terminal")
	f.survey("dir", "north1", "skerry1")
	v, err = f.Managing.RehearseHosts(ctx, ines, lockers.ID, managing.HostsWish{Hosts: []string{"NORTH1$"}, Restart: true})
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
	assert.Equal(t, "KioskSite comes back when the host is restarted", bad(v.Checks)[0].What)
	_, stored := north.Stores("KioskAgent")
	north.UpdatePool("KioskSite", func(p *windowshost.Pool) { p.Password = stored })
	f.survey("north1")
	done := f.begunManaged(f.Managing.RehearseHosts(ctx, ines, lockers.ID, managing.HostsWish{Hosts: []string{"north1", "NORTH1$"}, Restart: true}))
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	var titles []string
	for _, s := range done.Steps {
		titles = append(titles, s.Title)
	}
	assert.Equal(t, []string{
		"give NORTH1$ on dir the membership of Locker Hosts", "prove that NORTH1$ on dir has the membership of Locker Hosts", "restart the host north1", "prove that north1 is up again",
	}, titles)
	assert.True(t, up().After(before), "it was surveyed afterwards")
	r, err := f.Managing.Check(ctx, ines, "dir", managing.Wish{Account: lockers.ID, Hosts: []string{"north1"}})
	require.NoError(t, err)
	assert.Equal(t, "passed", r.Verdict, "%+v", bad(r.Checks))

	// It has the account on a service now: the host cannot lose it, by whichever way.
	agent := f.dependent("north1", "KioskAgent")
	wish, _ := f.handedTo(lockers, agent)
	given := f.run(lockers, wish)
	require.Equal(t, rotation.FinishedDone, given.Result)
	f.quiet()
	for name, wish := range map[string]managing.RemoveWish{"the host": {Hosts: []string{"north1"}}, "its group": {Group: "Locker Hosts"}, "its group by its whole name": {Group: larkmoor.LockerHosts}, "all of it": {}} {
		_, err = f.Managing.RehearseRemoval(ctx, ines, lockers.ID, wish)
		require.ErrorIs(t, err, app.ErrRefused, name)
		assert.ErrorContains(t, err, "KioskAgent on north1", name)
		assert.ErrorContains(t, err, "give them another log-on first", name)
	}
	_, err = f.Rotations.RehearseUndo(ctx, ines, given.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, given.ID, rotation.DecideUndo, "not after all"))
	require.Eventually(t, func() bool { return f.ended(given.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	f.quiet()
	// On north1 the lockers are not being used yet, but a service is set up for them.
	_, err = f.Managing.RehearseRemoval(ctx, ines, lockers.ID, managing.RemoveWish{Hosts: []string{"north1"}})
	require.ErrorContains(t, err, "LockerControl on north1")
	north.RemoveService("LockerControl")
	f.survey("north1")
	gone := f.begunManaged(f.Managing.RehearseRemoval(ctx, ines, lockers.ID, managing.RemoveWish{Hosts: []string{"north1"}}))
	require.Equal(t, rotation.FinishedDone, gone.Result, "%+v", gone.Steps)
	assert.False(t, f.isMember("NORTH1"))
	assert.Contains(t, gone.LeftOut[0], "may fetch the password until it is restarted")

	// Undone, and taken in once more: the restart is not repeated.
	require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, gone.ID, rotation.DecideUndo, "not after all")))
	require.Eventually(t, func() bool { return f.amended(gone.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.True(t, f.isMember("NORTH1"))
	f.Amendments.Settled(ctx)
	since := up()
	require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, done.ID, rotation.DecideUndo, "not after all")))
	require.Eventually(t, func() bool { return f.amended(done.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.False(t, f.isMember("NORTH1"))
	f.Amendments.Settled(ctx)
	assert.Equal(t, since, up())

	for name, c := range map[string]struct {
		wish managing.HostsWish
		is   error
		says string
	}{
		"nobody":            {managing.HostsWish{}, app.ErrInput, "name 1 to 200 hosts"},
		"a stranger":        {managing.HostsWish{Hosts: []string{"pier9"}}, app.ErrInput, "has seen no computer"},
		"no group of it":    {managing.HostsWish{Hosts: []string{"north1"}, Group: "Operations"}, app.ErrRefused, "permit it first"},
		"a unix host again": {managing.HostsWish{Hosts: []string{"QUAY1$"}, Restart: true}, app.ErrInput, "no windows host"},
		"a window of none":  {managing.HostsWish{Hosts: []string{"north1"}, NotBefore: time.Now(), NotAfter: time.Now().Add(time.Hour)}, app.ErrInput, "none was asked for"},
		"half a window":     {managing.HostsWish{Hosts: []string{"north1"}, Restart: true, NotBefore: time.Now()}, app.ErrInput, "a beginning and an end"},
		"a window of old":   {managing.HostsWish{Hosts: []string{"north1"}, Restart: true, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(-time.Hour)}, app.ErrInput, "the window is over"},
		"a window backward": {managing.HostsWish{Hosts: []string{"north1"}, Restart: true, NotBefore: time.Now(), NotAfter: time.Now().Add(-time.Hour)}, app.ErrInput, "ends before it begins"},
	} {
		_, err := f.Managing.RehearseHosts(ctx, ines, lockers.ID, c.wish)
		require.ErrorIs(t, err, c.is, name)
		assert.ErrorContains(t, err, c.says, name)
	}

	// The whole group, and then the account: nothing may use it anywhere, and what runs where nobody
	// looks is not known.
	f.estate.Windows["skerry1"].RemoveService("LockerControl")
	f.survey("skerry1")
	_, _ = f.estate.Directory.Join(larkmoor.LockerHosts, "CN=KIOSK4,OU=Hosts,"+larkmoor.Base, time.Now())
	_, err = f.Managing.RehearseRemoval(ctx, ines, lockers.ID, managing.RemoveWish{Group: "Locker Hosts"})
	require.ErrorContains(t, err, "what runs on KIOSK4 is not known")
	f.estate.Directory.Leave(larkmoor.LockerHosts, "CN=KIOSK4,OU=Hosts,"+larkmoor.Base)
	none := f.begunManaged(f.Managing.RehearseRemoval(ctx, ines, lockers.ID, managing.RemoveWish{Group: "Locker Hosts"}))
	require.Equal(t, rotation.FinishedDone, none.Result, "%+v", none.Steps)
	_, err = f.estate.Directory.Retrieve(`LARKMOOR\SKERRY1$`, `LARKMOOR\gmsa-lockers$`, time.Now())
	require.ErrorIs(t, err, directory.ErrNotPermitted)
	require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, none.ID, rotation.DecideUndo, "not after all")))
	require.Eventually(t, func() bool { return f.amended(none.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	_, err = f.estate.Directory.Retrieve(`LARKMOOR\SKERRY1$`, `LARKMOOR\gmsa-lockers$`, time.Now())
	require.NoError(t, err)
	f.Amendments.Settled(ctx)
	last, err := f.Managing.RehearseRemoval(ctx, ines, lockers.ID, managing.RemoveWish{Watch: time.Hour})
	require.NoError(t, err)
	assert.Equal(t, "passed", last.Verdict, "%+v", bad(last.Checks))
	assert.Contains(t, last.Plan.Steps[len(last.Plan.Steps)-1].Title(), "gmsa-lockers$")
}
