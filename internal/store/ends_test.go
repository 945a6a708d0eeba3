package store

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
)

// counted holds the counts per day against the rows that they are of, and rows against accounts.
func counted(t *testing.T, s *Store) {
	t.Helper()
	var apart int
	require.NoError(t, s.Read.QueryRowContext(t.Context(), `SELECT COUNT(*) FROM (
		SELECT CASE state WHEN 'ends' THEN substr(ordered, 1, 10) ELSE state END AS day, what, live, may_end, COUNT(*) AS n FROM ends GROUP BY 1, 2, 3, 4
		EXCEPT SELECT day, what, live, may_end, n FROM ends_days) `).Scan(&apart))
	assert.Zero(t, apart, "counts are of the rows that are there")
	require.NoError(t, s.Read.QueryRowContext(t.Context(), `SELECT COUNT(*) FROM (SELECT id, account_id, what, state, ordered, why, live FROM account_ends EXCEPT SELECT id, account_id, what, state, ordered, why, live FROM ends)`).Scan(&apart))
	assert.Zero(t, apart, "every account's ends are told as they are")
	require.NoError(t, s.Read.QueryRowContext(t.Context(), `SELECT (SELECT COUNT(*) FROM ends WHERE account_id IS NOT NULL) - (SELECT COUNT(*) FROM account_ends)`).Scan(&apart))
	assert.Zero(t, apart, "and of none that is gone")
}

