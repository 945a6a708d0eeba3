package assembly_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rights"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/windowshost"
)

// What hosts of a domain give to accounts of its directory: seen with the account, asked of
// the host, and held against a charter that names hosts.
func TestRightsOnHostsOfADomain(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	ctx := t.Context()
	skerry := f.estate.Windows["skerry1"]
	all, err := f.Rights.Of(ctx, f.account("dir/svc-terminal").ID)
	require.NoError(t, err)
	var lines []string
	for _, there := range all.Elsewhere {
		for _, r := range there.Rights {
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s as %s: %s %s on %s; %s", there.System, there.Name, r.May, r.What, r.On, r.Through)))
		}
	}
	for _, want := range []string{
		`north1 as svc-terminal@larkmoor.example: perhaps sign in as a service on the system;`,
		`skerry1 as LARKMOOR\svc-terminal: sign in as a service on the system; LARKMOOR\Terminal Services (as its directory tells)`,
		`skerry1 as LARKMOOR\svc-terminal: debug programs  on the system;`,
		`skerry1 as LARKMOOR\svc-terminal: change  on service QuayLineFares;`,
	} {
		assert.Contains(t, lines, want)
	}
	who, err := f.Rights.Who(ctx, rights.Question{System: "skerry1", Verb: "change", Object: "service:QuayLineFares"})
	require.NoError(t, err)
	holders := map[string]records.AccountID{}
	for _, h := range who.Holders {
		holders[h.Name] = h.AccountID
	}
	assert.Equal(t, f.account("dir/svc-terminal").ID, holders[`LARKMOOR\svc-terminal`], "%v", holders)
	_, err = f.Rights.Who(ctx, rights.Question{System: "skerry1", Verb: "delete", Object: "service:QuayLineFares"})
	require.NoError(t, err, "no entry has the verb, and one has everything")
	_, err = f.Rights.Who(ctx, rights.Question{System: "skerry1", Verb: "dleete"})
	require.ErrorIs(t, err, app.ErrInput)

	_, err = f.Charters.Save(ctx, ines, "terminal-service", larkmoor.Charters["terminal-service.yaml"], 0)
	require.NoError(t, err)
	f.label("terminal-service", "dir/svc-terminal", "dir/svc-gangway", "dir/svc-quayline")
	check := func() (out []string) {
		_, err := f.Charters.Check(ctx, ines, "terminal-service")
		require.NoError(t, err)
		for _, line := range f.lines("terminal-service", charter.StateMet) {
			if !strings.HasPrefix(line, "dir/") {
				out = append(out, line)
			}
		}
		return out
	}
	assert.ElementsMatch(t, []string{
		"skerry1/svc-terminal forbidden: never: debug programs",
		"skerry1/svc-terminal met: sign in (as a service)", "skerry1/svc-quayline met: sign in (as a service)", "skerry1/svc-quayline met: never: debug programs",
		"north1/svc-terminal unknown: sign in (as a service)", "north1/svc-quayline unknown: sign in (as a service)",
		"north1/svc-terminal unknown: never: debug programs", "north1/svc-quayline unknown: never: debug programs",
	}, check(), "nothing is said of one that no host knows")

	// What it could do on hosts counts where accounts are ranked.
	risk := func(account string) string {
		page, err := f.Store.Risks(ctx, records.Query{Filters: []string{"system=dir", "account=" + account}})
		require.NoError(t, err)
		require.Len(t, page.Items, 1, account)
		return page.Items[0].Words
	}
	assert.Contains(t, risk("svc-terminal"), "comes to administrator in one step on one host, may change on service QuayLineFares on skerry1 (50)")
	assert.Contains(t, risk("mossmgr"), "may do everything on 2 hosts, north1 and others (66)")

	// The policy forgets one: its services run, and will not start again.
	skerry.SetPolicy(windowshost.LogOnAsService, `LARKMOOR\svc-quayline`, `NT SERVICE\ALL SERVICES`)
	f.survey("skerry1")
	assert.Contains(t, check(), "skerry1/svc-terminal missing: sign in (as a service)")
	found := f.findings("charter-missing")
	require.Len(t, found, 1)
	assert.Contains(t, found[0].What, "sign in (as a service); what depends on it fails at its next start")
	page, err := f.Store.CharterLines(ctx, false, records.Query{Filters: []string{"state=missing"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "add LARKMOOR\\svc-terminal to SeServiceLogonRight\n", page.Items[0].Proposal.Text)
	a := f.take("svc-terminal")
	rehearsed, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), planning.Request{OnFailure: rotation.StopOnFailure})
	require.NoError(t, err)
	assert.Equal(t, "failed", rehearsed.Verdict, "what a restart would break is told before it")
	words := fmt.Sprintf("%+v", rehearsed.Checks)
	assert.Contains(t, words, "a policy of the domain does not let it log on as a service there: its next start fails (event 7041)")
	assert.Equal(t, windowshost.Running, skerry.State("KioskAgent"))
	skerry.Stop("KioskAgent", "")
	assert.NotZero(t, skerry.Start("KioskAgent"), "it says the truth")

	// Who is named for the host is held there, known or not.
	_, err = f.Charters.Save(ctx, ines, "gangway", "charter: gangway\nlabel: gangway\nmust: [{do: sign in, what: as a service, systems: [skerry1]}]\n", 0)
	require.NoError(t, err)
	f.label("gangway", "dir/svc-gangway")
	_, err = f.Charters.Check(ctx, ines, "gangway")
	require.NoError(t, err)
	assert.Contains(t, f.lines("gangway"), "skerry1/svc-gangway missing: sign in (as a service)")
}

