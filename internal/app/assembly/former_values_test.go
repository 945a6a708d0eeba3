package assembly_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// A value that was replaced is kept for as long as the policy says that decides for it, and
// then erased: the rotation cannot be undone any more, and says so. What is in force, what
// may be, and what somebody is about to undo stays.
func TestFormerValuesAreErased(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	manifest, tide := f.take("svc-manifest"), f.take("svc-tidefeed")
	first := f.rotate(manifest, rotation.UndoOnFailure)
	require.Equal(t, "done", first.Result)
	second := f.rotate(tide, rotation.UndoOnFailure)
	require.Equal(t, "done", second.Result)
	assert.Contains(t, first.Plan.Notes, rotation.Note{Kind: rotation.NoteInfo, Text: "it can be undone for 90 days after its end: so long the value that is in force now is kept sealed"})

	// A policy decides for one of them.
	require.NoError(t, f.Store.PutLabel(ctx, records.HandLabel{AccountID: tide.ID, Label: "tides", SetBy: "ines"}))
	settings := records.PolicySettings{EveryDays: 300, UndoDays: 3}
	_, err := f.Policies.Save(ctx, ines, records.Policy{Name: "tides", Label: "tides", Precedence: 1, PolicySettings: settings})
	require.NoError(t, err)
	_, err = f.Unattended.Look(ctx)
	require.NoError(t, err)
	days, err := f.Store.UndoDays(ctx, cred(f, tide).ID)
	require.NoError(t, err)
	require.Equal(t, 3, days)

	kept := func(a records.Account) (n int) {
		all, err := f.Store.Secrets(ctx, cred(f, a).ID)
		require.NoError(t, err)
		for _, s := range all {
			if !s.Erased() {
				n++
			}
		}
		return n
	}
	erase := func() string {
		words, err := f.Custody.EraseFormer(ctx)
		require.NoError(t, err)
		return words
	}
	assert.Equal(t, "0 former values erased", erase())
	until, gone, err := f.Rotations.UndoUntil(ctx, second)
	require.NoError(t, err)
	assert.False(t, gone)
	assert.WithinDuration(t, second.Ended.AddDate(0, 0, 3), until, time.Minute)

	by.pass(4 * 24 * time.Hour)
	assert.Equal(t, "1 former values erased", erase(), "that of the other is kept for 90 days")
	assert.Equal(t, [2]int{2, 1}, [2]int{kept(manifest), kept(tide)})
	assert.Equal(t, []notice.Severity{notice.Informational}, f.told("custody.erase"))
	_, err = f.Rotations.RehearseUndo(ctx, ines, second.ID)
	require.ErrorIs(t, err, app.ErrRefused)
	require.ErrorContains(t, err, "is erased, for its time was over")
	_, gone, err = f.Rotations.UndoUntil(ctx, second)
	require.NoError(t, err)
	assert.True(t, gone)

	// Somebody is about to undo the other one.
	by.pass(90 * 24 * time.Hour)
	v, err := f.Rotations.RehearseUndo(ctx, ines, first.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	assert.Equal(t, "0 former values erased", erase())
	by.pass(3 * time.Hour)
	assert.Equal(t, "1 former values erased", erase())
	assert.Equal(t, "0 former values erased", erase())

	// What is erased is not in the files of the store either, and what is looked for still
	// can be looked for.
	_, err = f.Sealed.LookedFor(ctx)
	require.NoError(t, err)
	require.Equal(t, "done", f.rotate(tide, rotation.UndoOnFailure).Result)
}

// The bytes of an erased value are gone from the files of the store, not only from its rows.
func TestErasedIsGone(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	a := f.take("svc-manifest")
	require.Equal(t, "done", f.rotate(a, rotation.UndoOnFailure).Result)
	all, err := f.Store.Secrets(ctx, cred(f, a).ID)
	require.NoError(t, err)
	former := all[len(all)-1]
	require.Equal(t, records.SecretRetired, former.State)
	require.NotEmpty(t, former.Sealed)
	by.pass(91 * 24 * time.Hour)
	_, err = f.Custody.EraseFormer(ctx)
	require.NoError(t, err)
	f.Stop()
	require.NoError(t, f.Store.Close())
	defer f.reopenBy(by)
	files, err := os.ReadDir(f.folder)
	require.NoError(t, err)
	for _, file := range files {
		raw, err := os.ReadFile(filepath.Join(f.folder, file.Name()))
		if err != nil {
			continue // a folder
		}
		assert.NotContains(t, string(raw), string(former.Sealed), file.Name())
	}
}
