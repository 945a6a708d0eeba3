package approval

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
	"mossledger.example/moss/internal/store/database"
)

// What was approved is told whatever became of it: done, failed, or cut off by the end of
// the service; and what nobody approved in time ends.
func TestWhatBecomesOfRequests(t *testing.T) {
	ctx := t.Context()
	now := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
	folder := t.TempDir()
	s, err := store.Open(ctx, folder, func() time.Time { return now })
	require.NoError(t, err)
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, s.OpenLedger(ctx, base.Sealer, s.FolderWitness()))
	t.Cleanup(func() { base.Stop(); require.NoError(t, s.Close()) })
	require.NoError(t, s.AddUser(ctx, records.User{Name: "ines", Roles: []string{access.RoleOperator}, Password: "x"}, false))
	approvals := New(base, s)
	var carried error
	approvals.Carry(KindRotation, Carrier{Action: access.StartRotation, CarryOut: func(ctx context.Context, _, _ access.Actor, v records.Approval) error {
		if strings.HasPrefix(v.Subject, "cut") {
			panic("the service ends")
		}
		return carried
	}})
	ola := access.Actor{Name: "ola", Roles: []string{access.RoleApprover}}
	ask := func(subject string, expires time.Time) records.Approval {
		id, err := approvals.Ask(ctx, records.Approval{Kind: KindRotation, Subject: subject, What: "rotate it", AskedBy: "ines", Expires: expires}, ledger.Entry{Act: "rotation.start"})
		require.NoError(t, err)
		v, err := s.Approval(ctx, id)
		require.NoError(t, err)
		return v
	}
	v := ask("done", time.Time{})
	v, err = approvals.Approve(ctx, ola, v.ID, v.Digest, "go on")
	require.NoError(t, err)
	assert.Equal(t, "go on", v.Words)
	kept, err := s.Approval(ctx, v.ID)
	require.NoError(t, err)
	assert.Equal(t, "go on", kept.Words)

	carried = errors.New("no route to host")
	v = ask("failed", time.Time{})
	_, err = approvals.Approve(ctx, ola, v.ID, v.Digest, "go on")
	require.ErrorContains(t, err, "no route to host")
	v, err = s.Approval(ctx, v.ID)
	require.NoError(t, err)
	assert.Equal(t, "approved, but it did not work: no route to host", v.Words)

	v = ask("cut off", time.Time{})
	assert.Panics(t, func() { _, _ = approvals.Approve(ctx, ola, v.ID, v.Digest, "go on") })
	require.NoError(t, approvals.Recover(ctx))
	v, err = s.Approval(ctx, v.ID)
	require.NoError(t, err)
	assert.Contains(t, v.Words, "the service ended while it was carried out")
	_, err = approvals.Approve(ctx, ola, v.ID, v.Digest, "again")
	require.ErrorIs(t, err, app.ErrRefused)

	// Of two that wait, the one whose time is over ends, once, and is in the ledger.
	carried = nil
	late, waits := ask("late", now.Add(time.Hour)), ask("waits", now.Add(48*time.Hour))
	now = now.Add(time.Hour + time.Millisecond)
	_, err = approvals.Approve(ctx, ola, late.ID, late.Digest, "")
	require.ErrorContains(t, err, "has to be asked for again")
	for _, want := range []string{"1 requests ended", "0 requests ended"} {
		words, err := approvals.Expire(ctx)
		require.NoError(t, err)
		assert.Equal(t, want, words)
	}
	page, err := s.LedgerList(ctx, records.Query{Filters: []string{"act=approval.expire"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 1)
	// An end that was put off in the database is no end that was asked for.
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(t, err)
	_, err = db.ExecContext(ctx, "UPDATE approvals SET detail = json_set(detail, '$.expires', '2036-01-01T00:00:00Z') WHERE id = ?", waits.ID)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = approvals.Approve(ctx, ola, waits.ID, waits.Digest, "")
	require.ErrorIs(t, err, records.ErrForged)
}
