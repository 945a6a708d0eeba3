package assembly_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/app/reachability"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// lines are those of a charter that hold now, in words, but for those that are as they should be.
func (f *ferry) lines(name string, also ...charter.State) (out []string) {
	f.t.Helper()
	page, err := f.Store.CharterLines(f.t.Context(), false, records.Query{Filters: []string{"charter=" + name}, Limit: 1000})
	require.NoError(f.t, err)
	for _, l := range page.Items {
		if l.State != charter.StateMet || slices.Contains(also, l.State) {
			out = append(out, strings.TrimSpace(l.System+"/"+l.Account+" "+string(l.State)+": "+l.Item))
		}
	}
	return out
}

func (f *ferry) label(label string, accounts ...string) {
	f.t.Helper()
	for _, a := range accounts {
		require.NoError(f.t, f.Labels.Put(f.t.Context(), ines, f.account(a).ID, label, "its role"))
	}
}

// What charters come to is seen after each survey; what was lost is told as that, and what is
// given back is no finding any more. Both stay in what charters came to.
func TestCharters(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	fuel := larkmoor.Charters["fuelcard-reader.yaml"]
	_, err := f.Charters.Save(ctx, ines, "fuelcard-reader", fuel, 0)
	require.NoError(t, err)
	checked, err := f.Charters.Check(ctx, ines, "fuelcard-reader")
	require.NoError(t, err)
	assert.Empty(t, checked.States, "it is for nobody yet")

	f.label("fuelcard-reader", "bookings1/svc-fuelcard")
	checked, err = f.Charters.Check(ctx, ines, "fuelcard-reader")
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"met": 5}, checked.States)
	assert.Empty(t, f.lines("fuelcard-reader"))
	assert.Empty(t, f.findings("charter-missing"))

	f.estate.Reorganise()
	f.survey("bookings1")
	assert.Equal(t, []string{"bookings1/svc-fuelcard missing: member of cardreaders"}, f.lines("fuelcard-reader"))
	found := f.findings("charter-missing")
	require.Len(t, found, 1)
	assert.Contains(t, found[0].What, "it lost what it needs by the charter fuelcard-reader: member of cardreaders; what depends on it fails at its next start")
	page, err := f.Store.CharterLines(ctx, false, records.Query{Filters: []string{"state=missing"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	lost := page.Items[0]
	assert.Equal(t, charter.StateMet, lost.Was)
	assert.Equal(t, "usermod -aG cardreaders svc-fuelcard\n", lost.Proposal.Text)
	assert.Equal(t, "gpasswd -d svc-fuelcard cardreaders\n", lost.Proposal.Back)
	assert.Equal(t, "the reader's device belongs to this group", lost.Because)
	assert.True(t, f.estate.Hosts["bookings1"].Restart("fuelcard.service") == false, "it says the truth: the service does not start")

	f.estate.Hosts["bookings1"].SetGroups("svc-fuelcard", "cardreaders")
	f.survey("bookings1")
	assert.Empty(t, f.lines("fuelcard-reader"))
	assert.Empty(t, f.findings("charter-missing"))
	page, err = f.Store.CharterLines(ctx, true, records.Query{Filters: []string{"item~cardreaders"}, Sort: "id"})
	require.NoError(t, err)
	var states []string
	for _, l := range page.Items {
		states = append(states, string(l.State))
		assert.False(t, l.Ended.Before(l.Since), "it was so from then until then")
	}
	assert.Equal(t, []string{"met", "missing"}, states)

	// Who takes the label away, or the charter, ends what it came to.
	require.NoError(t, f.Labels.Drop(ctx, ines, f.account("bookings1/svc-fuelcard").ID, "fuelcard-reader", "test"))
	_, err = f.Charters.Compare(ctx)
	require.NoError(t, err)
	assert.Empty(t, f.lines("fuelcard-reader", charter.StateMet))
}

// A charter of accounts in a directory and on hosts: through groups, one account on several
// systems, groups that must exist; and what was not read is no answer.
func TestChartersAcross(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	_, err := f.Charters.Save(ctx, ines, "terminal-service", larkmoor.Charters["terminal-service.yaml"], 0)
	require.NoError(t, err)
	f.label("terminal-service", "dir/svc-berth", "dir/svc-gangway")
	_, err = f.Charters.Check(ctx, ines, "terminal-service")
	require.NoError(t, err)
	assert.Equal(t, []string{
		"dir/svc-berth forbidden: never: reset password on every account", "dir/svc-gangway forbidden: never: reset password on every account",
		"dir/svc-berth differs: its password was changed within 90 days",
	}, f.lines("terminal-service"))
	found := f.findings("charter-forbidden")
	require.Len(t, found, 2)
	assert.Contains(t, found[0].What, "through Terminal Services > Operations")
	page, err := f.Store.CharterLines(ctx, false, records.Query{Filters: []string{"state=forbidden", "account=svc-berth"}})
	require.NoError(t, err)
	assert.Equal(t, "dn: CN=Operations,OU=Groups,"+larkmoor.Base+"\nchangetype: modify\ndelete: member\nmember: CN=Terminal Services,OU=Groups,"+larkmoor.Base+"\n-\n", page.Items[0].Proposal.Text, "the group that it must lie in leaves the other one")

	matrix, err := f.Charters.Matrix(ctx, "terminal-service", 1)
	require.NoError(t, err)
	assert.Len(t, matrix.Rows, 1)
	assert.Equal(t, 1, matrix.More)
	require.Len(t, matrix.Items, 6)
	assert.Equal(t, charter.StateForbidden, matrix.Rows[0].Cells[2])

	tide := "charter: tide\nlabel: tide\none_on: [tide1, quay1]\ngroups: [{name: tide}, {name: tidewatch, because: the gauges write there}]\nmust: [{run: /usr/bin/true}]\n"
	_, err = f.Charters.Save(ctx, ines, "tide", tide, 0)
	require.NoError(t, err)
	f.label("tide", "tide1/tide")
	_, err = f.Charters.Check(ctx, ines, "tide")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"quay1/ missing: an account tide", "tide1/ missing: group tidewatch", "tide1/tide missing: run /usr/bin/true"}, f.lines("tide"))

	// A steward that sees no rights: what would be missing is unknown.
	f.change("tide1", func(v *records.System) { v.Options = map[string]string{"rights": "off"} })
	_, err = f.Charters.Check(ctx, ines, "tide")
	require.NoError(t, err)
	assert.Contains(t, f.lines("tide"), "tide1/tide missing: run /usr/bin/true", "what was read stays")
}

