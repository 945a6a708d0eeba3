package store

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
)

// A name that a hundred hosts have is found on the host, and in the domain,
// that is meant.
func TestNamesOnManyHosts(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	add := func(name, kind string, account estate.Account) records.System {
		id, err := s.AddSystem(ctx, records.System{Name: name, Kind: kind})
		require.NoError(t, err)
		require.NoError(t, s.PutAccounts(ctx, id, []estate.Account{account}, NewSeen(), &records.Tally{}))
		v, err := s.SystemByID(ctx, id)
		require.NoError(t, err)
		return v
	}
	var hosts []records.System
	for i := range 120 {
		hosts = append(hosts, add(fmt.Sprintf("quay%d", i), "unix-host", estate.Account{StableID: fmt.Sprintf("m%d:1001", i), Name: "svc-backup", UID: "1001"}))
	}
	dir := add("dir", "directory", estate.Account{StableID: "g", Name: "svc-backup", DN: "CN=svc-backup,DC=larkmoor,DC=example"})
	require.NoError(t, s.SaveCheck(ctx, dir.ID, connect.CheckReport{Stages: []connect.StageResult{{OK: true}}, Facts: connect.Facts{Domains: []string{"LARKMOOR", "larkmoor.example"}}}))
	bare, err := s.AddSystem(ctx, records.System{Name: "bare", Kind: "unix-host"})
	require.NoError(t, err)
	add("tides", "postgresql", estate.Account{StableID: "r", Name: "svc-backup"})
	lookup, err := s.Lookup(ctx)
	require.NoError(t, err)
	on := func(v records.System) string {
		res, err := naming.Resolve("svc-backup", ContextOf(v), lookup)
		require.NoError(t, err)
		require.Equal(t, naming.Resolved, res.State, v.Name)
		return res.Accounts[0].System
	}
	for _, v := range hosts {
		require.Equal(t, fmt.Sprint(v.ID), on(v), "a host's own account")
	}
	v, err := s.SystemByID(ctx, bare)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprint(dir.ID), on(v), "a host without one asks the directory")
	for _, text := range []string{`LARKMOOR\svc-backup`, "svc-backup@larkmoor.example"} {
		res, err := naming.Resolve(text, ContextOf(hosts[0]), lookup)
		require.NoError(t, err)
		require.Equal(t, naming.Resolved, res.State, text)
		assert.Equal(t, fmt.Sprint(dir.ID), res.Accounts[0].System, text)
	}
	beside := ContextOf(hosts[119])
	beside.Copy = true
	res, err := naming.Resolve("svc-backup", beside, lookup)
	require.NoError(t, err)
	assert.Len(t, res.Accounts, 3, "beside a secret: its own, the directory's and the data store's")
}

