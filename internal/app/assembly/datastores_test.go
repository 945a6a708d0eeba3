package assembly_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect"
	_ "mossledger.example/moss/internal/connect/postgres"
	_ "mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/radius"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store"
)

// stores adds the data stores to an estate and takes their accounts.
func (f *ferry) stores() (bookings, tides records.Account) {
	f.t.Helper()
	for name, kind := range map[string]estate.Kind{"bookings-db": estate.KindPostgreSQL, "tide-db": estate.KindRedis} {
		host, port := larkmoor.Port(f.estate.Stores[name])
		_, err := f.Inventory.Add(f.t.Context(), ines, records.System{Name: name, Kind: string(kind), Address: host, Port: port, Steward: "hosts", TrustedCA: f.estate.CA})
		require.NoError(f.t, err)
	}
	f.survey()
	for _, name := range []string{"bookings-db/svc_bookings", "tide-db/svc_tides"} {
		a := f.account(name)
		_, err := f.Custody.Take(f.t.Context(), ines, cred(f, a), secret.New(larkmoor.Passwords[a.Name]))
		require.NoError(f.t, err)
	}
	f.survey()
	return f.account("bookings-db/svc_bookings"), f.account("tide-db/svc_tides")
}

// TestDataStores: copies that nothing names are found by the search, the unit
// that reads them by its session, and what nothing explains is said before
// anything changes.
func TestDataStores(t *testing.T) {
	t.Parallel()
	f := start(t)
	bookings, tides := f.stores()

	assert.Contains(t, f.kinds("unexplained-client"), "quay2/svc_bookings")
	assert.Contains(t, f.kinds("reused-password"), "svc_bookings, svc_reports")
	assert.Contains(t, f.kinds("unused-account"), "svc_fares_old")
	g, err := radius.Walk(store.AccountNode(bookings), 6, 1000, f.Store.RadiusSource(t.Context(), nil, false))
	require.NoError(t, err)
	tree := strings.Join(g.Tree(), "\n")
	for _, want := range []string{"unit till.service on quay2  [observed, signs in]", "unit bookings-web.service  [needs]", "unit gangway.service on quay2  [connects]", "database.yml#/production/password on bookings1  [held, matches]"} {
		assert.Contains(t, tree, want)
	}
	assert.NotContains(t, tree, "README.md", "what only mentions it is left out")

	rehearsed, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, bookings), undo)
	require.NoError(t, err)
	warned := false
	for _, c := range rehearsed.Checks {
		warned = warned || c.Result == "warning" && strings.Contains(c.Words, "till.service")
	}
	assert.True(t, warned, "the till is told before it breaks")
	require.Equal(t, rotation.FinishedDone, f.rotate(bookings, rotation.UndoOnFailure).Result)
	assert.False(t, f.estate.Bookings.Accepts("svc_bookings", larkmoor.Passwords["svc_bookings"]))
	file, _ := f.estate.Hosts["bookings1"].Read("/srv/bookings/config/database.yml")
	assert.Contains(t, string(file.Content), "production: &main\n  adapter: postgresql")
	assert.NotContains(t, string(file.Content), larkmoor.Passwords["svc_bookings"])
	state, _ := f.estate.Hosts["bookings1"].UnitState("bookings.service")
	assert.Equal(t, "active", state)

	// Redis accepts two passwords at once: the old one is retired at the end.
	done := f.rotate(tides, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, done.Result)
	var kinds []string
	for _, s := range done.Plan.Steps {
		if s.Kind != rotation.StepAll { // in which nothing is done
			kinds = append(kinds, string(s.Kind))
		}
	}
	assert.Equal(t, "seal change sign-in replace replace restart prove retire refuse", strings.Join(kinds, " "))
	assert.False(t, f.estate.Tides.Accepts("svc_tides", larkmoor.Passwords["svc_tides"]))
}

// TestOverlapIsUndone: a reader that does not come up again is put back, and
// was able to sign in all the time.
func TestOverlapIsUndone(t *testing.T) {
	t.Parallel()
	f := start(t)
	_, tides := f.stores()
	h := f.estate.Hosts["tide1"]
	h.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		line := strings.Join(argv, " ")
		if strings.Contains(line, "restart") && strings.Contains(line, "tidecache") && !strings.Contains(line, " -l ") {
			assert.True(t, f.estate.Tides.Accepts("svc_tides", larkmoor.Passwords["svc_tides"]), "the old value is valid while dependents change")
			return 1, "Job for tidecache.service failed.", true
		}
		return 0, "", false
	}})
	r := f.rotate(tides, rotation.UndoOnFailure)
	h.SetFault(unixhost.Fault{})
	assert.NotEqual(t, rotation.FinishedDone, r.Result)
	assert.True(t, f.estate.Tides.Accepts("svc_tides", larkmoor.Passwords["svc_tides"]))
	file, _ := h.Read("/etc/systemd/system/tidecache.service")
	assert.Contains(t, string(file.Content), "Moon%%Pulls&Sea-15")
}

