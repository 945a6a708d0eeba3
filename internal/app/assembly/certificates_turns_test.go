package assembly_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/acme"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// renewalOf is the turn of a certificate, or nothing.
func (f *ferry) renewalOf(k records.Credential) *records.Turn {
	f.t.Helper()
	_, err := f.Unattended.Look(f.t.Context())
	require.NoError(f.t, err)
	page, err := f.Store.Turns(f.t.Context(), records.Query{Filters: []string{fmt.Sprintf("credential_id=%d", k.ID)}, Limit: 10})
	require.NoError(f.t, err)
	if len(page.Items) == 0 {
		return nil
	}
	return &page.Items[0]
}

// A certificate in custody is renewed by itself so many days before its end, by a policy that is
// for certificates and for no account; one that cannot be is a finding, tried again in the next
// opening, and nothing of it is changed.
func TestCertificatesHaveTurns(t *testing.T) {
	by := &clock{}
	f := withCertifierBy(t, by)
	ctx := t.Context()
	k := f.takenCertificate()
	first := f.siteShows()
	assert.Nil(t, f.renewalOf(k), "no policy is for it")
	_, err := f.Policies.Save(ctx, ines, records.Policy{Name: "accounts", Precedence: 9, PolicySettings: records.PolicySettings{EveryDays: 1}})
	require.NoError(t, err)
	assert.Nil(t, f.renewalOf(k), "one for all accounts is for no certificate")
	for _, wrong := range []records.Policy{
		{Label: "nightly", PolicySettings: records.PolicySettings{RenewDays: 10}},
		{PolicySettings: records.PolicySettings{RenewDays: 10, EveryDays: 30}},
		{PolicySettings: records.PolicySettings{RenewDays: 10, Rule: "FREQ=DAILY", Begins: "2026-11-01T00:00", Zone: "UTC"}},
		{PolicySettings: records.PolicySettings{RenewDays: 10, Length: 20}},
		{PolicySettings: records.PolicySettings{RenewDays: -1}},
		{PolicySettings: records.PolicySettings{RenewDays: 4000}},
	} {
		wrong.Name, wrong.Precedence = "certificates", 10
		_, err = f.Policies.Save(ctx, ines, wrong)
		require.Error(t, err, "%+v", wrong)
	}
	draft := records.Policy{Name: "certificates", Precedence: 10, PolicySettings: records.PolicySettings{RenewDays: 10}}
	preview, err := f.Policies.Preview(ctx, ines, draft, false)
	require.NoError(t, err)
	assert.Equal(t, []any{1, 1, 0, 0, "10 days before its end"}, []any{preview.Decides, preview.Gains, preview.Loses, preview.Openings, preview.OftenSaid})
	require.Len(t, preview.Rows, 1)
	assert.Equal(t, []string{larkmoor.SiteName, "bookings1"}, []string{preview.Rows[0].Credential, preview.Rows[0].System})
	_, err = f.Policies.Save(ctx, ines, draft)
	require.NoError(t, err)
	turn := f.renewalOf(k)
	require.NotNil(t, turn)
	assert.Equal(t, []string{"planned", "certificates", "bookings1"}, []string{turn.State, turn.Policy, turn.System})
	assert.True(t, !turn.Next.After(first.NotAfter.AddDate(0, 0, -10)) && turn.NextEnds.After(first.NotAfter.AddDate(0, 0, -10)), "%s: %s", first.NotAfter, turn.Next)
	nights, err := f.Policies.Nights(ctx, time.Now(), time.Now().AddDate(0, 1, 0))
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(fmt.Sprintf("%+v", nights), larkmoor.SiteName))

	// Its time has come, and the authority issues what cannot take its place: all stays.
	f.estate.Certifier.SetFault(acme.Fault{Other: "tide.larkmoor.example"})
	by.pass(first.NotAfter.AddDate(0, 0, -10).Sub(by.now()) + 25*time.Hour)
	f.survey("ca", "bookings1")
	turn = f.renewalOf(k)
	require.NotNil(t, turn)
	require.NotZero(t, turn.RotationID, turn.Words)
	assert.Equal(t, rotation.FinishedUndone, f.ended(turn.RotationID).Result)
	f.quiet()
	assert.Equal(t, first.SerialNumber, f.siteShows().SerialNumber)
	turn = f.renewalOf(k)
	assert.Equal(t, "failed", turn.State, turn.Words)
	assert.False(t, turn.Due.IsZero())
	list := f.findings("not-rotated")
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Next, fmt.Sprintf("'moss rotate rehearse credential:%d'", k.ID), "a name that a stranger wrote is in no command")

	// The next day it is tried again.
	f.estate.Certifier.SetFault(acme.Fault{})
	by.pass(25 * time.Hour)
	f.survey("ca", "bookings1")
	turn = f.renewalOf(k)
	require.NotNil(t, turn)
	r := f.ended(turn.RotationID)
	require.Equal(t, rotation.FinishedDone, r.Result, f.words(r.ID))
	assert.Contains(t, r.Reason, "policy certificates: its turn of ")
	f.quiet()
	second := f.siteShows()
	assert.NotEqual(t, first.SerialNumber, second.SerialNumber)
	turn = f.renewalOf(k) // before any survey
	require.NotNil(t, turn)
	assert.Equal(t, "planned", turn.State, turn.Words)
	f.survey("ca", "bookings1")
	turn = f.renewalOf(k)
	require.NotNil(t, turn, "and it has a turn before its next end")
	assert.Equal(t, "planned", turn.State, turn.Words)
	assert.WithinDuration(t, second.NotAfter.AddDate(0, 0, -10), turn.Next, 25*time.Hour)
	assert.Empty(t, f.findings("not-rotated"))
}