// Identifiers of before a move lead to the account of today, as long as it has them; the
// present owner of one comes first; and domains are told apart by who reads them.
func TestFormerIdentifiersAndTrusts(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.SaveCheck(ctx, id, connect.CheckReport{Stages: []connect.StageResult{{OK: true}}, Facts: connect.Facts{
		Domains: []string{"LARKMOOR"}, Identity: "S-1-5-21-1-2-3", Trusts: []connect.Trust{{Names: []string{"PILOTS", "pilots.example"}, SID: "S-1-5-21-4-5-6"}},
	}}))
	berth := estate.Account{StableID: "a", Name: "svc-berth", SID: "S-1-5-21-1-2-3-1113", FormerSIDs: []string{"S-1-5-21-4-5-6-1200", "S-1-5-21-4-5-6-1201"}}
	tide := estate.Account{StableID: "b", Name: "svc-tide", SID: "S-1-5-21-1-2-3-1114", FormerSIDs: []string{"S-1-5-21-4-5-6-1200"}}
	put := func(list ...estate.Account) {
		require.NoError(t, s.PutAccounts(ctx, id, list, NewSeen(), &records.Tally{}))
	}
	says := func(text string) (naming.State, string, int) {
		lookup, err := s.Lookup(ctx)
		require.NoError(t, err)
		res, err := naming.Resolve(text, naming.Context{}, lookup)
		require.NoError(t, err)
		return res.State, res.Why, len(res.Accounts)
	}
	put(berth, tide)
	state, why, _ := says("S-1-5-21-4-5-6-1201")
	assert.Equal(t, naming.Resolved, state, why)
	assert.Contains(t, why, "in a domain that it was moved from")
	state, why, n := says("S-1-5-21-4-5-6-1200")
	assert.Equal(t, naming.Ambiguous, state, why)
	assert.Equal(t, 2, n)
	kept, err := s.Account(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, berth.FormerSIDs, kept.FormerSIDs)

	berth.FormerSIDs = berth.FormerSIDs[1:] // somebody cleaned one up
	put(berth, tide)
	state, why, _ = says("S-1-5-21-4-5-6-1200")
	assert.Equal(t, naming.Resolved, state, why)
	put(berth, estate.Account{StableID: "c", Name: "svc-other", SID: "S-1-5-21-4-5-6-1201"})
	state, why, _ = says("S-1-5-21-4-5-6-1201")
	assert.Equal(t, naming.Resolved, state)
	assert.NotContains(t, why, "moved", "whose it is now comes before whose it was")

	_, why, _ = says(`PILOTS\svc-chart`)
	assert.Contains(t, why, "the domain PILOTS, pilots.example is trusted by that of dir, and no system here reads it")
	_, why, _ = says("S-1-5-21-1-2-3-4711")
	assert.Contains(t, why, "although dir reads that domain")
	require.NoError(t, s.RemoveSystem(ctx, id))
	var left int
	require.NoError(t, s.Read.QueryRowContext(ctx, "SELECT COUNT(*) FROM former_sids").Scan(&left))
	assert.Zero(t, left, "they go with their accounts")
}

// What a misspelt name may have meant is looked for among names that something uses,
// or that begin alike; an identifier without an account says whose it was.
func TestNamesAlikeAndNamesOfTheGone(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	list := []estate.Account{{StableID: "1", Name: "svc-berth", SID: "S-1-5-21-7-7-7-1104"}, {StableID: "2", Name: "svc-gone", SID: "S-1-5-21-7-7-7-1105"}, {StableID: "3", Name: "tide-reader"}, {StableID: "4", Name: "Straße-feed"}}
	seen := NewSeen()
	require.NoError(t, s.PutAccounts(ctx, id, list, seen, &records.Tally{}))
	_, err = s.EndScopes(ctx, id, []ScopeEnd{{Scope: "accounts", Table: "accounts", Condition: "1", Complete: true, Seen: seen}}, &records.Tally{})
	require.NoError(t, err)
	again := NewSeen()
	require.NoError(t, s.PutAccounts(ctx, id, append(list[:1:1], list[2:]...), again, &records.Tally{}))
	_, err = s.EndScopes(ctx, id, []ScopeEnd{{Scope: "accounts", Table: "accounts", Condition: "1", Complete: true, Seen: again}}, &records.Tally{})
	require.NoError(t, err)

	names, err := s.NamesAlike(ctx, "svc-brth")
	require.NoError(t, err)
	assert.Equal(t, []string{"svc-berth"}, names, "one that is gone is not offered")
	names, err = s.NamesAlike(ctx, "strasse")
	require.NoError(t, err)
	assert.Equal(t, []string{"Straße-feed"}, names, "as it is written")
	lookup, err := s.Lookup(ctx)
	require.NoError(t, err)
	for sid, words := range map[string]string{"S-1-5-21-7-7-7-1105": "it was that of svc-gone on dir, which vanished", "S-1-5-21-7-7-7-1106": "no system here reads"} {
		res, err := naming.Resolve(sid, naming.Context{}, lookup)
		require.NoError(t, err)
		assert.Equal(t, naming.Unknown, res.State, "a memory resolves nothing")
		assert.Contains(t, res.Why, words)
	}
}
