package store

import (
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

// Memberships and rights that are given for a while stand in the list of ends beside accounts,
// found by name, place, system and account, and go when they are taken, or all of it is.
func TestGivenForAWhile(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(3), NewSeen(), &records.Tally{}))
	accounts, err := s.Accounts(ctx, records.Query{Sort: "id"})
	require.NoError(t, err)
	first := accounts.Items[0]
	now := s.Now().UTC().Truncate(time.Second)
	soon, later := now.Add(4*time.Hour), now.AddDate(0, 0, 40)
	l := &rightsLook{Store: s, system: id}
	people := []privilege.Principal{{ID: first.StableID, Kind: privilege.KindAccount, Name: first.Name}, {ID: "crew", Kind: privilege.KindGroup, Name: "Night crew"}, {ID: "stranger", Kind: privilege.KindAccount, Name: "guest"}}
	lies := []privilege.Membership{{Member: first.StableID, Group: "crew", Until: soon}, {Member: first.StableID, Group: "elsewhere"}, {Member: "stranger", Group: "crew", Until: later}}
	lasting := given(first.StableID, "run")
	lasting.What, lasting.Until = "/usr/bin/true", later
	denied := given("stranger", "run")
	denied.Deny, denied.Until = true, later
	l.read(t, true, "", people, lies, tables(lasting, denied, given("stranger", "select")))

	list := func(filters ...string) (out []string) {
		t.Helper()
		page, err := s.Ends(ctx, "", records.Query{Filters: filters, Limit: 100})
		require.NoError(t, err)
		for _, e := range page.Items {
			if e.What == expiry.Membership || e.What == expiry.Right {
				assert.Less(t, int64(e.ID), int64(1)<<53, "readers of JSON have no larger numbers exactly")
				out = append(out, string(e.What)+" "+e.Name+" "+e.Place+" "+e.At.Format(time.RFC3339))
			}
		}
		return out
	}
	crew, run, guest := "membership "+first.Name+" Night crew "+soon.Format(time.RFC3339), "right "+first.Name+" run /usr/bin/true "+later.Format(time.RFC3339), "membership guest Night crew "+later.Format(time.RFC3339)
	assert.ElementsMatch(t, []string{crew, run, guest}, list())
	assert.Equal(t, []string{crew, guest}, list("what=membership"))
	assert.Equal(t, []string{run}, list("what=right"))
	assert.ElementsMatch(t, []string{crew, guest}, list("place~crew"))
	assert.Equal(t, []string{guest}, list("name~gues"))
	assert.Len(t, list("system=dir"), 3)
	assert.Len(t, list("system~di"), 3)
	assert.Empty(t, list("system=other"))
	assert.Equal(t, []string{crew}, list("account_id="+first.ID.String(), "what=membership"))
	assert.Equal(t, []string{guest}, list("account_id=0"))
	of, err := s.EndsOf(ctx, first.ID)
	require.NoError(t, err)
	assert.Equal(t, expiry.Membership, of[0].What)
	parts, err := s.Timeline(ctx)
	require.NoError(t, err)
	counts := map[expiry.What]int{}
	for _, p := range parts {
		counts[p.What] += p.Count
	}
	assert.Equal(t, []int{2, 1}, []int{counts[expiry.Membership], counts[expiry.Right]})
	days := func() (n int) {
		t.Helper()
		rows, err := s.EndsByDay(ctx, "", "~")
		require.NoError(t, err)
		for _, d := range rows {
			if d.What == expiry.Membership || d.What == expiry.Right {
				n += d.Count
			}
		}
		return n
	}
	assert.Equal(t, 3, days())

	// The same again is no change; later ends, and what was taken, are followed.
	l.read(t, true, "", people, lies, tables(lasting, denied, given("stranger", "select")))
	assert.Len(t, list(), 3)
	lies[0].Until = later
	lies[2].Until = time.Time{}
	l.read(t, true, "", people, lies, tables(denied, given("stranger", "select")))
	assert.Equal(t, []string{"membership " + first.Name + " Night crew " + later.Format(time.RFC3339)}, list())
	assert.Equal(t, 1, days())
	l.read(t, true, "", people, lies, tables(lasting))
	assert.Len(t, list(), 2)
	require.NoError(t, s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM right_lists WHERE system_id = ?", id)
		if err == nil {
			_, err = tx.ExecContext(ctx, "DELETE FROM right_principals WHERE system_id = ?", id)
		}
		return err
	}))
	assert.Empty(t, list())
	assert.Zero(t, days())
}