// The charters to begin with for accounts on windows hosts say what they should of the estate.
func TestReadyChartersOfWindowsHosts(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	for _, r := range charter.AllReady() {
		if strings.Contains(r.Name, "windows") {
			_, err := f.Charters.Save(t.Context(), ines, r.Name, r.Document, 0)
			require.NoError(t, err)
		}
	}
	f.label("windows-service", "dir/svc-terminal", "dir/svc-quayline")
	f.label("steward-windows-host", "dir/mossmgr", "dir/svc-terminal")
	for _, name := range []string{"windows-service", "steward-windows-host"} {
		_, err := f.Charters.Check(t.Context(), ines, name)
		require.NoError(t, err)
	}
	lines := f.lines("windows-service", charter.StateMet)
	for _, want := range []string{
		"skerry1/svc-terminal forbidden: never: change on every service", "skerry1/svc-quayline unknown: never: change on every service",
		"skerry1/svc-terminal forbidden: never: debug programs", "skerry1/svc-quayline met: sign in (as a service)",
	} {
		assert.Contains(t, lines, want)
	}
	lines = f.lines("steward-windows-host", charter.StateMet)
	for _, want := range []string{"skerry1/mossmgr met: member of S-1-5-32-544", "north1/mossmgr met: member of S-1-5-32-544", "skerry1/svc-terminal unknown: member of S-1-5-32-544", "skerry1/svc-terminal forbidden: never: sign in (as a service)"} {
		assert.Contains(t, lines, want)
	}
}

// What a host gives no longer is known no longer, though a host never tells all; who may do
// what to services is asked once a week, and when a person asks for the host.
func TestRightsThatHostsTakeBack(t *testing.T) {
	t.Parallel()
	by := &clock{}
	f := startBy(t, by)
	ctx := t.Context()
	f.windows("skerry1")
	skerry := f.estate.Windows["skerry1"]
	holders := func(verb, object string) string {
		who, err := f.Rights.Who(ctx, rights.Question{System: "skerry1", Verb: verb, Object: object})
		require.NoError(t, err)
		var names []string
		for _, h := range who.Holders {
			names = append(names, h.Name)
		}
		return fmt.Sprint(names)
	}
	byItself := func() {
		id, err := f.Surveys.Start(ctx, access.Service(), []string{"skerry1"})
		require.NoError(t, err)
		f.surveyed(id)
	}
	skerry.AddMember("Administrators", `LARKMOOR\svc-gangway`)
	f.survey("skerry1")
	assert.Contains(t, holders("everything", ""), `LARKMOOR\svc-gangway`)
	assert.Contains(t, holders("change", "service:QuayLineFares"), `LARKMOOR\svc-terminal`)

	skerry.RemoveMember("Administrators", `LARKMOOR\svc-gangway`)
	skerry.UpdateService("QuayLineFares", func(s *windowshost.Service) { s.Descriptor = nil })
	calls := skerry.Calls("GetBinaryValue")
	byItself()
	assert.NotContains(t, holders("everything", ""), `LARKMOOR\svc-gangway`, "it lies in nothing there any more")
	assert.Equal(t, calls, skerry.Calls("GetBinaryValue"), "services are not asked about each time")
	assert.Contains(t, holders("change", "service:QuayLineFares"), `LARKMOOR\svc-terminal`, "what was known of them stays")
	taken, err := f.Store.GivenRights(ctx, true, records.Query{Filters: []string{"system=skerry1"}})
	require.NoError(t, err)
	assert.Empty(t, taken.Items)

	by.pass(8 * 24 * time.Hour)
	byItself()
	assert.Greater(t, skerry.Calls("GetBinaryValue"), calls)
	assert.NotContains(t, holders("change", "service:QuayLineFares"), `LARKMOOR\svc-terminal`)
	taken, err = f.Store.GivenRights(ctx, true, records.Query{Filters: []string{"system=skerry1", "on~QuayLineFares"}})
	require.NoError(t, err)
	assert.Len(t, taken.Items, 4, "administrators and the account, by the descriptor that is no longer there")
	read, err := f.Rights.Read(ctx, records.System{ID: taken.Items[0].SystemID})
	require.NoError(t, err)
	assert.WithinDuration(t, by.now(), read.Whole, time.Minute)
	assert.True(t, read.Completed.IsZero(), "not all there is")
}
