package assembly_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// An option of many systems: files that some have are read there, those that
// come later have it too, and it can be taken away.
func TestCommonOptions(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	for _, bad := range []records.CommonOption{
		{Field: "colour", Value: "red", Name: "paths", Setting: "/a"},
		{Field: "site", Name: "paths", Setting: "/a"},
		{Field: "kind", Value: "redis", Name: "paths", Setting: "/a"},
		{Field: "site", Value: "x", Name: "nonsense", Setting: "/a"},
		{Field: "site", Value: "x", Name: "paths", Setting: "relative"},
		{Field: "site", Value: "x", Name: "paths"},
	} {
		require.ErrorIs(t, f.Inventory.SetCommonOption(ctx, ines, bad), app.ErrInput, "%+v", bad)
	}
	f.estate.Hosts["quay1"].Write("/mnt/shared/odd-name", unixhost.File{Mode: 0o600, Owner: "root", Content: []byte("user=svc-manifest\npassword=" + larkmoor.Passwords["svc-manifest"] + "\n")})
	f.survey()
	found := func() int {
		page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"path=/mnt/shared/odd-name", "gone="}})
		require.NoError(t, err)
		return page.Total
	}
	require.Zero(t, found())
	require.NoError(t, f.Inventory.SetCommonOption(ctx, ines, records.CommonOption{Field: "kind", Value: "unix-host", Name: "paths", Setting: "/mnt/shared/odd-name;/mnt/nowhere"}))
	f.survey()
	assert.Equal(t, 1, found())
	for _, name := range []string{"quay1", "quay2"} {
		v, err := f.Store.System(ctx, name)
		require.NoError(t, err)
		assert.Equal(t, "ok", v.State, "a file that is not everywhere is no problem")
		assert.Empty(t, v.Options["paths"], "its own options stay as they were given")
	}
	page, err := f.Store.CommonOptions(ctx, records.Query{})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, len(f.estate.Hosts), page.Items[0].Systems)
	require.NoError(t, f.Inventory.RemoveCommonOption(ctx, ines, page.Items[0].ID))
	require.ErrorIs(t, f.Inventory.RemoveCommonOption(ctx, ines, page.Items[0].ID), app.ErrNotFound)
	written, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=option.remove"}})
	require.NoError(t, err)
	require.Len(t, written.Items, 1)
	assert.Equal(t, "kind=unix-host", written.Items[0].Subject, "the ledger says what was taken away")
	f.survey()
	assert.Zero(t, found())
}