func TestEndsFollowTheEstate(t *testing.T) {
	s := open(t, t.TempDir())
	system, err := s.AddSystem(t.Context(), records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	store, err := s.AddSystem(t.Context(), records.System{Name: "db", Kind: "postgresql"})
	require.NoError(t, err)
	now := s.Now().UTC().Truncate(time.Second)
	account := func(name string, change func(*estate.Account)) estate.Account {
		a := estate.Account{StableID: "id-" + name, Name: name, Type: "user", Enabled: estate.Yes}
		change(&a)
		return a
	}
	list := []estate.Account{
		account("svc-soon", func(a *estate.Account) { a.PasswordExpires = now.Add(3*time.Hour + 30*time.Minute) }),
		account("svc-past", func(a *estate.Account) {
			a.PasswordExpires = now.Add(-time.Minute)
			a.AccountExpires = now.AddDate(0, 0, 20)
		}),
		account("svc-far", func(a *estate.Account) {
			a.AccountExpires = time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)
			a.NeverExpire = true
		}),
		account("svc-must", func(a *estate.Account) { a.MustChange = true }),
		account("svc-off", func(a *estate.Account) { a.Enabled = estate.No; a.PasswordExpires = now.AddDate(0, 0, 60) }),
		account("svc-untold", func(a *estate.Account) { a.EndsUnknown = "nobody may ask" }),
	}
	exec := func(statement string, args ...any) {
		require.NoError(t, s.InTx(t.Context(), func(tx *sql.Tx) error {
			_, err := tx.ExecContext(t.Context(), statement, args...)
			return err
		}))
	}
	put := func(system records.SystemID, list ...estate.Account) {
		var tally records.Tally
		require.NoError(t, s.PutAccounts(t.Context(), system, list, NewSeen(), &tally))
		counted(t, s)
	}
	put(system, list...)
	put(store, account("reader", func(a *estate.Account) { a.PasswordExpires = now.AddDate(1, 0, 0) }))
	page, err := s.Ends(t.Context(), "", records.Query{})
	require.NoError(t, err)
	type row struct{ what, name, state string }
	var got []row
	for _, e := range page.Items {
		got = append(got, row{string(e.What), e.Name, string(e.State)})
	}
	assert.Equal(t, []row{
		{"password", "svc-must", "ended"},
		{"password", "svc-past", "ends"},
		{"password", "svc-soon", "ends"},
		{"account", "svc-past", "ends"},
		{"password", "svc-off", "ends"},
		{"role", "reader", "ends"},
		{"password", "svc-untold", "unknown"},
		{"account", "svc-untold", "unknown"},
		{"password", "svc-far", "never"},
	}, got)
	never, err := s.Ends(t.Context(), "", records.Query{Filters: []string{"what=account", "state=never"}, Sort: "name"})
	require.NoError(t, err)
	require.Len(t, never.Items, 4)
	assert.Equal(t, "svc-far", never.Items[0].Name)
	assert.Equal(t, "never ends", never.Items[0].Left)
	assert.Equal(t, "ends in 3 hours", page.Items[2].Left)
	parts, err := s.Timeline(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []records.EndsPart{
		{Part: expiry.PartPast, What: expiry.Password, Live: true, Count: 2},
		{Part: expiry.PartWeek, What: expiry.Password, Live: true, Count: 1},
		{Part: expiry.PartMonth, What: expiry.Account, Live: true, Count: 1},
		{Part: expiry.PartQuarter, What: expiry.Password, Count: 1},
		{Part: expiry.PartLater, What: expiry.Role, Live: true, Count: 1},
		{Part: expiry.PartNever, What: expiry.Password, Live: true, Count: 1},
		{Part: expiry.PartNever, What: expiry.Account, Live: true, Count: 3},
		{Part: expiry.PartNever, What: expiry.Account, Count: 1},
		{Part: expiry.PartUnknown, What: expiry.Password, Live: true, Count: 1},
		{Part: expiry.PartUnknown, What: expiry.Account, Live: true, Count: 1},
	}, parts)
	// Changed, gone, back.
	list[0].NeverExpire = true
	put(system, list[0])
	due, err := s.EndsInUse(t.Context(), time.Time{}, now.AddDate(0, 0, 30), 10)
	require.NoError(t, err)
	assert.Empty(t, due, "nothing uses them")
	exec("INSERT INTO credentials (kind, account_id, name, state, first_seen) SELECT 'password', id, name, 'custody', '' FROM accounts WHERE name <> 'svc-soon'")
	due, err = s.EndsInUse(t.Context(), time.Time{}, now.AddDate(0, 0, 30), 10)
	require.NoError(t, err)
	require.Len(t, due, 3)
	assert.Equal(t, "svc-must", due[0].Name)
	exec("UPDATE accounts SET gone = ? WHERE name = 'svc-past'", s.Stamp())
	counted(t, s)
	own, err := s.EndsOf(t.Context(), 2)
	require.NoError(t, err)
	assert.Empty(t, own)
	put(system, list[1])
	own, err = s.EndsOf(t.Context(), 2)
	require.NoError(t, err)
	assert.Len(t, own, 2)
	// Keys and certificates.
	for i, key := range []string{`{"ends":"2031-05-01T10:00:00Z"}`, `{}`, `{"ended":"cannot be read"}`, `null`} {
		exec("INSERT INTO dependents (system_id, kind, place, name, description, runs_as, state, start_mode, executable, schedule, path, uses, after, requires, copy, fingerprint, key, digest, first_seen, seen, changed) VALUES (?, 'authorized key', ?, 'entry', '', '', '', '', '', '', '', 'null', 'null', 'null', 'null', '', ?, x'00', '', '', '')", system, fmt.Sprint(i), key)
	}
	counted(t, s)
	keys, err := s.Ends(t.Context(), "", records.Query{Filters: []string{"what=key"}})
	require.NoError(t, err)
	require.Len(t, keys.Items, 3)
	assert.Equal(t, []expiry.State{expiry.Ended, expiry.Ends, expiry.Never}, []expiry.State{keys.Items[0].State, keys.Items[1].State, keys.Items[2].State})
	assert.Equal(t, time.Date(2031, 5, 1, 10, 0, 0, 0, time.UTC), keys.Items[1].At)
	foundAlike(t, s, system)
	exec("UPDATE dependents SET gone = 'x' WHERE kind = 'authorized key'")
	counted(t, s)
	exec("DELETE FROM credentials")
	exec("DELETE FROM systems WHERE id = ?", system)
	counted(t, s)
}