// TestPrograms: what was started by hand, runs with a value that no file
// explains, or shows it to everybody, is found and told before a rotation.
func TestPrograms(t *testing.T) {
	t.Parallel()
	f := start(t)
	_, tides := f.stores()
	h := f.estate.Hosts["tide1"]
	h.AddProcess(unixhost.Process{PID: 4001, User: "tide", Group: "/system.slice/tidefeed.service", Args: []string{"/opt/tide/bin/feed"}, Environment: []string{"TIDE_DB_USER=svc_tides", "TIDE_DB_PASSWORD=" + larkmoor.Passwords["svc_tides"]}, Folder: "/"})
	f.survey()
	assert.Contains(t, f.kinds("secret-in-arguments"), "bookings1//usr/bin/psql by hand")
	assert.Contains(t, f.kinds("started-by-hand"), "tide1//opt/tide/bin/gauge by hand")
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, tides), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, failures(v))
	warned := ""
	for _, c := range v.Checks {
		if c.Result == connect.CheckWarning {
			warned += c.Words + "\n"
		}
	}
	assert.Contains(t, warned, "/opt/tide/bin/gauge on tide1, started by hand, reads a copy")
	assert.Contains(t, warned, "tidefeed.service on tide1 runs with the value (environment TIDE_DB_PASSWORD), and no file")
	require.Equal(t, rotation.FinishedDone, f.rotate(tides, rotation.UndoOnFailure).Result)
	file, _ := h.Read("/mnt/gauge/gauge.ini")
	assert.NotContains(t, string(file.Content), larkmoor.Passwords["svc_tides"], "the copy in the folder it works in is replaced")
	f.survey()
	assert.Contains(t, f.kinds("runs-on-old"), "tide1/tidefeed.service#environment:TIDE_DB_PASSWORD", "a program that kept the old value")
}

// TestDeclaredUse: a person's word is a tie until its time is over.
func TestDeclaredUse(t *testing.T) {
	t.Parallel()
	f := start(t)
	_, tides := f.stores()
	ctx := t.Context()
	for _, bad := range []picture.Declared{{Place: "x"}, {Reason: "x"}, {Place: "x", Reason: "x", Until: time.Now().Add(-time.Hour)}} {
		_, err := f.Picture.Declare(ctx, ines, tides, bad)
		assert.ErrorIs(t, err, app.ErrInput)
	}
	id, err := f.Picture.Declare(ctx, ines, tides, picture.Declared{Place: "paper at the desk", System: "quay1", Reason: "seen there"})
	require.NoError(t, err)
	list, err := f.Store.DependentsOfAccount(ctx, tides.ID)
	require.NoError(t, err)
	found := false
	for _, d := range list {
		found = found || d.Kind == estate.DependentDeclared && d.System == "quay1"
	}
	assert.True(t, found)
	rehearsed, err := f.Rotations.Rehearse(ctx, ines, cred(f, tides), undo)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(rehearsed.Plan.Notes), "ines says so: seen there")
	require.NoError(t, f.Picture.Withdraw(ctx, ines, id))
	assert.Error(t, f.Picture.Withdraw(ctx, ines, id), "only once")
	left, err := f.Store.Declarations(ctx, tides.ID)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestUses: what a directory recorded is placed, and what no
// configuration explains is a finding.
func TestUses(t *testing.T) {
	t.Parallel()
	f := start(t)
	v, err := f.Store.System(t.Context(), "dir")
	require.NoError(t, err)
	now := time.Now().UTC()
	require.NoError(t, f.Picture.TakeUses(t.Context(), ines, v, []estate.Use{
		{Account: "svc-manifest", Client: "192.0.2.77", How: "LDAP, simple bind/TLS", First: now, Last: now, Count: 3},
		{Account: "svc-manifest", Client: "192.0.2.78", How: "LDAP, simple bind/TLS", First: now, Last: now, Count: 1, Failed: true},
		{Account: "nobody-knows", Client: "192.0.2.77", How: "LDAP", First: now, Last: now, Count: 1},
	}))
	a := f.account("dir/svc-manifest")
	uses, err := f.Store.SeenUses(t.Context(), a.ID)
	require.NoError(t, err)
	require.Len(t, uses, 2)
	assert.Contains(t, f.kinds("unexplained-client"), "svc-manifest")
}

