package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// required has a second person needed for the account's label, and two people who could.
func (f *ferry) required(a records.Account) {
	f.t.Helper()
	ctx := f.t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	require.NoError(f.t, f.Store.PutLabel(ctx, records.HandLabel{AccountID: a.ID, Label: "quay", SetBy: "ines"}))
	waits, err := f.Policies.SaveRequirement(ctx, ines, records.Requirement{Name: "quay", Label: "quay"}, "")
	require.NoError(f.t, err)
	require.Zero(f.t, waits, "what makes things stricter is kept at once")
}

// asks rehearses and starts, which is to wait for a second person.
func (f *ferry) asks(by access.Actor, a records.Account) records.Approval {
	f.t.Helper()
	v, err := f.Rotations.Rehearse(f.t.Context(), by, cred(f, a), undo)
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict)
	_, err = f.Rotations.Start(f.t.Context(), by, cred(f, a), undo, "leaked", "")
	var waits *rotate.WaitsError
	require.ErrorAs(f.t, err, &waits)
	require.ErrorIs(f.t, err, app.ErrRefused)
	require.ErrorContains(f.t, err, "quay (label quay)")
	asked, err := f.Store.Approval(f.t.Context(), waits.Approval)
	require.NoError(f.t, err)
	return asked
}

func (f *ferry) rotations() int {
	f.t.Helper()
	page, err := f.Store.Rotations(f.t.Context(), records.Query{})
	require.NoError(f.t, err)
	return page.Total
}

// What one asks for, another approves, and that is what runs; nobody approves their own.
func TestASecondPersonByLabel(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a, other := f.take("svc-manifest"), f.take("svc-tidefeed")
	f.required(a)
	asked := f.asks(ines, a)
	again := f.asks(ines, a)
	assert.Equal(t, asked.ID, again.ID, "asked once for the same")
	assert.WithinDuration(t, asked.Asked.Add(24*time.Hour), asked.Expires, time.Minute)
	require.Zero(t, f.rotations())

	_, err := f.Approvals.Approve(ctx, ines, asked.ID, asked.Digest, "I am sure")
	require.ErrorIs(t, err, app.ErrRefused, "who asks cannot approve")
	_, err = f.Approvals.Approve(ctx, access.Actor{Name: "INES", Roles: access.Roles()}, asked.ID, asked.Digest, "")
	require.ErrorIs(t, err, app.ErrRefused, "in another spelling neither")
	_, err = f.Approvals.Approve(ctx, access.Actor{Name: "ben", Roles: []string{"operator"}}, asked.ID, asked.Digest, "")
	require.Error(t, err)
	require.Zero(t, f.rotations())
	done, err := f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "go on")
	require.NoError(t, err)
	assert.Contains(t, done.Words, "started as rotation 1")
	r := f.ended(1)
	assert.Equal(t, "done", r.Result)
	assert.Equal(t, "ines", r.RequestedBy)
	page, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=rotation.start", "ref=rotation/1"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Contains(t, page.Items[0].Detail, "approved by ola, approval 1")
	_, err = f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "")
	require.ErrorIs(t, err, app.ErrRefused, "once")

	// Another account needs nobody.
	assert.Equal(t, "done", f.rotate(other, rotation.UndoOnFailure).Result)
	// An approval for one is none for the next.
	asked = f.asks(ines, a)
	assert.NotEqual(t, done.ID, asked.ID)
}

// told are the events of a name that the ledger makes, with how grave they are.
func (f *ferry) told(name string) (out []notice.Severity) {
	f.t.Helper()
	entries, err := f.Store.EntriesFrom(f.t.Context(), 0, 10_000)
	require.NoError(f.t, err)
	for _, entry := range entries {
		if e, is := notice.OfEntry(entry); is && e.Event == name {
			out = append(out, e.Severity)
		}
	}
	return out
}

