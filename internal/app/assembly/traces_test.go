package assembly_test

import (
	"crypto/sha256"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// operations are those of a trace, in the order in which they were sent.
func (f *ferry) operations(id records.TraceID, filters ...string) []records.TracedOperation {
	f.t.Helper()
	f.Traces.Flush(f.t.Context())
	page, err := f.Store.Operations(f.t.Context(), id, records.Query{Filters: filters, Sort: "id", Limit: 1000})
	require.NoError(f.t, err)
	return page.Items
}

// What the service sends is seen while somebody wants to, byte for byte and without secrets;
// it ends by itself, also where the service was ended meanwhile.
func TestTraces(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	require.NoError(t, f.Start(ctx))
	_, err := f.Traces.Start(ctx, ines, "bookings1", "", 0, "audit")
	require.ErrorIs(t, err, app.ErrInput, "an end cannot be left out")
	_, err = f.Traces.Start(ctx, ines, "bookings1", "", 25*time.Hour, "audit")
	require.ErrorIs(t, err, app.ErrInput)
	_, err = f.Traces.Start(ctx, access.Actor{Name: "x", Roles: []string{access.RoleViewer}}, "bookings1", "", time.Hour, "audit")
	require.ErrorIs(t, err, access.ErrDenied)

	host, err := f.Traces.Start(ctx, ines, "bookings1", "", time.Hour, "audit")
	require.NoError(t, err)
	dir, err := f.Traces.Start(ctx, ines, "dir", "svc-manifest", time.Hour, "audit")
	require.NoError(t, err)
	f.survey("bookings1", "dir", "quay1")
	a := f.take("svc-manifest")
	require.Equal(t, "done", f.rotate(a, "undo").Result)
	sent := f.operations(host.ID)
	require.NotEmpty(t, sent)
	protocols := map[string]bool{}
	for _, o := range sent {
		protocols[o.Protocol] = true
		assert.NotContains(t, fmt.Sprint(o), larkmoor.Passwords["svc-manifest"])
		assert.NotContains(t, fmt.Sprint(o), f.currentOf(a), "nor the new one")
	}
	assert.Equal(t, map[string]bool{"ssh": true}, protocols)
	restarted := f.operations(host.ID, "text~-n -- /usr/bin/systemctl restart manifest.service")
	require.NotEmpty(t, restarted)
	assert.Equal(t, "/usr/bin/env LC_ALL=C /usr/bin/sudo -n -- /usr/bin/systemctl restart manifest.service", restarted[0].Text)
	assert.Equal(t, "done", restarted[0].Outcome)
	for _, o := range f.operations(dir.ID) {
		assert.Contains(t, o.Text, "svc-manifest", "only what names the account")
		assert.NotContains(t, o.Text, larkmoor.Passwords["svc-manifest"])
	}
	changed := f.operations(dir.ID, "text~unicodePwd")
	require.NotEmpty(t, changed)
	assert.Contains(t, changed[0].Text, "unicodePwd: [secret]")

	refused := f.operations(host.ID, "outcome=refused")
	require.NotEmpty(t, refused, "what a steward may not do without sudo")
	assert.Contains(t, refused[0].Words, "Permission denied")
	got, err := f.Store.Trace(ctx, host.ID)
	require.NoError(t, err)
	assert.Equal(t, len(f.operations(host.ID)), got.Operations)

	// Ended by a person: nothing more comes.
	stopped, err := f.Traces.Stop(ctx, ben, dir.ID)
	require.NoError(t, err)
	assert.Equal(t, "ben", stopped.EndedBy)
	n := len(f.operations(dir.ID))
	f.survey("dir")
	assert.Len(t, f.operations(dir.ID), n)

	// Ended with the service, and by itself afterwards.
	f.Stop()
	require.NoError(t, f.Store.Close())
	f.reopenBy(by)
	before := len(f.operations(host.ID))
	f.survey("bookings1")
	assert.Greater(t, len(f.operations(host.ID)), before, "it goes on after the service was ended")
	by.pass(time.Hour)
	require.Eventually(t, func() bool {
		v, err := f.Store.Trace(ctx, host.ID)
		return err == nil && !v.Ended.IsZero()
	}, 10*time.Second, 20*time.Millisecond)
	v, err := f.Store.Trace(ctx, host.ID)
	require.NoError(t, err)
	assert.Equal(t, access.Service().Name, v.EndedBy)
	n = len(f.operations(host.ID))
	f.survey("bookings1")
	assert.Len(t, f.operations(host.ID), n)
	by.pass(40 * 24 * time.Hour)
	require.NoError(t, f.Traces.Forget(ctx))
	_, err = f.Store.Trace(ctx, host.ID)
	require.ErrorIs(t, err, app.ErrNotFound, "what was recorded is not kept for ever")
}

// A draft from a trace names the digest of a helper's file as the host has it, and says where
// it has none.
func TestDraftNamesDigests(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	content := []byte("#!/bin/sh\n# resets a gauge\n")
	f.estate.Hosts["bookings1"].Write("/opt/gauge's/reset", unixhost.File{Mode: 0o755, Content: content})
	v, err := f.Traces.Start(ctx, ines, "bookings1", "", time.Hour, "audit")
	require.NoError(t, err)
	var sent []records.TracedOperation
	for _, text := range []string{`/usr/bin/sudo -n -- "/opt/gauge's/reset" north`, "/usr/bin/sudo -n -- /opt/gone/reset", "/usr/bin/sudo -n -- /usr/bin/systemctl restart fuelcard.service"} {
		sent = append(sent, records.TracedOperation{At: time.Now(), Protocol: "ssh", Text: text, Outcome: "done"})
	}
	require.NoError(t, f.Store.PutOperations(ctx, v.ID, sent, 0))
	made, err := f.Charters.Draft(ctx, ines, "gauges", nil, v.ID)
	require.NoError(t, err)
	words := fmt.Sprint(made.NotRead)
	assert.Contains(t, words, "the digest of /opt/gone/reset on bookings1, so that none is written: sha256sum: /opt/gone/reset: No such file or directory")
	assert.Contains(t, made.Document, "run: /usr/bin/systemctl restart fuelcard.service")
	assert.Contains(t, made.Document, "run: /opt/gone/reset")
	assert.Contains(t, words, "quotes", "a path with a quote is written in no charter")

	f.estate.Hosts["bookings1"].Write("/opt/gauge/reset", unixhost.File{Mode: 0o755, Content: content})
	require.NoError(t, f.Store.PutOperations(ctx, v.ID, []records.TracedOperation{{At: time.Now(), Protocol: "ssh", Text: "/usr/bin/sudo -n -- /opt/gauge/reset north", Outcome: "done"}}, 0))
	made, err = f.Charters.Draft(ctx, ines, "gauges", nil, v.ID)
	require.NoError(t, err)
	assert.Contains(t, made.Document, fmt.Sprintf("run: sha256:%x /opt/gauge/reset north", sha256.Sum256(content)))

	// A host that is away takes nothing but the digests from the draft.
	require.NoError(t, f.estate.Hosts["bookings1"].Close())
	made, err = f.Charters.Draft(ctx, ines, "gauges", nil, v.ID)
	require.NoError(t, err)
	assert.Contains(t, made.Document, "run: /opt/gauge/reset north")
	assert.Contains(t, fmt.Sprint(made.NotRead), "refused")
}