// Charters are kept by version, with what was changed in the ledger, by those who may.
func TestCharterVersions(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	first := "charter: a\nlabel: x\nmust: [{run: /usr/bin/true}]\n"
	v, err := f.Charters.Save(ctx, ines, "a", first, 0)
	require.NoError(t, err)
	_, err = f.Charters.Save(ctx, ines, "a", first, 0)
	require.ErrorIs(t, err, records.ErrConflict)
	second := "charter: a\nlabel: y\nmust: [{run: /usr/bin/false}]\n"
	w, err := f.Charters.Save(ctx, ben, "a", second, v.Version)
	require.NoError(t, err)
	assert.Equal(t, v.Version+1, w.Version)
	_, err = f.Charters.Save(ctx, ines, "a", first, v.Version)
	require.ErrorIs(t, err, records.ErrStale)
	_, err = f.Charters.Save(ctx, ines, "b", first, 0)
	require.ErrorIs(t, err, app.ErrInput, "a text is kept under the name that it says")
	_, err = f.Charters.Save(ctx, ines, "ready", "charter: ready\n", 0)
	require.ErrorIs(t, err, app.ErrInput, "words of the interface are no names")
	_, err = f.Charters.Save(ctx, ines, "a", "charter: a\nmust: [{}]\n", w.Version)
	require.ErrorContains(t, err, "line 2: must[0]: say one of member_of, run, do and reach")
	for _, role := range access.Roles() {
		_, err := f.Charters.Save(ctx, access.Actor{Name: "x", Roles: []string{role}}, "n", "charter: n\n", 0)
		if role == access.RoleAdministrator {
			require.NoError(t, err)
			continue
		}
		require.ErrorIs(t, err, access.ErrDenied, role)
	}
	versions, err := f.Store.CharterVersions(ctx, "a")
	require.NoError(t, err)
	require.Len(t, versions, 2)
	assert.Equal(t, []string{second, first}, []string{versions[0].Document, versions[1].Document})
	assert.Equal(t, "ben", versions[0].ChangedBy)

	require.NoError(t, f.Charters.Remove(ctx, ines, "a", w.Version))
	entries, err := f.Store.EntriesFrom(ctx, 0, 10_000)
	require.NoError(t, err)
	var fields []string
	for _, e := range entries {
		if e.Act == "charter.save" && e.Subject == "a" && e.Actor == "ben" {
			for _, c := range e.Changes {
				fields = append(fields, c.Field+" "+c.From+" > "+c.To)
			}
		}
	}
	assert.Equal(t, []string{"label x > y", "must run /usr/bin/true > ", "must  > run /usr/bin/false"}, fields)
	versions, err = f.Store.CharterVersions(ctx, "a")
	require.NoError(t, err)
	assert.Len(t, versions, 2, "what it said stays")
	again, err := f.Charters.Save(ctx, ines, "a", first, 0)
	require.NoError(t, err)
	assert.Equal(t, int64(3), again.Version, "one that comes again goes on with its versions")
}