// What people are told of a rotation is in the ledger as it really writes it: that it began,
// that it ended, that it was begun past a rehearsal or in an emergency.
func TestWhatIsToldOfRotations(t *testing.T) {
	f := start(t)
	a := f.take("svc-manifest")
	require.Equal(t, "done", f.rotate(a, rotation.UndoOnFailure).Result)
	assert.Equal(t, []notice.Severity{notice.Notice}, f.told("rotation.started"))
	assert.Equal(t, []notice.Severity{notice.Notice}, f.told("rotation.finished"))
	id, _, err := f.Rotations.Override(t.Context(), ines, cred(f, a), undo, "leaked", "the host is down for the night")
	require.NoError(t, err)
	require.Equal(t, "done", f.ended(id).Result)
	assert.Equal(t, []notice.Severity{notice.Warning}, f.told("rotation.override"))
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	id, err = f.Rotations.StartInEmergency(t.Context(), ines, cred(f, a), undo, "leaked", "on a public page")
	require.NoError(t, err)
	require.Equal(t, "done", f.ended(id).Result)
	assert.Equal(t, []notice.Severity{notice.Critical}, f.told("rotation.emergency"))
	assert.Len(t, f.told("rotation.started"), 3)
}

// What was approved is what runs, or nothing does.
func TestApprovedIsWhatRuns(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.required(a)
	asked := f.asks(ines, a)
	// A dependent comes in between.
	require.NoError(t, f.Store.PutLabel(ctx, records.HandLabel{AccountID: a.ID, Label: "boats", SetBy: "ines"}))
	_, err := f.Policies.SaveOrder(ctx, ines, records.Order{Name: "boats", Kind: "group", AtOnce: 1, Members: []records.OrderMember{{Label: "boats"}}})
	require.NoError(t, err)
	_, err = f.Policies.SaveRequirement(ctx, ines, records.Requirement{Name: "boats", Label: "boats"}, "")
	require.NoError(t, err)
	_, err = f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "go on")
	require.ErrorContains(t, err, "is not what was approved")
	require.Zero(t, f.rotations())
	v, err := f.Store.Approval(ctx, asked.ID)
	require.NoError(t, err)
	assert.Contains(t, v.Words, "did not work")

	// Another wish is another request.
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	asked = f.asks(ines, a)
	wish := undo
	wish.OnFailure = rotation.StopOnFailure
	_, err = f.Rotations.Rehearse(ctx, ines, cred(f, a), wish)
	require.NoError(t, err)
	_, err = f.Rotations.Start(ctx, ines, cred(f, a), wish, "leaked", "")
	var waits *rotate.WaitsError
	require.ErrorAs(t, err, &waits)
	assert.NotEqual(t, asked.ID, waits.Approval)
	v, err = f.Store.Approval(ctx, asked.ID)
	require.NoError(t, err)
	assert.Equal(t, records.ApprovalSuperseded, v.State)
}

func TestRequestsExpire(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.required(a)
	asked := f.asks(ines, a)
	by.pass(25 * time.Hour)
	_, err := f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "late")
	require.ErrorIs(t, err, app.ErrRefused)
	_, err = f.Approvals.Expire(ctx)
	require.NoError(t, err)
	v, err := f.Store.Approval(ctx, asked.ID)
	require.NoError(t, err)
	assert.Equal(t, records.ApprovalExpired, v.State)
	require.Zero(t, f.rotations())
}

// In an emergency one person is enough; everybody is told.
func TestAnEmergency(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.required(a)
	asked := f.asks(ines, a)
	_, err := f.Rotations.StartInEmergency(ctx, ines, cred(f, a), undo, "leaked", "  ")
	require.ErrorIs(t, err, app.ErrInput)
	_, err = f.Rotations.StartInEmergency(ctx, access.Actor{Name: "vera", Roles: []string{"viewer", "approver"}}, cred(f, a), undo, "leaked", "it is on a public page")
	require.Error(t, err)
	id, err := f.Rotations.StartInEmergency(ctx, ines, cred(f, a), undo, "leaked", "it is on a public page")
	require.NoError(t, err)
	r := f.ended(id)
	assert.Equal(t, "done", r.Result)
	assert.Empty(t, r.Override)
	assert.Contains(t, r.Consent, "in an emergency, without a second person: it is on a public page")
	page, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=rotation.emergency"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "it is on a public page", page.Items[0].Reason)
	_, err = f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "too late")
	require.ErrorIs(t, err, app.ErrRefused, "what was begun is not begun once more")
	assert.Equal(t, 1, f.rotations())
}

