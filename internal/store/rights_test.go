package store

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
)

func given(to, verb string) privilege.Entry {
	return privilege.Entry{To: to, Verb: verb, Text: "GRANT " + verb + " TO " + to}
}

func tables(entries ...privilege.Entry) privilege.List {
	return privilege.List{Key: "table:fares", Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "table", Name: "fares"}}, Entries: entries}
}

type rightsLook struct {
	*Store
	system records.SystemID
	sight  string
}

// read is one reading of the rights of a system.
func (l *rightsLook) read(t *testing.T, complete bool, why string, principals []privilege.Principal, memberships []privilege.Membership, lists ...privilege.List) {
	t.Helper()
	seen := NewRightsSeen()
	require.NoError(t, l.PutRights(t.Context(), l.system, principals, memberships, lists, seen))
	require.NoError(t, l.EndRights(t.Context(), l.system, seen, RightsReading{Complete: complete, Why: why, Sight: l.sight}))
}

func (l *rightsLook) texts(t *testing.T, taken bool, filters ...string) (out []string) {
	t.Helper()
	page, err := l.GivenRights(t.Context(), taken, records.Query{Filters: filters})
	require.NoError(t, err)
	for _, v := range page.Items {
		out = append(out, v.To+" "+v.May)
	}
	return out
}