// What is drafted from an account holds for it, and says of which systems not all was known.
func TestDraftedCharter(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	fuel := f.account("bookings1/svc-fuelcard")
	made, err := f.Charters.Draft(ctx, ines, "drafted", []records.AccountID{fuel.ID})
	require.NoError(t, err)
	assert.Empty(t, made.Unread)
	assert.Contains(t, made.Document, "run: /usr/bin/systemctl restart fuelcard.service")
	assert.Contains(t, made.Document, "member_of: cardreaders")
	f.label("drafted", "bookings1/svc-fuelcard")
	preview, err := f.Charters.Preview(ctx, ines, made.Document)
	require.NoError(t, err)
	assert.Equal(t, 1, preview.Accounts)
	for _, l := range preview.Lines {
		assert.Equal(t, charter.StateMet, l.State, l.Item)
	}
	page, err := f.Store.Charters(ctx, records.Query{})
	require.NoError(t, err)
	assert.Empty(t, page.Items, "nothing is kept by it")
	preview, err = f.Charters.Preview(ctx, ines, "charter: [\n")
	require.NoError(t, err)
	assert.NotEmpty(t, preview.Problems)
	_, err = f.Charters.Draft(ctx, ines, "drafted", nil)
	require.ErrorIs(t, err, app.ErrInput)
}

// A service that was ended while charters were compared goes on where it was; a restored
// backup says what it said.
func TestChartersAfterTheService(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	_, err := f.Charters.Save(ctx, ines, "manifest-import", larkmoor.Charters["manifest-import.yaml"], 0)
	require.NoError(t, err)
	f.label("manifest-import", "bookings1/manifest")
	_, err = f.Charters.Check(ctx, ines, "manifest-import")
	require.NoError(t, err)
	want := f.lines("manifest-import")
	require.NotEmpty(t, want)
	f.Stop()
	require.NoError(t, f.Store.Close())
	f.reopen()
	assert.Equal(t, want, f.lines("manifest-import"))
	page, err := f.Store.CharterLines(ctx, true, records.Query{})
	require.NoError(t, err)
	before := page.Total
	changed, err := f.Charters.Compare(ctx)
	require.NoError(t, err)
	assert.Zero(t, changed, "nothing is otherwise than before")
	page, err = f.Store.CharterLines(ctx, true, records.Query{})
	require.NoError(t, err)
	assert.Equal(t, before, page.Total)
	assert.Equal(t, want, f.lines("manifest-import"))
}

