package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
)

// The index of parts changes how long a filter takes, not what it finds: held
// against looking at every row, also for what was changed, is gone, or has
// characters that patterns and quotes are made of.
func TestPartsFindWhatEveryRowSays(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	pieces := []string{"berth", "tide", "Quay", "100%", "_under_", `"quo"`, `back\slash`, "it's", "møss", "a b", "-", "/etc/", ".service", "PASSWORD", "tidetide"}
	r := rand.New(rand.NewPCG(7, 11))
	word := func() string {
		out := ""
		for range 1 + r.IntN(3) {
			out += pieces[r.IntN(len(pieces))]
		}
		return out
	}
	var account string
	for n := range 3 {
		id, err := s.AddSystem(ctx, records.System{Name: fmt.Sprintf("host-%s-%d", pieces[n], n), Kind: "unix-host", Address: fmt.Sprintf("192.0.2.%d", n+1)})
		require.NoError(t, err)
		var list []estate.Dependent
		for i := range 120 {
			list = append(list, estate.Dependent{Kind: estate.DependentUnit, Name: word(), Place: fmt.Sprintf("%s-%d", word(), i), Description: word(), RunsAs: word(), Executable: word()})
		}
		tally, seen := records.Tally{}, NewSeen()
		require.NoError(t, s.PutDependents(ctx, id, list, seen, &tally))
		for i := range list[:40] {
			list[i].Description = word()
		}
		seen = NewSeen()
		require.NoError(t, s.PutDependents(ctx, id, list[:100], seen, &tally))
		_, err = s.EndScopes(ctx, id, []ScopeEnd{{Scope: "units", Complete: true, Table: "dependents", Condition: "kind = 'unit'", Seen: seen}}, &tally)
		require.NoError(t, err)
		require.NoError(t, s.PutAccounts(ctx, id, []estate.Account{{StableID: "1", Name: "svc-" + pieces[n] + "-x", Enabled: estate.Yes}}, NewSeen(), &tally))
	}
	accounts, err := s.Accounts(ctx, records.Query{Limit: 10})
	require.NoError(t, err)
	account = fmt.Sprint(accounts.Items[0].ID)
	require.NoError(t, s.PutTies(ctx, map[records.DependentID][]ties.Tie{5: {{Account: account, Evidence: estate.Held}}, 300: {{Account: account, Evidence: estate.Held}}}))
	everything, err := s.Dependents(ctx, 0, records.Query{Limit: 1000})
	require.NoError(t, err)
	require.Len(t, everything.Items, 360)
	ids := func(q records.Query) []records.DependentID {
		q.Limit = 1000
		page, err := s.Dependents(ctx, 0, q)
		require.NoError(t, err)
		require.Equal(t, page.Total, len(page.Items))
		var out []records.DependentID
		for _, d := range page.Items {
			out = append(out, d.ID)
		}
		slices.Sort(out)
		return out
	}
	folded := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	for range 300 {
		part := word()
		part = part[r.IntN(len(part)/2+1):]
		part = strings.TrimSpace(strings.ToValidUTF8(part[:1+r.IntN(len(part))], ""))
		if part == "" || strings.ContainsAny(part, "ø") { // LIKE folds only ASCII
			continue
		}
		var names, found, both []records.DependentID
		for _, d := range everything.Items {
			all := strings.Join([]string{d.Name, d.Place, d.Description, d.RunsAs, d.Executable}, " ")
			hit := folded(all, part) || folded(d.System, part) || slices.ContainsFunc(d.Ties, func(t records.Tie) bool { return folded(t.Account, part) })
			if folded(d.Name, part) {
				names = append(names, d.ID)
			}
			if hit {
				found = append(found, d.ID)
			}
			if hit && d.Gone.IsZero() {
				both = append(both, d.ID)
			}
		}
		slices.Sort(names)
		slices.Sort(found)
		slices.Sort(both)
		assert.Equal(t, names, ids(records.Query{Filters: []string{"name~" + part}}), "name~%q", part)
		assert.Equal(t, found, ids(records.Query{Search: part}), "search %q", part)
		assert.Equal(t, both, ids(records.Query{Search: part, Filters: []string{"gone="}}), "search %q of what is there", part)
	}
}
