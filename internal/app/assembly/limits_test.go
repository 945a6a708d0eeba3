package assembly_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// New passwords keep to what everything that holds or reads them can carry, as people say
// it of a file or of the program that reads it; what nothing can be is told before.
func TestHoldersLimits(t *testing.T) {
	f := start(t)
	a := f.take("svc-berth")
	find := func(name string) records.Dependent {
		page, err := f.Store.Dependents(t.Context(), 0, records.Query{Filters: []string{"system=quay1", "place~" + name}, Limit: 100})
		require.NoError(t, err)
		i := slices.IndexFunc(page.Items, func(d records.Dependent) bool { return strings.HasPrefix(d.Place, name) })
		require.NotEqual(t, -1, i, name)
		return page.Items[i]
	}
	limit := func(d records.Dependent, limit credential.Limit) {
		require.NoError(t, f.Picture.SetLimit(t.Context(), ines, d.ID, limit))
	}
	file, unit := find("/etc/berth/berth.env"), find("berth.service")
	require.Equal(t, estate.DependentUnit, unit.Kind)
	limit(file, credential.Limit{Of: "somebody else", Longest: 20})
	limit(unit, credential.Limit{Without: "~."})
	f.survey("quay1") // what people said stays
	assert.Equal(t, &credential.Limit{Longest: 20}, find("/etc/berth/berth.env").Limit)

	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	i := slices.IndexFunc(v.Checks, func(c connect.Checked) bool { return c.What == "the rules for a new password are known" })
	require.NotEqual(t, -1, i)
	assert.Contains(t, v.Checks[i].Words, file.Place+" on quay1 takes at most 20 characters")
	assert.Contains(t, v.Checks[i].Words, "berth.service on quay1 takes none of ~.")
	assert.Contains(t, v.Checks[i].Words, "the new one has 20 characters")
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, "done", r.Result)
	made, err := f.Sealed.Values(t.Context(), cred(f, a).ID)
	require.NoError(t, err)
	assert.Len(t, made.Current.RevealString(), 20)
	assert.False(t, strings.ContainsAny(made.Current.RevealString(), "~."))

	// What was rehearsed under one limit is not begun under another.
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	limit(file, credential.Limit{Longest: 19})
	_, err = f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "test", "")
	require.Error(t, err)
	limit(file, credential.Limit{Longest: 8})
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	require.Len(t, bad(v.Checks), 1)
	assert.Contains(t, bad(v.Checks)[0].Words, file.Place+" on quay1 takes at most 8 characters: fewer than are safe")
	limit(file, credential.Limit{})
	assert.Nil(t, find("/etc/berth/berth.env").Limit)

	for _, wrong := range []credential.Limit{{Longest: -1}, {Longest: 257}, {Without: "a\nb"}, {Without: strings.Repeat("~", 101)}} {
		assert.ErrorIs(t, f.Picture.SetLimit(t.Context(), ines, file.ID, wrong), app.ErrInput, "%+v", wrong)
	}
	viewer := ines
	viewer.Roles = nil
	assert.Error(t, f.Picture.SetLimit(t.Context(), viewer, file.ID, credential.Limit{Longest: 12}))
	assert.ErrorIs(t, f.Picture.SetLimit(t.Context(), ines, 99999, credential.Limit{Longest: 12}), records.ErrNotFound)
}
