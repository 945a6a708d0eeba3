package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
)

// What takes access away takes one person, says who stops and in which words, does it, and is
// undone by one; what lets somebody in, or cannot be undone, takes two.
func TestEnds(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	a := f.take("svc-berth")
	quay := f.estate.Hosts["quay1"]
	require.True(t, quay.Restart("berth.service"))
	rehearse := func(w amend.EndWish) (records.Amendment, error) {
		return f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{w}, "")
	}
	for what, w := range map[string]amend.EndWish{
		"nothing":          {Account: a.ID, Act: "pray"},
		"no such thing":    {Account: a.ID, Act: expiry.Expire, Of: expiry.Certificate},
		"no end":           {Account: a.ID, Act: expiry.SetEnd},
		"an end that was":  {Account: a.ID, Act: expiry.SetEnd, End: expiry.At(time.Now().Add(-time.Hour))},
		"longer than ever": {Account: a.ID, Act: expiry.Extend, By: time.Hour},
	} {
		_, err := rehearse(w)
		require.ErrorIs(t, err, app.ErrInput, what)
	}
	_, err := rehearse(amend.EndWish{Account: 987654, Act: expiry.Expire})
	require.ErrorIs(t, err, app.ErrNotFound)
	_, err = f.Amendments.RehearseEnds(ctx, access.Actor{Name: "x", Roles: []string{access.RoleViewer, access.RoleAuditor, access.RoleApprover}}, []amend.EndWish{{Account: a.ID, Act: expiry.Expire}}, "")
	require.ErrorIs(t, err, access.ErrDenied)
	_, err = f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{{Account: a.ID, Act: expiry.Expire}, {Account: a.ID, Act: expiry.Disable}}, "")
	require.ErrorIs(t, err, app.ErrInput, "one thing at a time")

	v, err := rehearse(amend.EndWish{Account: a.ID, Act: expiry.Expire})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	stops := 0
	for _, c := range v.Checks {
		if c.Result == connect.CheckWarning && c.About != "" {
			stops++
			assert.Contains(t, c.Words, "data 701")
		}
	}
	assert.Equal(t, 4, stops, "%+v", v.Checks)
	assert.True(t, quay.Restart("berth.service"), "nothing is changed by a rehearsal")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "it stood in a ticket")
	require.NoError(t, err, "nobody has to wait for a second person with it")
	done := f.amended(v.ID)
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	assert.False(t, quay.Restart("berth.service"), "as it was foretold")
	require.Eventually(t, func() bool { return f.account("dir/svc-berth").AccountExpires.Before(time.Now()) }, 20*time.Second, 20*time.Millisecond, "it is read again by itself")
	require.Eventually(t, func() bool { return len(f.findings("account-expired")) == 1 }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "it was the wrong one"))
	require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.True(t, quay.Restart("berth.service"), "undone")

	// The answer is lost: what became of it is found out, and it is not done twice.
	v, err = rehearse(amend.EndWish{Account: a.ID, Act: expiry.Disable})
	require.NoError(t, err)
	f.estate.Directory.SetFault(directory.Fault{LoseAnswer: true})
	_, err = f.Amendments.Start(ctx, ines, v.ID, "the answer is lost")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := f.Amendments.View(ctx, v.ID)
		return err == nil && v.Steps[0].Status == string(rotation.Done)
	}, 30*time.Second, 20*time.Millisecond)
	f.estate.Directory.SetFault(directory.Fault{})
	require.Equal(t, rotation.FinishedDone, f.amended(v.ID).Result)
	assert.False(t, quay.Restart("berth.service"))

	// What lets in again takes two, and so does what is for good.
	f.Amendments.Settled(ctx)
	v, err = rehearse(amend.EndWish{Account: a.ID, Act: expiry.Enable})
	require.NoError(t, err)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "it is needed")
	require.Error(t, f.approved(ines, err), "whoever asks does not approve")
	assert.False(t, quay.Restart("berth.service"))
	require.NoError(t, f.approved(ola, err))
	require.Equal(t, rotation.FinishedDone, f.amended(v.ID).Result)
	assert.True(t, quay.Restart("berth.service"))

	f.Amendments.Settled(ctx)
	manager, err := f.Store.Account(ctx, f.account("dir/mossmgr").ID)
	require.NoError(t, err)
	v, err = rehearse(amend.EndWish{Account: manager.ID, Act: expiry.Disable})
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
	assert.Contains(t, v.Checks[0].Words, "locked out")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "x")
	require.ErrorIs(t, err, app.ErrRefused)

	fuel := f.account("dir/svc-fuelcard")
	v, err = rehearse(amend.EndWish{Account: fuel.ID, Act: expiry.Delete})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "nobody uses it")
	require.NoError(t, f.approved(ola, err))
	require.Equal(t, rotation.FinishedDone, f.amended(v.ID).Result)
	require.ErrorContains(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "oh"), "cannot be undone")
	require.Eventually(t, func() bool {
		gone, err := f.Store.Account(ctx, fuel.ID)
		return err == nil && !gone.Gone.IsZero()
	}, 30*time.Second, 20*time.Millisecond)
	page, err := f.Store.Ends(ctx, "", records.Query{Filters: []string{"name=svc-fuelcard", "system=dir"}})
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}

// What ends comes nearer with time alone: the duty that judges anew tells it, though no survey
// sees anything.
func TestEndsComeNearer(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.account("dir/svc-berth")
	v, err := f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{{Account: a.ID, Act: expiry.SetEnd, Of: expiry.Account, End: expiry.At(time.Now().AddDate(0, 0, 40))}}, "")
	require.NoError(t, err)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "the terminal closes")
	require.NoError(t, err)
	done := f.amended(v.ID)
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	f.survey("dir")
	soon := func() (n int) {
		for _, found := range f.findings("ends-soon") {
			if found.AccountID == a.ID {
				n++
			}
		}
		return n
	}
	assert.Zero(t, soon(), "it is 40 days away")
	f.Stop()
	require.NoError(t, f.Store.Close())
	f.reopenBy(by) // from here on its duties are counted
	require.Eventually(t, func() bool {
		list, err := f.Schedule.List(ctx)
		return err == nil && len(list) > 0 && !list[2].Due.IsZero()
	}, 20*time.Second, 20*time.Millisecond)
	by.pass(15 * 24 * time.Hour)
	f.Stop()
	require.NoError(t, f.Store.Close())
	f.reopenBy(by)
	require.Eventually(t, func() bool { return soon() == 1 }, 20*time.Second, 20*time.Millisecond)
	list, err := f.Schedule.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, "judge", list[2].Name)
}
