package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
	"mossledger.example/moss/internal/store/people"
)

// What is drawn is counted: every part of a picture by rows that are made for it,
// and what is gone or disabled in none.
func TestPictures(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	now := s.Now()
	ago := func(days int) time.Time { return now.Add(-time.Duration(days) * day) }
	id, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "unix-host", Site: "north"})
	require.NoError(t, err)
	_, err = s.AddSystem(ctx, records.System{Name: "dock9", Kind: "unix-host"})
	require.NoError(t, err)
	exec := func(query string, args ...any) {
		require.NoError(t, s.InTx(ctx, func(tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, query, args...)
			return err
		}))
	}
	exec("UPDATE systems SET state = 'ok', read_completely = ? WHERE id = ?", database.StampOf(ago(0)), id)
	var accounts []estate.Account
	add := func(expires, changed time.Time, never bool, enabled estate.Tristate) {
		accounts = append(accounts, estate.Account{StableID: fmt.Sprint(len(accounts)), Name: fmt.Sprintf("svc-%d", len(accounts)), Enabled: enabled, PasswordExpires: expires, PasswordChanged: changed, NeverExpire: never})
	}
	add(ago(1), ago(400), false, estate.Yes)               // past, 3 years
	add(ago(-3), ago(20), false, estate.Yes)               // 7, 30
	add(ago(-20), ago(60), false, estate.Yes)              // 30, 90
	add(ago(-60), ago(200), false, estate.Yes)             // 90, 365
	add(ago(-400), ago(3000), false, estate.Yes)           // later, older
	add(time.Time{}, time.Time{}, true, estate.Yes)        // never, unknown
	add(time.Time{}, time.Time{}, false, estate.Yes)       // unknown, unknown
	add(ago(1), ago(1), false, estate.No)                  // disabled
	add(ago(1), ago(1), false, estate.Tristate("unknown")) // nobody knows
	require.NoError(t, s.PutAccounts(ctx, id, accounts, NewSeen(), &records.Tally{}))
	for i, raised := range []int{0, 3, 20, 90} {
		exec("INSERT INTO findings (key, kind, severity, subject, system, what, next, raised, seen) VALUES (?, 'down', 'high', 'x', 'quay1', 'w', 'n', ?, '')", fmt.Sprint(i), database.StampOf(ago(raised).Add(time.Minute)))
	}
	exec("INSERT INTO findings (key, kind, severity, subject, system, what, next, raised, seen, cleared) VALUES ('over', 'down', 'high', 'x', 'quay1', 'w', 'n', ?, '', ?)", database.StampOf(ago(1)), database.StampOf(now))

	p, err := s.Pictures(ctx)
	require.NoError(t, err)
	assert.Equal(t, []records.Share{{Of: "", Is: "never", Count: 1}, {Of: "north", Is: "read", Count: 1}}, p.Coverage)
	parts := func(list []records.Share) map[string]int {
		out := map[string]int{}
		for _, v := range list {
			out[v.Is] += v.Count
		}
		return out
	}
	assert.Equal(t, map[string]int{"past": 1, "7": 1, "30": 1, "90": 1, "later": 1, "never": 1, "unknown": 1}, parts(p.Ends))
	assert.Equal(t, map[string]int{"1095": 1, "30": 1, "90": 1, "365": 1, "older": 1, "unknown": 2}, parts(p.Ages))
	assert.Equal(t, map[string]int{"1": 1, "7": 1, "30": 1, "older": 1}, parts(p.Findings))
	assert.Empty(t, p.Rotations)
	assert.NotNil(t, p.Rotations, "an empty list, not none")
}

// Computers and what systems come with are told apart from accounts of programs,
// and never hidden once something is known to use them.
func TestBuiltIn(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "quay1", Kind: "unix-host"})
	require.NoError(t, err)
	const domain = "S-1-5-21-1-2-3-"
	accounts := []estate.Account{
		{StableID: "1", Name: "daemon", UID: "1", Type: "local"},
		{StableID: "2", Name: "nobody", UID: "65534", Type: "local"},
		{StableID: "3", Name: "berth", UID: "1001", Type: "local"},
		{StableID: "4", Name: "Administrator", SID: domain + "500", Type: "user"},
		{StableID: "5", Name: "krbtgt", SID: domain + "502", Type: "user"},
		{StableID: "6", Name: "svc-berth", SID: domain + "1500", Type: "user"},
		{StableID: "7", Name: "QUAY1$", SID: domain + "1601", Type: "computer"},
		{StableID: "8", Name: "www-data", UID: "33", Type: "local"},
	}
	for i := range accounts {
		accounts[i].Enabled = estate.Yes
	}
	require.NoError(t, s.PutAccounts(ctx, id, accounts, NewSeen(), &records.Tally{}))
	names := func(filter string) (out []string) {
		page, err := s.Accounts(ctx, records.Query{Filters: []string{filter}, Limit: 50})
		require.NoError(t, err)
		for _, v := range page.Items {
			assert.Equal(t, filter == "built_in=true", v.BuiltIn, v.Name)
			out = append(out, v.Name)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"daemon", "nobody", "Administrator", "krbtgt", "QUAY1$", "www-data"}, names("built_in=true"))
	assert.ElementsMatch(t, []string{"berth", "svc-berth"}, names("built_in=false"))

	require.NoError(t, s.PutDependents(ctx, id, []estate.Dependent{{Kind: "unit", Place: "nginx.service", Name: "nginx.service"}}, NewSeen(), &records.Tally{}))
	require.NoError(t, s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO ties (account_id, dependent_id, evidence, strength, detail, first_seen, seen) SELECT a.id, d.id, 'configured', 'effective', '', '', '' FROM accounts a, dependents d WHERE a.name = 'www-data'")
		return err
	}))
	assert.Contains(t, names("built_in=false"), "www-data", "a program runs as it")
}

// Settings are a person's own, few, and gone with the person.
func TestSettings(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	for _, name := range []string{"ines", "odile"} {
		require.NoError(t, s.AddUser(ctx, records.User{Name: name, Password: "x", Roles: []string{"viewer"}}, false))
	}
	keep := func(user, name, value string) error { return s.KeepSetting(ctx, user, name, json.RawMessage(value)) }
	require.NoError(t, keep("ines", "rows", "50"))
	require.NoError(t, keep("ines", "rows", "100"))
	require.NoError(t, keep("ines", "columns-accounts", `["name","system"]`))
	require.NoError(t, keep("odile", "rows", "25"))
	kept, err := s.Settings(ctx, "ines")
	require.NoError(t, err)
	assert.Equal(t, map[string]json.RawMessage{"rows": json.RawMessage("100"), "columns-accounts": json.RawMessage(`["name","system"]`)}, kept)
	require.NoError(t, keep("ines", "rows", "null"))
	kept, err = s.Settings(ctx, "ines")
	require.NoError(t, err)
	assert.Len(t, kept, 1)
	require.Error(t, keep("nobody", "rows", "1"), "of somebody who is not there")
	for i := range people.MostSettings - 1 {
		require.NoError(t, keep("ines", fmt.Sprintf("view-%d", i), "1"))
	}
	require.ErrorIs(t, keep("ines", "one-more", "1"), records.ErrConflict)
	require.NoError(t, keep("ines", "view-3", "2"), "what is there may change")
}
