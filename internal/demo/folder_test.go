package demo

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyFoldersOfDemonstrationsAreEmptied(t *testing.T) {
	base := t.TempDir()
	put := func(path, text string) string {
		path = filepath.Join(base, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}

	// New, empty, and its own from before.
	for _, folder := range []string{"new", "deep/er", "empty"} {
		folder = filepath.Join(base, folder)
		if filepath.Base(folder) == "empty" {
			require.NoError(t, os.Mkdir(folder, 0o700))
		}
		held, err := claim(folder)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "user.pw"), []byte("x"), 0o600))
		_, err = claim(folder)
		assert.ErrorContains(t, err, "runs in")
		assert.FileExists(t, filepath.Join(folder, "user.pw"), "of the one that runs")
		require.NoError(t, held.Close())
		held, err = claim(folder)
		require.NoError(t, err)
		assert.NoFileExists(t, filepath.Join(folder, "user.pw"))
		require.NoError(t, held.Close())
	}

	// Of others.
	thesis := put("documents/thesis.txt", "years of work")
	link := filepath.Join(base, "link")
	require.NoError(t, os.Symlink(filepath.Join(base, "documents"), link))
	forged := put("forged/letter.txt", "kept")
	put("forged/"+marker, "another program's")
	linked := put("linked/letter.txt", "kept")
	require.NoError(t, os.Symlink(filepath.Join(base, "new", marker), filepath.Join(base, "linked", marker)))
	for _, folder := range []string{"documents", "link", "forged", "linked", "documents/thesis.txt"} {
		_, err := claim(filepath.Join(base, folder))
		assert.ErrorContains(t, err, "--folder", folder)
	}
	for _, file := range []string{thesis, forged, linked} {
		assert.FileExists(t, file)
	}
}