// foundAlike holds what filters find, which they look for elsewhere than in the list, against
// the whole list.
func foundAlike(t *testing.T, s *Store, system records.SystemID) {
	t.Helper()
	all, err := s.Ends(t.Context(), "", records.Query{Limit: 1000})
	require.NoError(t, err)
	day := s.Now().UTC().AddDate(0, 0, 10)
	for _, c := range []struct {
		query records.Query
		holds func(e records.EndRow) bool
	}{
		{records.Query{Filters: []string{"what=password"}}, func(e records.EndRow) bool { return e.What == expiry.Password }},
		{records.Query{Filters: []string{"what=KEY", "state=ends"}}, func(e records.EndRow) bool { return e.What == expiry.Key && e.State == expiry.Ends }},
		{records.Query{Filters: []string{"what=token"}}, func(records.EndRow) bool { return false }},
		{records.Query{Filters: []string{"system=DIR"}}, func(e records.EndRow) bool { return e.System == "dir" }},
		{records.Query{Filters: []string{"system=nowhere"}}, func(records.EndRow) bool { return false }},
		{records.Query{Filters: []string{"system~D"}}, func(records.EndRow) bool { return true }},
		{records.Query{Search: "d"}, func(records.EndRow) bool { return true }},
		{records.Query{Filters: []string{"system~B"}}, func(e records.EndRow) bool { return e.System == "db" }},
		{records.Query{Filters: []string{fmt.Sprintf("system_id=%d", system)}, Search: "svc"}, func(e records.EndRow) bool { return e.System == "dir" && strings.HasPrefix(e.Name, "svc-") }},
		{records.Query{Filters: []string{"state=ended"}}, func(e records.EndRow) bool { return e.State == expiry.Ended }},
		{records.Query{Filters: []string{"state=Ends"}}, func(e records.EndRow) bool { return e.State == expiry.Ends }},
		{records.Query{Filters: []string{"state=unknown"}}, func(e records.EndRow) bool { return e.State == expiry.Unknown }},
		{records.Query{Filters: []string{"state=never"}}, func(e records.EndRow) bool { return e.State == expiry.Never }},
		{records.Query{Filters: []string{"state!=never"}}, func(e records.EndRow) bool { return e.State != expiry.Never }},
		{records.Query{Filters: []string{"at<" + day.Format(time.RFC3339)}}, func(e records.EndRow) bool { return e.State == expiry.Ends && e.At.Before(day) }},
		{records.Query{Filters: []string{"at>=" + day.Format(time.RFC3339)}}, func(e records.EndRow) bool { return e.State == expiry.Ends && !e.At.Before(day) }},
		{records.Query{Filters: []string{"at>" + day.Format(time.DateOnly)}}, func(e records.EndRow) bool { return e.State == expiry.Ends && e.At.After(day) }},
		{records.Query{Filters: []string{"at="}}, func(e records.EndRow) bool { return e.State != expiry.Ends }},
		{records.Query{Filters: []string{"live=no"}}, func(e records.EndRow) bool { return !e.Live }},
		{records.Query{Filters: []string{"live=yes"}}, func(e records.EndRow) bool { return e.Live }},
		{records.Query{Filters: []string{"account_id=2"}}, func(e records.EndRow) bool { return e.AccountID == 2 }},
		{records.Query{Filters: []string{"dependent_id=1"}}, func(e records.EndRow) bool { return e.DependentID == 1 }},
		{records.Query{Filters: []string{"account_id=0"}}, func(e records.EndRow) bool { return e.AccountID == 0 }},
		{records.Query{Filters: []string{"dependent_id=0"}}, func(e records.EndRow) bool { return e.DependentID == 0 }},
		{records.Query{Filters: []string{"place~"}}, func(records.EndRow) bool { return true }},
		{records.Query{Filters: []string{"name~F"}}, func(e records.EndRow) bool { return strings.Contains(e.Name, "f") }},
		{records.Query{Filters: []string{"place~1"}}, func(e records.EndRow) bool { return e.Place == "1" }},
		{records.Query{Search: "100%"}, func(records.EndRow) bool { return false }},
		{records.Query{Search: "ent"}, func(e records.EndRow) bool { return e.Name == "entry" }},
		{records.Query{Search: "dir", Sort: "-at"}, func(e records.EndRow) bool { return e.System == "dir" }},
	} {
		want := []records.EndID{}
		for _, e := range all.Items {
			if c.holds(e) {
				want = append(want, e.ID)
			}
		}
		page, err := s.Ends(t.Context(), "", c.query)
		require.NoError(t, err, "%+v", c.query)
		got := []records.EndID{}
		for _, e := range page.Items {
			got = append(got, e.ID)
		}
		assert.ElementsMatch(t, want, got, "%v %s", c.query.Filters, c.query.Search)
		assert.Equal(t, len(want), page.Total, "%v %s", c.query.Filters, c.query.Search)
	}
}
