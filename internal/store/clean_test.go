package store

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// A database from before texts were redacted keeps none of the old ones, in its
// rows nor in what its files hold beside them.
func TestOldTextsAreCleaned(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "host", Kind: "unix-host"})
	require.NoError(t, err)
	const secret = "Tide-Lamp-Canary-77"
	var tally records.Tally
	require.NoError(t, s.PutDependents(ctx, id, []estate.Dependent{{Kind: estate.DependentUnit, Place: "a.service", Name: "a", Executable: "/opt/a --password " + secret}}, NewSeen(), &tally))
	require.NoError(t, s.PutAccounts(ctx, id, []estate.Account{{StableID: "1", Name: "a", Description: "password is " + secret}}, NewSeen(), &tally))
	changed, err := s.CleanTexts(ctx, func(text string) string { return strings.ReplaceAll(text, secret, "[secret]") })
	require.NoError(t, err)
	assert.Equal(t, 2, changed)
	list, err := s.DependentsOfSystem(ctx, id)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "/opt/a --password [secret]", list[0].Executable)
	require.NoError(t, s.Close())
	files, err := filepath.Glob(filepath.Join(folder, "*"))
	require.NoError(t, err)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), secret, file)
	}
}
