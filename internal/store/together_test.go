package store

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

var errNo = errors.New("no")

// All that is done together is kept, or nothing; a part that failed is taken back alone, also
// from the ledger; what is read within sees what was written within, and nobody else does.
func TestTogether(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	entry := func(name string) ledger.Entry {
		return ledger.Entry{Actor: "ines", Act: "window.save", Phase: ledger.Outcome, Subject: name, Result: "done"}
	}
	window := func(ctx context.Context, name string) error {
		return s.SaveWindow(ctx, records.Window{Name: name, Rule: "FREQ=DAILY", Begins: "2026-01-01T22:00", Zone: "UTC", Minutes: 60, ChangedBy: "ines"}, entry(name))
	}
	names := func(ctx context.Context) (out []string) {
		list, err := s.AllWindows(ctx)
		require.NoError(t, err)
		for _, w := range list {
			out = append(out, w.Name)
		}
		return out
	}
	entries := func() (out []string) {
		page, err := s.LedgerList(ctx, records.Query{Filters: []string{"act=window.save"}, Sort: "index"})
		require.NoError(t, err)
		for _, e := range page.Items {
			out = append(out, e.Subject)
		}
		return out
	}
	// Nothing of it.
	require.ErrorIs(t, s.Together(ctx, func(ctx context.Context) error {
		require.NoError(t, window(ctx, "a"))
		require.NoError(t, window(ctx, "b"))
		assert.Equal(t, []string{"a", "b"}, names(ctx))
		assert.Empty(t, names(t.Context()), "nobody else sees it")
		return errNo
	}), errNo)
	assert.Empty(t, names(ctx))
	assert.Empty(t, entries())

	// A part that fails is taken back alone, with what it entered; then all is kept.
	require.NoError(t, s.Together(ctx, func(ctx context.Context) error {
		require.NoError(t, window(ctx, "a"))
		require.ErrorIs(t, s.Together(ctx, func(ctx context.Context) error {
			require.NoError(t, window(ctx, "lost"))
			require.ErrorIs(t, window(ctx, "a"), records.ErrConflict)
			assert.Equal(t, []string{"a", "lost"}, names(ctx))
			return errNo
		}), errNo)
		assert.Equal(t, []string{"a"}, names(ctx))
		return window(ctx, "c")
	}))
	assert.Equal(t, []string{"a", "c"}, names(ctx))
	assert.Equal(t, []string{"a", "c"}, entries())

	// The ledger goes on where it ends, and holds.
	require.NoError(t, window(ctx, "d"))
	assert.Equal(t, []string{"a", "c", "d"}, entries())
	report, err := s.LedgerVerify(ctx)
	require.NoError(t, err)
	assert.Empty(t, report.Problems)
	_, err = s.AllWindows(ctx)
	require.NoError(t, err)
}