// Ports that a role needs are asked from the account's own host when a charter is checked; what
// they answered stays what is known until they are asked again.
func TestCharterPorts(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	host, port := larkmoor.Port(f.estate.Hosts["bookings1"].Address())
	own := fmt.Sprintf("%s:%d", host, port)
	text := "charter: ports\nlabel: ports\nmust:\n  - reach: ssh://" + own + "\n  - reach: " + host + ":1\nnever:\n  - reach: " + own + "\n"
	f.label("ports", "bookings1/svc-fuelcard")
	_, err := f.Charters.Save(ctx, ines, "ports", text, 0)
	require.NoError(t, err)
	_, err = f.Charters.Compare(ctx)
	require.NoError(t, err)
	for _, l := range f.lines("ports") {
		if strings.Contains(l, "reach") {
			assert.Contains(t, l, "unknown", "nobody has asked yet")
		}
	}
	_, err = f.Charters.Check(ctx, ines, "ports")
	require.NoError(t, err)
	got := f.lines("ports", charter.StateMet)
	assert.Contains(t, got, "bookings1/svc-fuelcard met: reach ssh://"+own)
	assert.Contains(t, got, "bookings1/svc-fuelcard missing: reach "+host+":1")
	assert.Contains(t, got, "bookings1/svc-fuelcard forbidden: never: reach "+own)
	page, err := f.Store.Probes(ctx, records.Query{})
	require.NoError(t, err)
	require.Len(t, page.Items, 3)
	for _, p := range page.Items {
		assert.Equal(t, "bookings1", p.From)
		assert.Equal(t, "ines", p.AskedBy)
	}
	f.survey("bookings1")
	assert.Equal(t, got, f.lines("ports", charter.StateMet))

	// Many at once, from several places; what cannot be asked says so and holds up no other.
	list, err := f.Reach.Probe(ctx, ines, reachability.Wish{Asks: []reach.Ask{{Target: own}, {Target: host + ":1"}}, From: []string{"", "quay1", "dir"}})
	require.NoError(t, err)
	var outcomes []string
	for _, p := range list {
		outcomes = append(outcomes, p.From+" "+string(p.Outcome))
	}
	assert.Equal(t, []string{" open", " refused", "quay1 open", "quay1 refused", "dir not-probed", "dir not-probed"}, outcomes)
	_, err = f.Reach.Probe(ctx, access.Actor{Name: "x", Roles: []string{access.RoleViewer}}, reachability.Wish{Asks: []reach.Ask{{Target: own}}})
	require.ErrorIs(t, err, access.ErrDenied)
	_, err = f.Reach.Probe(ctx, ines, reachability.Wish{Asks: []reach.Ask{{Target: "http://169.254.169.254/"}}})
	require.ErrorIs(t, err, app.ErrInput)
	require.NoError(t, f.estate.Hosts["quay1"].Close())
	list, err = f.Reach.Probe(ctx, ines, reachability.Wish{Asks: []reach.Ask{{Target: own}}, From: []string{"quay1", "quay2"}})
	require.NoError(t, err)
	assert.Equal(t, reach.Unprobed, list[0].Outcome)
	assert.Equal(t, reach.Open, list[0].Was)
	assert.Equal(t, reach.Open, list[1].Outcome, "another host that is away holds up none")
}

// Charters are part of what a team decided as text: all of it or nothing.
func TestCharterTexts(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	text := func(charters string) configuration.Document {
		var d configuration.Document
		require.NoError(t, json.Unmarshal([]byte(`{"format":"moss-configuration-1","charters":{`+charters+`}}`), &d))
		return d
	}
	did := f.applied(ines, text(`"a":{"document":"charter: a\nlabel: x\n"},"b":{"document":"charter: b\n"}`))
	assert.Len(t, did.Changes, 2)
	v, err := f.Store.Charter(ctx, "a")
	require.NoError(t, err)
	assert.Equal(t, "x", v.Label)
	did = f.applied(ines, text(`"a":{"document":"charter: a\nlabel: y\n"}`))
	assert.Len(t, did.Changes, 2, "one is changed, and the one that the text has not is removed")
	_, err = f.Store.Charter(ctx, "b")
	require.ErrorIs(t, err, app.ErrNotFound)
	_, err = f.Texts.Preview(ctx, ines, text(`"a":{"document":"charter: a\n"},"c":{"document":"charter: other\n"}`))
	require.ErrorIs(t, err, app.ErrInput)
	v, err = f.Store.Charter(ctx, "a")
	require.NoError(t, err)
	assert.Equal(t, "y", v.Label, "nothing of a text that cannot be is kept")
}
