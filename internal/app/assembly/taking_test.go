package assembly_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/labels"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// spare adds accounts to the directory that nothing uses.
func (f *ferry) spare(names ...string) {
	f.t.Helper()
	for _, name := range names {
		f.estate.Directory.Add(directory.Entry{DN: larkmoor.DN(name), Password: "Spare-" + name + "-44", Attributes: map[string][]string{
			"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {name}, "cn": {name}, "userPrincipalName": {name + "@larkmoor.example"},
		}})
	}
	f.survey("dir")
}

// rule saves one as a person would, after its preview.
func (f *ferry) rule(draft labels.Draft) labels.Preview {
	f.t.Helper()
	p, err := f.Labels.Preview(f.t.Context(), ines, draft)
	require.NoError(f.t, err)
	_, err = f.Labels.Save(f.t.Context(), ines, draft, p.Mark)
	require.NoError(f.t, err)
	return p
}

func (f *ferry) look() string {
	f.t.Helper()
	words, err := f.Taking.Look(f.t.Context())
	require.NoError(f.t, err)
	return words
}

// What a rule has taken into custody is taken in its window, by a password that nobody else
// has: not before, not while all is frozen, never what something depends on or an exclusion
// names; and what a person released stays released.
func TestTakenByARule(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	f.spare("svc-jetty", "svc-mooring", "svc-pontoon", "svc-slipway")
	f.estate.Directory.Update(larkmoor.DN("svc-slipway"), func(e *directory.Entry) {
		e.Attributes["lastLogonTimestamp"] = []string{fmt.Sprint((time.Now().Add(-40*24*time.Hour).Unix() + 11644473600) * 10_000_000)}
	})
	f.survey("dir")
	begins := by.now().UTC().Add(10 * time.Minute).Format("2006-01-02T15:04")
	_, err := f.Policies.SaveWindow(ctx, ines, records.Window{Name: "nights", Rule: "FREQ=DAILY", Begins: begins, Zone: "UTC", Minutes: 240})
	require.NoError(t, err)
	_, err = f.Policies.Save(ctx, ines, records.Policy{Name: "quarterly", Label: "service", Precedence: 1, Window: "nights", PolicySettings: records.PolicySettings{EveryDays: 90}})
	require.NoError(t, err)

	// An exclusion wins.
	f.rule(labels.Draft{Name: "not-pontoon", Label: "service", Excludes: true, Condition: `account.name == "svc-pontoon"`})
	draft := labels.Draft{Name: "services", Label: "service", Condition: `account.name in ["svc-jetty", "svc-mooring", "svc-pontoon", "svc-slipway", "svc-berth", "svc-fuelcard", "mossmgr"] && system.name == "dir"`, TakeIn: "nights"}
	p := f.rule(draft)
	assert.Equal(t, 2, p.Takes)
	var taken []string
	for _, v := range p.Takings {
		if v.Takes {
			taken = append(taken, v.Account)
		} else {
			assert.NotEmpty(t, v.Words, v.Account)
		}
		if v.Account == "svc-berth" {
			assert.Contains(t, v.Words, "it is used, or may be, by ")
		}
		if v.Account == "mossmgr" {
			assert.Contains(t, v.Words, "Moss Ledger may sign in with it itself")
		}
		if v.Account == "svc-slipway" {
			assert.Contains(t, v.Words, "it signed in at ")
		}
		if v.Account == "svc-fuelcard" {
			assert.Contains(t, v.Words, "it is not known to be enabled")
		}
	}
	assert.ElementsMatch(t, []string{"svc-jetty", "svc-mooring"}, taken)
	assert.Contains(t, p.Rows[0].Means, "policy quarterly (once it is in custody)")

	assert.Contains(t, f.look(), "0 were taken now", "its window is not open")
	by.pass(11 * time.Minute)
	_, err = f.Freeze.Begin(ctx, ines, "storm")
	require.NoError(t, err)
	assert.Contains(t, f.look(), "0 were taken now", "everything is frozen")
	_, err = f.Freeze.End(ctx, ines, "over")
	require.NoError(t, err)
	// One that came to be used since.
	mooring := f.account("svc-mooring")
	_, err = f.Picture.Declare(ctx, ines, mooring, picture.Declared{Place: "the old boat house", Reason: "its gate"})
	require.NoError(t, err)
	assert.Contains(t, f.look(), "1 were taken now")
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-mooring"), "Spare-svc-mooring-44"))

	jetty := f.account("svc-jetty")
	c := cred(f, jetty)
	require.True(t, c.InCustody())
	values, err := f.Sealed.Values(ctx, c.ID)
	require.NoError(t, err)
	assert.True(t, f.estate.Directory.Accepts(larkmoor.DN("svc-jetty"), values.Current.RevealString()))
	assert.False(t, cred(f, f.account("svc-pontoon")).InCustody())
	assert.Contains(t, f.told("custody.reset"), notice.Notice)
	assert.Contains(t, f.look(), "0 were taken now")
	assert.Empty(t, f.findings("not-taken"))

	require.NoError(t, f.Custody.Release(ctx, ines, "another team has it", c))
	by.pass(48 * time.Hour)
	f.look()
	assert.False(t, cred(f, jetty).InCustody())

	// A system that nobody can read may have what uses it.
	_, err = f.Inventory.Add(ctx, ines, records.System{Name: "north9", Kind: "unix-host", Address: "192.0.2.9", Steward: "hosts"})
	require.NoError(t, err)
	draft.Name = "others"
	p, err = f.Labels.Preview(ctx, ines, draft)
	require.NoError(t, err)
	assert.Zero(t, p.Takes)
	assert.Contains(t, fmt.Sprint(p.Takings), "not read completely (north9): something there may use it")
	draft.TakeUnread = true
	p, err = f.Labels.Preview(ctx, ines, draft)
	require.NoError(t, err)
	assert.Equal(t, 1, p.Takes)

	// Its window is needed.
	w, err := f.Store.Window(ctx, "nights")
	require.NoError(t, err)
	require.NoError(t, f.Policies.Remove(ctx, ines, "quarterly", 1))
	err = f.Policies.RemoveWindow(ctx, ines, "nights", w.Revision)
	require.ErrorContains(t, err, `the rule "services" takes accounts into custody in it`)
	for words, draft := range map[string]labels.Draft{
		`there is no window "noon"`:  {Name: "x", Label: "x", Condition: "true", TakeIn: "noon"},
		"takes nothing into custody": {Name: "x", Label: "x", Condition: "true", TakeIn: "nights", Excludes: true},
	} {
		_, err := f.Labels.Preview(ctx, ines, draft)
		require.ErrorIs(t, err, app.ErrInput)
		require.ErrorContains(t, err, words)
	}
}

