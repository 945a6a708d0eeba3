package store

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// Whatever happens to rows, the search finds each by the words it has now, by
// none that it had, and only while it is there.
func TestSearchFollowsRows(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	random := rand.New(rand.NewPCG(3, 9))
	var systems []records.SystemID
	for i := range 3 {
		id, err := s.AddSystem(ctx, records.System{Name: fmt.Sprintf("quay%d", i), Kind: "unix-host"})
		require.NoError(t, err)
		systems = append(systems, id)
	}
	type row struct {
		account bool
		system  records.SystemID
		key     string
	}
	words := map[row]string{} // what it has now; "" when gone
	var former []string
	next := 0
	for range 60 {
		system := systems[random.IntN(len(systems))]
		accounts, dependents := NewSeen(), NewSeen()
		var tally records.Tally
		var a []estate.Account
		var d []estate.Dependent
		for key := range 12 {
			for _, account := range []bool{true, false} {
				r := row{account, system, fmt.Sprint(key)}
				if random.IntN(4) == 0 { // not seen this time
					if words[r] != "" {
						former = append(former, words[r])
					}
					words[r] = ""
					continue
				}
				if words[r] == "" || random.IntN(3) == 0 {
					if words[r] != "" {
						former = append(former, words[r])
					}
					next++
					words[r] = fmt.Sprintf("wörd%05d", next)
				}
				if account {
					a = append(a, estate.Account{StableID: r.key, Name: "svc" + r.key, Description: words[r], Enabled: estate.Yes})
				} else {
					d = append(d, estate.Dependent{Kind: estate.DependentUnit, Place: "u" + r.key + ".service", Name: "u" + r.key, Description: words[r]})
				}
			}
		}
		require.NoError(t, s.PutAccounts(ctx, system, a, accounts, &tally))
		require.NoError(t, s.PutDependents(ctx, system, d, dependents, &tally))
		_, err := s.EndScopes(ctx, system, []ScopeEnd{
			{Scope: "accounts", Table: "accounts", Condition: "1", Complete: true, Seen: accounts, Fleeting: true},
			{Scope: "units", Table: "dependents", Condition: "kind = 'unit'", Complete: true, Seen: dependents, Fleeting: true},
		}, &tally)
		require.NoError(t, err)
	}
	found := func(word string) int {
		hits, err := s.Search(ctx, word, 20)
		require.NoError(t, err)
		return len(hits)
	}
	check := func() {
		t.Helper()
		for r, word := range words {
			if word != "" {
				require.Equal(t, 1, found(word), "%+v %s", r, word)
			}
		}
		for _, word := range former {
			require.Zero(t, found(word), word)
		}
	}
	check()
	list, err := s.Dependents(ctx, 0, records.Query{Filters: []string{"description~örd0"}, Limit: 1000})
	require.NoError(t, err)
	assert.NotEmpty(t, list.Items)

	require.NoError(t, s.RemoveSystem(ctx, systems[0]))
	for r, word := range words {
		if r.system == systems[0] && word != "" {
			former = append(former, word)
			words[r] = ""
		}
	}
	check()
	var left int
	require.NoError(t, s.Read.QueryRowContext(ctx, "SELECT (SELECT COUNT(*) FROM unindexed_accounts) + (SELECT COUNT(*) FROM unindexed_dependents)").Scan(&left))
	assert.Zero(t, left)
}

// Merging leaves few segments, finds the same, and ends.
func TestIndexesAreMerged(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	for i := range 40 {
		batch := []estate.Account{{StableID: fmt.Sprint(i), Name: fmt.Sprintf("svc-%d", i), Description: "lantern", Enabled: estate.Yes}}
		require.NoError(t, s.PutAccounts(ctx, id, batch, NewSeen(), &records.Tally{}))
	}
	segments := func() (n int) {
		require.NoError(t, s.Read.QueryRowContext(ctx, "SELECT COUNT(DISTINCT segid) FROM found_accounts_idx").Scan(&n))
		return n
	}
	grown := segments()
	require.Greater(t, grown, 4)
	require.NoError(t, s.MergeIndexes(ctx))
	assert.Less(t, segments(), grown)
	assert.LessOrEqual(t, segments(), 3)
	hits, err := s.Search(ctx, "lantern", 50)
	require.NoError(t, err)
	assert.Len(t, hits, 40)
	require.NoError(t, s.MergeIndexes(ctx), "and again, with nothing to do")
}
