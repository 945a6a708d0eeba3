package assembly_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store/database"
)

// amended waits for the end of an amendment.
func (f *ferry) amended(id records.AmendmentID) (v records.AmendmentView) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		var err error
		v, err = f.Amendments.View(f.t.Context(), id)
		require.NoError(f.t, err)
		return v.Mode == "finished" || v.Mode == "stopped"
	}, 20*time.Second, 10*time.Millisecond)
	return v
}

// approved has a second person approve what was asked for last.
func (f *ferry) approved(by access.Actor, err error) error {
	f.t.Helper()
	var waits *amend.WaitsError
	require.ErrorAs(f.t, err, &waits)
	request, err := f.Store.Approval(f.t.Context(), waits.Approval)
	require.NoError(f.t, err)
	_, err = f.Approvals.Approve(f.t.Context(), by, request.ID, request.Digest, "I looked")
	return err
}

// What was lost is given back, and what is forbidden taken: rehearsed, approved by somebody
// else, proven, read again, and undone.
func TestAmendments(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	f.estate.Reorganise()
	f.estate.Hosts["bookings1"].SetGroups("svc-fuelcard", "deck")
	text := larkmoor.Charters["fuelcard-reader.yaml"] + "groups: [{name: gauges}]\n"
	_, err := f.Charters.Save(ctx, ines, "fuelcard-reader", text, 0)
	require.NoError(t, err)
	f.label("fuelcard-reader", "bookings1/svc-fuelcard")
	f.survey("bookings1")
	_, err = f.Charters.Check(ctx, ines, "fuelcard-reader")
	require.NoError(t, err)
	assert.Contains(t, f.lines("fuelcard-reader"), "bookings1/svc-fuelcard missing: member of cardreaders")

	_, err = f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "no-such"})
	require.ErrorIs(t, err, app.ErrNotFound)
	_, err = f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "fuelcard-reader", Lines: []records.CharterLineID{987654}})
	require.ErrorIs(t, err, app.ErrInput)
	_, err = f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "fuelcard-reader", OnFailure: "pray"})
	require.ErrorIs(t, err, app.ErrInput)
	_, err = f.Amendments.Rehearse(ctx, access.Actor{Name: "x", Roles: []string{access.RoleViewer, access.RoleAuditor, access.RoleApprover}}, amend.Wish{Charter: "fuelcard-reader"})
	require.ErrorIs(t, err, access.ErrDenied)

	v, err := f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "fuelcard-reader", States: []charter.State{charter.StateMissing, charter.StateExcess}})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	assert.Equal(t, 2, v.Changes)
	var titles []string
	for _, s := range v.Plan.Steps {
		titles = append(titles, s.Title())
	}
	assert.Equal(t, []string{
		"give svc-fuelcard on bookings1 the membership of cardreaders", "prove that svc-fuelcard on bookings1 has the membership of cardreaders",
		"take from svc-fuelcard on bookings1 the membership of deck", "prove that svc-fuelcard on bookings1 has no longer the membership of deck",
	}, titles)
	assert.NotEmpty(t, v.LeftOut, "a group that is to exist is left to a person")
	assert.False(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "cardreaders"), "nothing is changed by a rehearsal")

	_, err = f.Amendments.Start(ctx, ines, v.ID, " ")
	require.ErrorIs(t, err, app.ErrInput)
	require.ErrorIs(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "x"), app.ErrRefused, "what was not started is not undone")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "the reorganisation")
	require.Error(t, f.approved(ines, err), "whoever asks does not approve")
	assert.False(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "cardreaders"))
	require.NoError(t, f.approved(ola, err))
	done := f.amended(v.ID)
	require.Equal(t, rotation.FinishedDone, done.Result, "%+v", done.Steps)
	assert.Contains(t, done.Consent, "approved by ola")
	assert.True(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "cardreaders"))
	assert.False(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "deck"))
	assert.True(t, f.estate.Hosts["bookings1"].Restart("fuelcard.service"), "what depends on it starts")
	require.Eventually(t, func() bool { return len(f.findings("charter-missing")) <= 1 && len(f.lines("fuelcard-reader")) <= 1 }, 20*time.Second, 20*time.Millisecond, "it is read again by itself")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "once more")
	require.ErrorIs(t, err, app.ErrRefused)

	// Undoing it later takes two people again, and a reason.
	require.ErrorIs(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, ""), app.ErrInput)
	require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "it was wrong")))
	require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.False(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "cardreaders"))
	assert.True(t, f.estate.Hosts["bookings1"].InGroup("svc-fuelcard", "deck"))
	entries, err := f.Store.EntriesFrom(ctx, 0, 10_000)
	require.NoError(t, err)
	seen := map[string]int{}
	for _, e := range entries {
		seen[e.Act+" "+string(e.Phase)]++
	}
	for _, act := range []string{"amendment.rehearse outcome", "amendment.start intent", "amendment.give intent", "amendment.give outcome", "amendment.take outcome", "amendment.confirm outcome", "amendment.give.undo outcome", "amendment.take.undo outcome", "amendment.finished outcome"} {
		assert.Positive(t, seen[act], act)
	}
}