// Whoever lifts what needs two people needs two people.
func TestLiftingARequirementTakesTwo(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.required(a)
	was, err := f.Store.Requirement(ctx, "quay")
	require.NoError(t, err)
	require.ErrorContains(t, f.Custody.Reset(ctx, ines, "leaked", cred(f, a)), "a reset would go round that")
	require.ErrorContains(t, f.Custody.Release(ctx, ines, "not ours", cred(f, a)), "a release would go round that")
	require.True(t, cred(f, a).InCustody())
	waits, err := f.Policies.RemoveRequirement(ctx, ines, "quay", was.Revision, "in the way")
	require.NoError(t, err)
	require.NotZero(t, waits)
	f.asks(ines, a)
	v, err := f.Store.Approval(ctx, waits)
	require.NoError(t, err)
	_, err = f.Approvals.Approve(ctx, ines, waits, v.Digest, "")
	require.ErrorIs(t, err, app.ErrRefused)
	_, err = f.Approvals.Approve(ctx, ola, waits, v.Digest, "")
	require.NoError(t, err)
	_, err = f.Store.Requirement(ctx, "quay")
	require.ErrorIs(t, err, records.ErrNotFound)
	assert.Equal(t, "done", f.rotate(a, rotation.UndoOnFailure).Result)

	// Alone, one changes it; that it was so is written when it is used.
	user, err := f.Store.User(ctx, "ola")
	require.NoError(t, err)
	user.Disabled = true
	require.NoError(t, f.Store.ChangeUser(ctx, user, true, ledger.Entry{Actor: "ines", Act: "user.change", Phase: ledger.Outcome}))
	_, err = f.Policies.SaveRequirement(ctx, ines, records.Requirement{Name: "quay", Label: "quay"}, "")
	require.NoError(t, err)
	f.rotate(a, rotation.UndoOnFailure)
	page, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=rotation.start", "detail~nobody else could approve"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 1)
}

// By itself, the service asks once, and what is granted begins without being asked again.
func TestTheServiceAsksToo(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.take("svc-berth")
	f.required(a)
	f.openFor(by)
	_, err := f.Unattended.Look(ctx)
	require.NoError(t, err)
	by.pass(3 * time.Minute)
	var asked records.Approval
	require.Eventually(t, func() bool {
		_, err := f.Unattended.Look(ctx)
		require.NoError(t, err)
		page, err := f.Store.Approvals(ctx, records.Query{})
		require.NoError(t, err)
		if len(page.Items) == 1 {
			asked = page.Items[0]
		}
		return len(page.Items) == 1
	}, time.Minute, 20*time.Millisecond)
	assert.Equal(t, "service", asked.AskedBy)
	for range 3 {
		by.pass(31 * time.Minute)
		_, err = f.Unattended.Look(ctx)
		require.NoError(t, err)
	}
	page, err := f.Store.Approvals(ctx, records.Query{})
	require.NoError(t, err)
	assert.Len(t, page.Items, 1, "once")
	assert.Contains(t, f.turnOf(a).Words, "approval 1 was asked for")
	assert.Empty(t, f.findings("not-rotated"), "that is no failure")
	require.Zero(t, f.rotations())
	_, err = f.Approvals.Approve(ctx, ines, asked.ID, asked.Digest, "")
	require.NoError(t, err)
	assert.Equal(t, "done", f.ended(1).Result)
}
