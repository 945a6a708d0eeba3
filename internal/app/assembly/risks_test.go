package assembly_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/records"
)

// What an account could do and how weakly it is held is seen after each survey, and is
// otherwise once either is.
func TestRisks(t *testing.T) {
	f := start(t)
	of := func(system, account string) (records.Risk, bool) {
		page, err := f.Store.Risks(t.Context(), records.Query{Filters: []string{"system=" + system, "account=" + account}})
		require.NoError(t, err)
		if len(page.Items) == 0 {
			return records.Risk{}, false
		}
		return page.Items[0], true
	}
	manifest, there := of("bookings1", "manifest")
	require.True(t, there)
	assert.GreaterOrEqual(t, manifest.Power, 60)
	assert.Contains(t, manifest.Words, "may do everything there (60)")
	berth, there := of("dir", "svc-berth")
	require.True(t, there)
	assert.Contains(t, berth.Words, "may reset password (7 objects), through Terminal Services > Operations (47)")
	assert.Equal(t, (berth.Power*berth.Weakness+50)/100, berth.Score.Score)
	page, err := f.Store.Risks(t.Context(), records.Query{})
	require.NoError(t, err)
	for i := 1; i < len(page.Items); i++ {
		assert.LessOrEqual(t, page.Items[i].Score.Score, page.Items[i-1].Score.Score, "those that matter most come first")
	}

	h := f.estate.Hosts["bookings1"]
	file, _ := h.Read("/etc/sudoers.d/manifest")
	file.Content = []byte("manifest ALL = (ALL) NOPASSWD: ALL\nmanifest ALL = (ALL) !ALL\n")
	h.Write("/etc/sudoers.d/manifest", file)
	f.survey("bookings1")
	after, there := of("bookings1", "manifest")
	require.True(t, there)
	assert.Less(t, after.Power, 60, "what another rule takes back is no power: %s", after.Words)
}
