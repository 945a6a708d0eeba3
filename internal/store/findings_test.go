package store

import (
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/records"
)

// Clearing the findings of one thing leaves those of others whose number begins
// with the same digits.
func TestAScopeOfFindingsIsNoPrefixOfNumbers(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	raise := func(scope string, keys ...string) {
		t.Helper()
		var list []records.Finding
		for _, key := range keys {
			list = append(list, records.Finding{Key: key, Kind: "drift", Severity: "high", What: key})
		}
		require.NoError(t, s.SetFindings(ctx, scope, list))
	}
	openKeys := func() (keys []string) {
		page, err := s.Findings(ctx, false, records.Query{Limit: 100})
		require.NoError(t, err)
		for _, f := range page.Items {
			keys = append(keys, f.Key)
		}
		sort.Strings(keys)
		return keys
	}
	raise("drift/1", "drift/1")
	raise("drift/12", "drift/12")
	raise("place/1/", "place/1/a", "place/1/b")
	raise("place/10/", "place/10/a")
	raise("drift/1")
	assert.Equal(t, []string{"drift/12", "place/1/a", "place/1/b", "place/10/a"}, openKeys())
	raise("place/1/", "place/1/b")
	assert.Equal(t, []string{"drift/12", "place/1/b", "place/10/a"}, openKeys())
	raise("drift/12", "drift/12")
	raise("place/10/")
	assert.Equal(t, []string{"drift/12", "place/1/b"}, openKeys())
}
