package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/managing"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// What a directory says of a managed account is held against what surveys saw of its hosts: one
// that started before it was permitted does not know that it is.
func TestManagedAccountsAreChecked(t *testing.T) {
	f := terminals(t)
	ctx := t.Context()
	page, err := f.Store.Accounts(ctx, records.Query{Filters: []string{"type=managed"}, Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	lockers := page.Items[0]
	r, err := f.Managing.Check(ctx, ines, "dir", managing.Wish{})
	require.NoError(t, err)
	assert.Equal(t, "passed", r.Verdict, "%+v", r.Checks)
	assert.Len(t, r.Checks, 4)
	assert.Nil(t, r.Account)

	of := func(hosts ...string) map[string]connect.Checked {
		t.Helper()
		r, err := f.Managing.Check(ctx, ines, "dir", managing.Wish{Account: lockers.ID, Hosts: hosts})
		require.NoError(t, err)
		require.NotNil(t, r.Account)
		out, missing := map[string]connect.Checked{}, false
		for _, c := range r.Checks {
			out[c.What] = c
			missing = missing || c.Result == connect.CheckFailed
		}
		assert.Equal(t, missing, r.Verdict == "failed")
		return out
	}
	// The north runs something as it, and may not have its password.
	before := of()
	assert.Equal(t, "failed", before["north1 is permitted"].Result, "%+v", before)
	assert.Contains(t, before["north1 is permitted"].Words, "1 that log on as the account there do not start again")
	code, words := f.estate.Directory.Join(larkmoor.LockerHosts, "CN=NORTH1,OU=Hosts,"+larkmoor.Base, time.Now())
	require.Zero(t, code, words)
	all := of()
	assert.NotContains(t, all, "north1 is permitted", "it is one of those that are")
	assert.Equal(t, "ok", all["SKERRY1 knows that it is permitted"].Result, "%+v", all)
	assert.Equal(t, "skerry1", all["SKERRY1 knows that it is permitted"].System)
	assert.Equal(t, "ok", all["SKERRY1 can fetch passwords"].Result)
	assert.Equal(t, "failed", all["NORTH1 knows that it is permitted"].Result)
	assert.Contains(t, all["NORTH1 knows that it is permitted"].Next, "restart it")
	some := of("north1", "pier9", "skerry1.larkmoor.example", "QUAY1$")
	assert.Equal(t, "failed", some["north1 knows that it is permitted"].Result, "by its name here")
	assert.Equal(t, "failed", some["pier9 is permitted"].Result)
	assert.Equal(t, "ok", some["skerry1.larkmoor.example is permitted"].Result)
	assert.Equal(t, "failed", some["QUAY1$ is permitted"].Result)
	assert.NotContains(t, some, "SKERRY1 is permitted", "those that were named, and no others")
	code, words = f.estate.Directory.Join(larkmoor.LockerHosts, "CN=QUAY1,OU=Hosts,"+larkmoor.Base, time.Now())
	require.Zero(t, code, words)
	assert.Equal(t, "warning", of()["QUAY1 can fetch passwords"].Result, "a unix host")
	assert.Equal(t, "unchecked", of()["QUAY1 knows that it is permitted"].Result, "when it started is not told")
	f.estate.Windows["north1"].Reboot()
	f.survey("north1")
	assert.Equal(t, "ok", of("north1")["north1 knows that it is permitted"].Result, "once it was restarted")

	for name, c := range map[string]struct {
		by     access.Actor
		system string
		wish   managing.Wish
		want   error
	}{
		"a viewer":                      {access.Actor{Name: "odile", Roles: []string{access.RoleViewer}}, "dir", managing.Wish{}, access.ErrDenied},
		"hosts of no account":           {ines, "dir", managing.Wish{Hosts: []string{"tide1"}}, app.ErrInput},
		"an account of another system":  {ines, "north1", managing.Wish{Account: lockers.ID}, app.ErrInput},
		"one that is no managed one":    {ines, "dir", managing.Wish{Account: f.account("svc-berth").ID}, app.ErrInput},
		"one that is not there":         {ines, "dir", managing.Wish{Account: 99999}, records.ErrNotFound},
		"a system that is not there":    {ines, "pier9", managing.Wish{}, records.ErrNotFound},
		"more hosts than can be looked": {ines, "dir", managing.Wish{Account: lockers.ID, Hosts: make([]string, managing.MostHosts+1)}, app.ErrInput},
	} {
		_, err := f.Managing.Check(ctx, c.by, c.system, c.wish)
		require.ErrorIs(t, err, c.want, name)
	}
	_, err = f.Managing.Check(ctx, ines, "quay1", managing.Wish{})
	assert.Equal(t, connect.CodeCannot, connect.CodeOf(err), "%v", err)
	f.estate.Directory.SetFault(directory.Fault{Down: true})
	_, err = f.Managing.Check(ctx, ines, "dir", managing.Wish{})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "dir: ")
	f.estate.Directory.SetFault(directory.Fault{})
	entries, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=managed.check"}, Limit: 100})
	require.NoError(t, err)
	require.NotEmpty(t, entries.Items)
	assert.Equal(t, "failed", entries.Items[0].Result)
	assert.Equal(t, ledger.Outcome, entries.Items[0].Phase)

	// It went meanwhile: that is said, and nothing else is read in its place.
	f.estate.Directory.Remove(lockers.DN)
	_, err = f.Managing.Check(ctx, ines, "dir", managing.Wish{Account: lockers.ID})
	require.ErrorIs(t, err, records.ErrNotFound)
}
