package charter

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReady(t *testing.T) {
	all := AllReady()
	require.Len(t, all, 13)
	stewards := 0
	for _, r := range all {
		d, err := Parse(r.Document)
		require.NoError(t, err)
		assert.NotEmpty(t, d.Description, r.Name)
		assert.Equal(t, r.Name, d.Label, "the label is named like it")
		assert.NotEmpty(t, d.Never, "%s: it says what must never be", r.Name)
		if strings.HasPrefix(r.Name, "steward-") {
			stewards++
		}
	}
	assert.Equal(t, 6, stewards, "one for each kind of system whose rights are read")
}

func TestDiff(t *testing.T) {
	was, err := Parse(manifests)
	require.NoError(t, err)
	is, err := Parse(strings.NewReplacer("label: manifests", "label: imports", "  - run: ALL\n", "  - run: ALL\n    as: nobody\n", "within: 90", "within: 60").Replace(manifests))
	require.NoError(t, err)
	assert.Equal(t, []Changed{{"label", "manifests", "imports"}, {"never", "run ALL", ""}, {"never", "", "run ALL as nobody"}, {"account", "password_changed_within: 90", ""}, {"account", "", "password_changed_within: 60"}}, Diff(was, is))
	assert.Empty(t, Diff(was, was))
	assert.Len(t, Diff(&Document{}, was), 11)
}