// What cannot be taken is a finding, is not tried over and over, and stops nobody else; where
// a second person is needed it is not taken at all.
func TestNotTakenByARule(t *testing.T) {
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	f.spare("svc-jetty", "svc-mooring")
	_, err := f.Policies.SaveWindow(ctx, ines, records.Window{Name: "always", Rule: "FREQ=DAILY", Begins: "2026-01-01T00:00", Zone: "UTC", Minutes: 1439})
	require.NoError(t, err)
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	require.NoError(t, f.Store.PutLabel(ctx, records.HandLabel{AccountID: f.account("svc-mooring").ID, Label: "quay", SetBy: "ines"}))
	_, err = f.Policies.SaveRequirement(ctx, ines, records.Requirement{Name: "quay", Label: "quay"}, "")
	require.NoError(t, err)
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "dir", larkmoor.ManagerDN, secret.New("no longer that"), secret.Value{}))
	f.rule(labels.Draft{Name: "spare", Label: "spare", Condition: `account.name in ["svc-jetty", "svc-mooring"]`, TakeIn: "always"})
	f.look()
	require.Len(t, f.findings("not-taken"), 1)
	found := f.findings("not-taken")[0]
	assert.Equal(t, "svc-jetty", found.Subject)
	assert.Contains(t, found.What, "the rule spare would have it in custody, and it could not be taken: ")
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "dir", larkmoor.ManagerDN, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	assert.Equal(t, "1 are asked for, 0 were taken now", f.look(), "not on the same day")
	by.pass(25 * time.Hour)
	assert.Equal(t, "2 are asked for, 1 were taken now", f.look())
	assert.Empty(t, f.findings("not-taken"))
	assert.False(t, cred(f, f.account("svc-mooring")).InCustody())
}