// What was approved is what happens: a thing that stands otherwise when it is approved is
// asked for again; what fails is undone, and told where it is not.
func TestAmendmentsThatFail(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	host := f.estate.Hosts["bookings1"]
	_, err := f.Charters.Save(ctx, ines, "two", "charter: two\nlabel: two\nmust: [{member_of: cardreaders}, {member_of: gauges}, {run: /usr/bin/systemctl restart tide.service}]\n", 0)
	require.NoError(t, err)
	host.SetGroups("svc-fuelcard")
	f.label("two", "bookings1/svc-fuelcard")
	f.survey("bookings1")
	_, err = f.Charters.Check(ctx, ines, "two")
	require.NoError(t, err)
	rehearse := func(policy rotation.OnFailure) records.Amendment {
		v, err := f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "two", OnFailure: policy})
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
		require.Equal(t, 3, v.Changes)
		return v
	}
	v := rehearse(rotation.UndoOnFailure)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	host.SetGroups("svc-fuelcard", "cardreaders")
	require.ErrorContains(t, f.approved(ola, err), "is not what was approved")
	host.SetGroups("svc-fuelcard")

	refuse := "/usr/sbin/visudo"
	host.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		for _, word := range argv {
			if word == refuse {
				return 1, "visudo: it does not please", true
			}
		}
		return 0, "", false
	}})
	v = rehearse(rotation.UndoOnFailure)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	require.NoError(t, f.approved(ola, err))
	undone := f.amended(v.ID)
	assert.Equal(t, rotation.FinishedUndone, undone.Result)
	assert.False(t, host.InGroup("svc-fuelcard", "cardreaders"))
	assert.False(t, host.InGroup("svc-fuelcard", "gauges"))
	assert.Empty(t, f.findings("rights-change"))

	v = rehearse(rotation.StopOnFailure)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	require.NoError(t, f.approved(ola, err))
	stopped := f.amended(v.ID)
	assert.Equal(t, "stopped", stopped.Mode)
	// The finding is written once the journal is.
	require.Eventually(t, func() bool { return len(f.findings("rights-change")) == 1 }, 20*time.Second, 10*time.Millisecond)
	found := f.findings("rights-change")
	assert.Contains(t, found[0].What, "it does not please")
	other, err := f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "two"})
	require.NoError(t, err)
	_, err = f.Amendments.Start(ctx, ines, other.ID, "test")
	require.ErrorContains(t, f.approved(ola, err), "is not over", "one at a time")
	refuse = "nothing"
	require.NoError(t, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideResume, ""))
	require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedDone }, 20*time.Second, 10*time.Millisecond)
	assert.True(t, host.InGroup("svc-fuelcard", "cardreaders"))
	require.Eventually(t, func() bool { return len(f.findings("rights-change")) == 0 }, 5*time.Second, 10*time.Millisecond)

	// A charter whose things only a person can do says so.
	_, err = f.Charters.Save(ctx, ines, "none", "charter: none\nlabel: two\nnever: [{do: sign in}]\n", 0)
	require.NoError(t, err)
	_, err = f.Charters.Check(ctx, ines, "none")
	require.NoError(t, err)
	_, err = f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "none"})
	require.Error(t, err)
	assert.True(t, errors.Is(err, app.ErrRefused) || errors.Is(err, app.ErrInput), "%v", err)
}

// A plan that is altered in the database between asking and approving is not carried out; and
// what is taken from the account by which the service signs in there is refused.
func TestAmendmentsThatAreAltered(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	host := f.estate.Hosts["bookings1"]
	host.SetGroups("svc-fuelcard")
	_, err := f.Charters.Save(ctx, ines, "two", "charter: two\nlabel: two\nmust: [{member_of: cardreaders}]\nnever: [{member_of: deck}]\n", 0)
	require.NoError(t, err)
	f.label("two", "bookings1/svc-fuelcard", "bookings1/"+larkmoor.Manager)
	host.SetGroups(larkmoor.Manager, "deck")
	f.survey("bookings1")
	_, err = f.Charters.Check(ctx, ines, "two")
	require.NoError(t, err)
	v, err := f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "two"})
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict, "%+v", v.Checks)
	assert.Contains(t, v.Checks[len(v.Checks)-1].Words, "could lock us out")
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	require.ErrorIs(t, err, app.ErrRefused)

	v, err = f.Amendments.Rehearse(ctx, ines, amend.Wish{Charter: "two", Account: f.account("bookings1/svc-fuelcard").ID})
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "test")
	_, second := f.Amendments.Start(ctx, ines, v.ID, "test")
	assert.Equal(t, err, second, "asked once")
	db, opened := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(t, opened)
	_, tampered := db.ExecContext(ctx, "UPDATE amendments SET plan = replace(plan, 'cardreaders', 'sudo')")
	require.NoError(t, errors.Join(tampered, db.Close()))
	require.ErrorContains(t, f.approved(ola, err), "is not what was approved")
	assert.False(t, host.InGroup("svc-fuelcard", "cardreaders"))
	assert.False(t, host.InGroup("svc-fuelcard", "sudo"))
}
