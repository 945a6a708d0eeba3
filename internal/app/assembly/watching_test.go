package assembly_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/cloud"
)

// What nobody needs is disabled, watched, and deleted by itself when its time is over, also
// where the service was down meanwhile; until then undoing lets it in again.
func TestDisabledWatchedDeleted(t *testing.T) {
	by := &clock{}
	f := withFeedsBy(t, by)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	begin := func(name string) records.AmendmentID {
		v, err := f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{{Account: f.account("feeds/" + name).ID, Act: expiry.Delete, Watch: time.Hour}}, "")
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
		warned := false
		for _, c := range v.Checks {
			warned = warned || c.Result == connect.CheckWarning && strings.HasPrefix(c.What, "watch for ") && strings.HasSuffix(c.What, "whether anything asks for the account "+name+" on feeds")
		}
		assert.True(t, warned, "no record of sign-ins is read there: %+v", v.Checks)
		_, err = f.Amendments.Start(ctx, ines, v.ID, "a trial of last spring")
		require.NoError(t, f.approved(ola, err), "it cannot be undone in the end: two people")
		require.Eventually(t, func() bool {
			view, err := f.Amendments.View(ctx, v.ID)
			return err == nil && !view.Watches.IsZero()
		}, 20*time.Second, 10*time.Millisecond)
		return v.ID
	}
	there := func(id string) (disabled bool) {
		f.estate.Feeds.Change(id, func(v *cloud.Identity) {
			require.NotNil(t, v, id)
			disabled = v.Disabled
		})
		return disabled
	}
	back := begin("timetable")
	assert.True(t, there("114002"))
	view, err := f.Amendments.View(ctx, back)
	require.NoError(t, err)
	assert.Contains(t, view.Decisions, rotation.DecideUndo)
	require.NoError(t, f.Amendments.Decide(ctx, ines, back, rotation.DecideUndo, "it is needed"), "while it goes on one person is enough")
	require.Eventually(t, func() bool { return f.amended(back).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.False(t, there("114002"))

	id := begin("fares-trial")
	assert.True(t, there("114004"))
	f.survey("feeds")
	f.Stop()
	require.NoError(t, f.Store.Close())
	by.pass(2 * time.Hour)
	f.reopenBy(by)
	done := f.amended(id)
	assert.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	assert.Empty(t, f.estate.Feeds.Keys("114004"))
	require.ErrorIs(t, f.Amendments.Decide(ctx, ines, id, rotation.DecideUndo, "too late"), app.ErrRefused)
	f.estate.Feeds.Change("114004", func(v *cloud.Identity) { assert.Nil(t, v) })
}