// TestKeys: one key with three doors is found with its holder and restrictions,
// and every key is judged by what it is.
func TestKeys(t *testing.T) {
	t.Parallel()
	f := start(t)
	doors := f.findings("key-with-doors")
	require.Len(t, doors, 1)
	for _, want := range []string{"berth on quay1", "berth on quay2", "odile on bookings1", "held in tide1:/var/lib/tide/.ssh/id_ed25519"} {
		assert.Contains(t, doors[0].What, want)
	}
	assert.Equal(t, "tide1//var/lib/tide/.ssh/id_ed25519", f.kinds("exposed-key"))
	assert.Contains(t, f.kinds("unheld-key"), "odile@old-laptop")
	weak := f.findings("weak-key")
	require.Len(t, weak, 1)
	assert.Contains(t, weak[0].What, "rc4-hmac")
	berth := f.account("quay2/berth")
	g, err := radius.Walk(store.AccountNode(berth), 6, 1000, f.Store.RadiusSource(t.Context(), nil, false))
	require.NoError(t, err)
	assert.Contains(t, strings.Join(g.Tree(), "\n"), "key /var/lib/tide/.ssh/id_ed25519 on tide1  [held, opens]")
	list, err := f.Store.DependentsOfAccount(t.Context(), berth.ID)
	require.NoError(t, err)
	restricted := false
	for _, d := range list {
		for _, tie := range d.Ties {
			restricted = restricted || d.Kind == estate.DependentKey && strings.Contains(tie.Detail, `command="/usr/bin/rsync --server"`)
		}
	}
	assert.True(t, restricted, "with its restrictions")
	gangway := f.account("dir/svc-gangway")
	list, err = f.Store.DependentsOfAccount(t.Context(), gangway.ID)
	require.NoError(t, err)
	kinds := ""
	for _, d := range list {
		kinds += string(d.Kind) + " "
	}
	assert.Contains(t, kinds, "key tab")

	// A service principal name for which no key tab was found keeps the rehearsal from
	// passing, until a person says why it does not matter; the key tab that was found is
	// given the new key, and a change by somebody else makes it stale.
	require.Empty(t, f.findings("stale-key-tab"))
	a := f.take("svc-gangway")
	f.survey()
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	require.Len(t, bad(v.Checks), 1)
	assert.Contains(t, bad(v.Checks)[0].Words, "HTTP/gangway.larkmoor.example is a service principal name of it")
	said := undo
	said.NoAcceptors = "the proxy was taken down in spring"
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), said)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	_, err = f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "test", "")
	require.ErrorIs(t, err, app.ErrRefused, "what was said is part of what was rehearsed")
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), said, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	values, err := f.Sealed.Values(t.Context(), cred(f, a).ID)
	require.NoError(t, err)
	f.tabHolds(t, "quay1", values.Current.RevealString(), 2, 1)
	f.survey()
	assert.Empty(t, f.findings("stale-key-tab"))

	// Undone, the old key is there once more, with the number that comes next.
	_, err = f.Rotations.RehearseUndo(t.Context(), ines, id)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, id, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	f.tabHolds(t, "quay1", larkmoor.Passwords["svc-gangway"], 3, 2, 1)
	f.survey()
	assert.Empty(t, f.findings("stale-key-tab"))
	look, err := f.Looks.LookNow(t.Context(), ines, id)
	require.NoError(t, err)
	assert.Zero(t, results(look)[connect.CheckFailed], "%+v", look.Checks)

	f.estate.Directory.Update(larkmoor.DN("svc-gangway"), func(e *standindir.Entry) { e.KeyVersion++ })
	f.survey()
	stale := f.findings("stale-key-tab")
	require.Len(t, stale, 1)
	assert.Contains(t, stale[0].What, "version 3 of the key of svc-gangway@LARKMOOR.EXAMPLE, and the directory is at version 4")
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), said)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	assert.Contains(t, bad(v.Checks)[0].Words, "tickets cannot be read with it as it is")
	for _, d := range list {
		if d.Kind == estate.DependentKeytab {
			require.ErrorIs(t, f.Picture.DecideCopy(t.Context(), ines, d.ID, records.CopyReplace, "x"), app.ErrInput)
			require.NoError(t, f.Picture.DecideCopy(t.Context(), ines, d.ID, records.CopyLeave, "made anew by hand on Monday"))
		}
	}
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), said)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
}