// A certificate is renewed in the window of its policy although its host has another one: the old
// one is good until then, and the site reads the new one when that opens. What stays up is no
// restart for which a second person is asked.
func TestCertificateInAnotherWindow(t *testing.T) {
	by := &clock{}
	f := withCertifierBy(t, by)
	ctx := t.Context()
	k := f.takenCertificate()
	first := f.siteShows()
	opens := func(in time.Duration) string { return by.now().UTC().Add(in).Format("2006-01-02T15:04") }
	for _, w := range []records.Window{{Name: "nights", Begins: opens(2 * time.Minute)}, {Name: "noons", Begins: opens(10 * time.Hour), Systems: []string{"bookings1"}}} {
		w.Rule, w.Zone, w.Minutes = "FREQ=DAILY", "UTC", 120
		_, err := f.Policies.SaveWindow(ctx, ines, w)
		require.NoError(t, err)
	}
	_, err := f.Policies.SaveRequirement(ctx, ines, records.Requirement{Name: "restarts", Restarts: 1}, "")
	require.NoError(t, err)
	_, err = f.Policies.Save(ctx, ines, records.Policy{Name: "certificates", Precedence: 10, Window: "nights", PolicySettings: records.PolicySettings{RenewDays: 30}})
	require.NoError(t, err)
	assert.Zero(t, f.renewalOf(k).RotationID, "its window is not open")
	by.pass(3 * time.Minute)
	var id records.RotationID
	require.Eventually(t, func() bool { id = f.renewalOf(k).RotationID; return id != 0 }, time.Minute, 50*time.Millisecond)
	_, state, _, err := f.Rotations.State(ctx, id)
	require.NoError(t, err)
	assert.NotContains(t, notes(state.Plan), "cannot sign in anew")
	require.Eventually(t, func() bool {
		_, state, _, err = f.Rotations.State(ctx, id)
		require.NoError(t, err)
		window, _ := state.WaitsFor(by.now())
		return window == "noons"
	}, time.Minute, 50*time.Millisecond)
	assert.Equal(t, first.SerialNumber, f.siteShows().SerialNumber, "it reads its files in its own window")
	f.Stop()
	require.NoError(t, f.Store.Close())
	by.pass(10 * time.Hour)
	f.reopenBy(by)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result, f.words(id))
	assert.NotEqual(t, first.SerialNumber, f.siteShows().SerialNumber)
	page, err := f.Store.Approvals(ctx, records.Query{})
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}