// What is given is kept once, what is taken back stays with the time of that, and only a
// reading that saw everything may say so.
func TestRightsOverTime(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := t.Context()
	id, err := s.AddSystem(ctx, records.System{Name: "bookings-db", Kind: "postgresql"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(3), NewSeen(), &records.Tally{}))
	accounts, err := s.Accounts(ctx, records.Query{Sort: "id"})
	require.NoError(t, err)
	first := accounts.Items[0]
	l := &rightsLook{Store: s, system: id}
	read, err := s.RightsRead(ctx, id)
	require.NoError(t, err)
	assert.True(t, read.Never)

	who := []privilege.Principal{{ID: first.StableID, Kind: privilege.KindAccount, Name: first.Name}, {ID: "crew", Kind: privilege.KindRole, Name: "crew"}}
	lies := []privilege.Membership{{Member: first.StableID, Group: "crew", How: "may give it to others"}, {Member: first.StableID, Group: "deck", Term: "after SET ROLE deck"}}
	l.read(t, true, "", who, lies, tables(given("crew", "select"), given(first.StableID, "insert"), given(first.StableID, "insert")))
	page, err := s.GivenRights(ctx, false, records.Query{Filters: []string{"verb=insert"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 2, "two alike are two")
	assert.Equal(t, first.ID, page.Items[0].AccountID)
	assert.Equal(t, "table fares", page.Items[0].On)
	ids := []records.GivenRightID{page.Items[0].ID, page.Items[1].ID}

	principals, memberships, lists, err := s.RightsOf(ctx, id)
	require.NoError(t, err)
	assert.ElementsMatch(t, who, principals)
	assert.ElementsMatch(t, lies, memberships)
	require.Len(t, lists, 1)
	assert.Len(t, lists[0].Entries, 3)

	// The same again writes nothing; another place and another order are no other right.
	moved := given("crew", "select")
	moved.Source = "line 7"
	l.read(t, true, "", who, lies, tables(given(first.StableID, "insert"), given(first.StableID, "insert"), moved))
	page, err = s.GivenRights(ctx, false, records.Query{Filters: []string{"verb=insert"}})
	require.NoError(t, err)
	assert.ElementsMatch(t, ids, []records.GivenRightID{page.Items[0].ID, page.Items[1].ID})
	assert.Empty(t, l.texts(t, true))
	page, err = s.GivenRights(ctx, false, records.Query{Filters: []string{"source=line 7"}})
	require.NoError(t, err)
	assert.Len(t, page.Items, 1)

	// A reading that was cut off takes nothing away, and says what it did not read.
	l.read(t, false, "database tides: the steward may not connect to it", nil, nil)
	assert.Len(t, l.texts(t, false), 3)
	read, err = s.RightsRead(ctx, id)
	require.NoError(t, err)
	assert.False(t, read.Completed.IsZero(), "when all was read at last")
	assert.Contains(t, read.Why, "may not connect")

	// A list that was read tells by itself what it has no more; one that a complete reading
	// did not see is gone with all it gave.
	l.read(t, false, "x", who, lies, tables(given(first.StableID, "insert")))
	assert.Len(t, l.texts(t, false), 1)
	assert.ElementsMatch(t, []string{"crew select", first.Name + " insert"}, l.texts(t, true))
	l.read(t, true, "", who[1:], nil)
	assert.Empty(t, l.texts(t, false))
	principals, _, lists, err = s.RightsOf(ctx, id)
	require.NoError(t, err)
	assert.Len(t, principals, 1)
	assert.Empty(t, lists)

	// What comes back is there again, beside what it was.
	l.read(t, true, "", who, lies, tables(given("crew", "select")))
	assert.Equal(t, []string{"crew select"}, l.texts(t, false))
	assert.Len(t, l.texts(t, true, "verb=select"), 1)
	require.NoError(t, s.RemoveSystem(ctx, id))
	assert.Empty(t, l.texts(t, true), "with the system goes all of it")
}

// A list of many parts, and lists of thousands.
func TestManyRights(t *testing.T) {
	s := open(t, t.TempDir())
	id, err := s.AddSystem(t.Context(), records.System{Name: "domain", Kind: "directory"})
	require.NoError(t, err)
	l := &rightsLook{Store: s, system: id}
	var principals []privilege.Principal
	var memberships []privilege.Membership
	var lists []privilege.List
	for i := range 1700 {
		key := fmt.Sprint("p", i)
		principals = append(principals, privilege.Principal{ID: key, Kind: privilege.KindAccount, Name: key})
		memberships = append(memberships, privilege.Membership{Member: key, Group: "p0"})
		lists = append(lists, privilege.List{Key: key, Decides: privilege.DecidesFirst, Objects: []privilege.Object{{Kind: "account", Name: key}}, Entries: []privilege.Entry{given("p0", "reset password"), {To: key, Verb: "delete", Deny: true}}})
	}
	for range 2 {
		l.read(t, true, "", principals, memberships, lists...)
		of, lies, known, err := s.RightsOf(context.Background(), id)
		require.NoError(t, err)
		assert.Len(t, of, 1700)
		assert.Len(t, lies, 1700)
		assert.Len(t, known, 1700)
	}
	l.read(t, true, "", principals[:10], memberships[:10], lists[:10]...)
	read, err := s.RightsRead(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, read.Why, "1690 of 1700 lists of rights vanished at once")
	assert.Empty(t, l.texts(t, true), "until a person says so nothing is gone")
	_, err = s.ConfirmAbsence(t.Context(), id)
	require.NoError(t, err)
	l.read(t, true, "", principals[:10], memberships[:10], lists[:10]...)
	page, err := s.GivenRights(t.Context(), true, records.Query{Limit: 1})
	require.NoError(t, err)
	assert.NotEmpty(t, page.Next)
	assert.Len(t, l.texts(t, false), 20)
}

// With another log-on less may be in sight: what is not seen then is not gone.
func TestRightsOutOfSight(t *testing.T) {
	s := open(t, t.TempDir())
	id, err := s.AddSystem(t.Context(), records.System{Name: "domain", Kind: "directory"})
	require.NoError(t, err)
	l := &rightsLook{Store: s, system: id, sight: "mossmgr"}
	other := tables(given("p", "update"))
	other.Key = "other"
	who := []privilege.Principal{{ID: "p", Kind: privilege.KindAccount, Name: "p"}}
	l.read(t, true, "", who, nil, tables(given("p", "select")), other)
	l.sight = "moss-two"
	l.read(t, true, "", who, nil, tables(given("p", "select")))
	assert.Len(t, l.texts(t, false), 2)
	read, err := s.RightsRead(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, read.Why, "1 lists of rights that were there before are not seen with the log-on")
	l.sight = "mossmgr"
	l.read(t, true, "", who, nil, tables(given("p", "select")))
	assert.Equal(t, []string{"p update"}, l.texts(t, true), "with the sight of before it is gone")
	read, err = s.RightsRead(t.Context(), id)
	require.NoError(t, err)
	assert.False(t, read.Completed.IsZero())
	assert.True(t, read.Whole.IsZero(), "a reading of this kind leaves nothing out")
}

// Who is known by a name of somewhere else is found by it, in either spelling, and nobody else.
func TestSystemsNaming(t *testing.T) {
	s := open(t, t.TempDir())
	var ids []records.SystemID
	for _, name := range []string{"north1", "skerry1", "quay1"} {
		id, err := s.AddSystem(t.Context(), records.System{Name: name, Kind: "windows-host"})
		require.NoError(t, err)
		ids = append(ids, id)
	}
	named := func(names ...string) (out []privilege.Principal) {
		for _, name := range names {
			out = append(out, privilege.Principal{ID: privilege.NamedPrefix + name, Kind: privilege.KindAccount, Name: name})
		}
		return out
	}
	(&rightsLook{Store: s, system: ids[0]}).read(t, true, "", named(`larkmoor\svc-tide`, `larkmoor\svc-tide-two`), nil)
	(&rightsLook{Store: s, system: ids[1]}).read(t, true, "", named("svc-tide@larkmoor.example", `larkmoor\old-svc-tide`), nil)
	(&rightsLook{Store: s, system: ids[2]}).read(t, true, "", []privilege.Principal{{ID: "svc-tide", Kind: privilege.KindAccount, Name: "svc-tide"}, {ID: `m:x\svc-tide`, Kind: privilege.KindAccount, Name: "x"}}, nil)
	for account, want := range map[string][]records.SystemID{"svc-tide": ids[:2], "SVC-Tide": ids[:2], "svc-tide-two": ids[:1], "old-svc-tide": ids[1:2], "tide": nil, "": nil, `larkmoor\svc-tide`: nil, "%": nil} {
		got, err := s.SystemsNaming(t.Context(), account)
		require.NoError(t, err)
		assert.ElementsMatch(t, want, got, "%q", account)
	}
}
