package assembly_test

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store/database"
)

// What an amendment does that cannot be written down halts it in words, and it goes on by
// itself; a host that is away is waited for, and told.
func TestAmendmentsThatWait(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	require.NoError(t, f.Start(ctx))
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	host := f.estate.Hosts["bookings1"]
	_, err := f.Charters.Save(ctx, ines, "two", "charter: two\nlabel: two\nmust: [{member_of: cardreaders}, {member_of: gauges}]\n", 0)
	require.NoError(t, err)
	host.SetGroups("svc-fuelcard")
	f.label("two", "bookings1/svc-fuelcard")
	f.survey("bookings1")
	_, err = f.Charters.Check(ctx, ines, "two")
	require.NoError(t, err)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(t, err)
	defer db.Close()
	exec := func(statement string) {
		_, err := db.ExecContext(ctx, statement)
		require.NoError(t, err)
	}
	v, err := f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "two"})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	exec("CREATE TRIGGER full BEFORE INSERT ON amendment_journal WHEN NEW.seq = 2 BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	require.NoError(t, f.approved(ola, err))
	require.Eventually(t, func() bool { return f.Amendments.Halted(v.ID) != "" }, 30*time.Second, 5*time.Millisecond)
	now, err := f.Amendments.View(ctx, v.ID)
	require.NoError(t, err)
	assert.Contains(t, now.Halted, "disk is full")
	require.ErrorIs(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "x"), app.ErrRefused, "who decides is told")
	require.Eventually(t, func() bool { return len(f.findings("rights-change")) == 1 }, 10*time.Second, 10*time.Millisecond)
	exec("DROP TRIGGER full")
	require.Equal(t, rotation.FinishedDone, f.amended(v.ID).Result)
	assert.Empty(t, f.Amendments.Halted(v.ID))
	assert.True(t, host.InGroup("svc-fuelcard", "cardreaders"))
	require.Eventually(t, func() bool { return len(f.findings("rights-change")) == 0 }, 10*time.Second, 10*time.Millisecond)

	// While it is undone its host is away: that is told once it lasts, and it ends by itself.
	f.Amendments.Settled(ctx)
	err = f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "it was wrong")
	host.SetFault(unixhost.Fault{Down: true})
	require.NoError(t, f.approved(ola, err))
	require.Eventually(t, func() bool {
		by.pass(time.Minute)
		found := f.findings("rights-change")
		return len(found) == 1 && found[0].System == "bookings1"
	}, 60*time.Second, 20*time.Millisecond)
	host.SetFault(unixhost.Fault{})
	require.Eventually(t, func() bool {
		by.pass(time.Minute)
		v, err := f.Amendments.View(ctx, v.ID)
		return err == nil && v.Result == rotation.FinishedUndone
	}, 60*time.Second, 20*time.Millisecond)
	assert.False(t, host.InGroup("svc-fuelcard", "cardreaders"))
	assert.False(t, host.InGroup("svc-fuelcard", "gauges"))
	require.Eventually(t, func() bool { return len(f.findings("rights-change")) == 0 }, 10*time.Second, 10*time.Millisecond)
}
