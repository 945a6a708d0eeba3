package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/changes"
	"mossledger.example/moss/internal/store/database"
)

// looks is an estate of one system that is read again and again.
type looks struct {
	*Store
	t      *testing.T
	system records.SystemID
	survey records.SurveyID
}

type look struct {
	sight      string
	incomplete bool
	accounts   []estate.Account
	dependents []estate.Dependent
}

// read takes in a look, and returns what it told, the earliest first.
func (l *looks) read(v look) []string {
	l.t.Helper()
	ctx := l.t.Context()
	l.survey++
	accounts, dependents := NewSeen(), NewSeen()
	for _, seen := range []*Seen{accounts, dependents} {
		seen.Look = changes.Look{Survey: l.survey, Sight: v.sight}
	}
	require.NoError(l.t, l.PutAccounts(ctx, l.system, v.accounts, accounts, &records.Tally{}))
	require.NoError(l.t, l.PutDependents(ctx, l.system, v.dependents, dependents, &records.Tally{}))
	end := func(scope, table, condition string, seen *Seen, fleeting bool) ScopeEnd {
		return ScopeEnd{Scope: scope, Table: table, Condition: condition, Complete: !v.incomplete, Seen: seen, Sight: v.sight, Begun: l.now(), Fleeting: fleeting}
	}
	_, err := l.EndScopes(ctx, l.system, []ScopeEnd{end("accounts", "accounts", "1", accounts, false), end("units", "dependents", "kind = 'unit'", dependents, false), end("files", "dependents", "kind = 'file'", dependents, false), end("processes", "dependents", "kind = 'process'", dependents, true)}, &records.Tally{})
	require.NoError(l.t, err)
	return l.told(fmt.Sprintf("survey_id=%d", l.survey))
}

func (l *looks) told(filters ...string) []string {
	page, err := l.Changes(l.t.Context(), time.Time{}, time.Time{}, records.Query{Filters: filters, Sort: "id"})
	require.NoError(l.t, err)
	out := []string{}
	for _, v := range page.Items {
		out = append(out, fmt.Sprintf("%s %s %s [%s] by %s", v.What, v.Subject, v.Name, v.Words, v.MadeBy))
	}
	return out
}

func newLooks(t *testing.T) *looks {
	s := open(t, t.TempDir())
	id, err := s.AddSystem(t.Context(), records.System{Name: "quay1", Kind: "unix-host", Site: "north"})
	require.NoError(t, err)
	return &looks{Store: s, t: t, system: id}
}

func (l *looks) now() time.Time { return database.TimeOf(l.Stamp()) }

// write changes the database beside the store.
func (l *looks) write(statement string) {
	require.NoError(l.t, l.InTx(l.t.Context(), func(tx *sql.Tx) error {
		_, err := tx.ExecContext(l.t.Context(), statement)
		return err
	}))
}

func someone(id, name, enabled string, groups ...string) estate.Account {
	return estate.Account{StableID: id, Name: name, Type: "local", Enabled: estate.Tristate(enabled), Groups: groups}
}

func runs(name, as string) estate.Dependent {
	return estate.Dependent{Kind: estate.DependentUnit, Place: name, Name: name, RunsAs: as}
}

// What became of things is told once, and only what a look can tell: what a complete
// look with the same sight did not show before is new, what it does not show now is gone.
func TestWhatBecameOfThings(t *testing.T) {
	l := newLooks(t)
	assert.Equal(t, []string{"new system quay1 [] by people"}, l.told())
	berth, backup := someone("1", "svc-berth", "yes", "berthing"), someone("2", "svc-backup", "yes")
	unit, file := runs("berth.service", "svc-berth"), estate.Dependent{Kind: estate.DependentFile, Place: "/etc/b#P", Copy: &estate.Copy{Format: "env", Fingerprint: "f1"}}
	everything := look{sight: "a", accounts: []estate.Account{berth, backup}, dependents: []estate.Dependent{unit, file}}
	assert.Empty(t, l.read(everything), "the first look shows how it is, and no changes")
	assert.Empty(t, l.read(everything), "nothing changed")

	more := everything
	more.accounts = append(more.accounts[:2:2], someone("3", "svc-new", "yes"))
	more.dependents = []estate.Dependent{runs("berth.service", "odile"), file, runs("tide.service", "svc-new"), {Kind: estate.DependentProcess, Place: "700", Name: "sh"}, {Kind: estate.DependentFile, Place: "/etc/motd", Copy: &estate.Copy{Format: estate.FormatMention}}}
	assert.Equal(t, []string{
		"new account svc-new [] by others", "changed dependent berth.service [runs as: svc-berth → odile] by others", "new dependent tide.service [] by others",
	}, l.read(more), "a process and a mention are none")

	less := more
	less.accounts, less.dependents = []estate.Account{someone("1", "svc-berth", "no", "berthing", "operators"), more.accounts[2]}, more.dependents[:2]
	less.incomplete = true
	assert.Equal(t, []string{"changed account svc-berth [enabled: yes → no; groups: now with operators] by others"}, l.read(less), "what an incomplete look does not show may be there")
	less.incomplete = false
	assert.Equal(t, []string{"gone account svc-backup [] by others", "gone dependent tide.service [] by others"}, l.read(less))
	assert.Empty(t, l.read(less), "gone once")

	again := less
	again.accounts = append(again.accounts[:2:2], someone("2", "svc-backup", "no"))
	assert.Equal(t, []string{"back account svc-backup [enabled: yes → no] by others"}, l.read(again))

	wider := again
	wider.sight, wider.accounts = "another log-on", append(again.accounts[:3:3], someone("4", "svc-hidden", "yes"))
	assert.Empty(t, l.read(wider), "another sight sees what was there all along")
	wider.accounts = append(wider.accounts[:4:4], someone("5", "svc-really-new", "yes"))
	assert.Equal(t, []string{"new account svc-really-new [] by others"}, l.read(wider))
}

// A log-on that somebody changed is found for its rule; what people do to systems is kept,
// and a removed system takes what was seen on it along.
func TestChangesOfLogOnsAndSystems(t *testing.T) {
	l := newLooks(t)
	ctx := t.Context()
	l.read(look{dependents: []estate.Dependent{runs("berth.service", "svc-berth"), runs("tide.service", "svc-tide")}})
	changed := runs("tide.service", "svc-tide")
	changed.Executable = "/usr/bin/tide"
	l.read(look{dependents: []estate.Dependent{runs("berth.service", "odile"), changed}})
	list, err := l.LogOnChanges(ctx, l.system, l.now().Add(-time.Hour))
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "berth.service", list[0].Name)
	list, err = l.LogOnChanges(ctx, l.system, l.now().Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, list)

	v, err := l.SystemByID(ctx, l.system)
	require.NoError(t, err)
	require.NoError(t, l.ChangeSystem(ctx, v, v.Revision), "nothing was changed")
	v.Site, v.Options, v.TrustedCA = "south", map[string]string{"search": "off"}, "a certificate"
	require.NoError(t, l.ChangeSystem(ctx, v, v.Revision+1))
	require.ErrorIs(t, l.ChangeSystem(ctx, v, v.Revision), records.ErrStale)
	require.NoError(t, l.ApproveHostKey(ctx, l.system, "SHA256:one", "ines"), "the first is no change")
	require.NoError(t, l.ApproveHostKey(ctx, l.system, "SHA256:two", "ines"))
	require.NoError(t, l.RemoveSystem(ctx, l.system))
	told := l.told("made_by=people")
	require.Len(t, told, 4)
	assert.Contains(t, told[1], "option search: nothing → off; site: north → south; trusted certificate: nothing → sha256:")
	assert.NotContains(t, told[1], "a certificate")
	assert.Equal(t, "changed system quay1 [host key: SHA256:one → SHA256:two] by people", told[2])
	assert.Equal(t, "gone system quay1 [] by people", told[3])
	assert.Len(t, l.told(), 4, "what was seen on it went with it")
}

// What a rotation set at a place is told as its own, also when a survey sees it; what
// somebody changed there beside it is not.
func TestWhatRotationsChange(t *testing.T) {
	l := newLooks(t)
	service := func(name, stored, executable string) estate.Dependent {
		return estate.Dependent{Kind: estate.DependentUnit, Place: name, RunsAs: "svc-berth", Stores: true, Stored: stored, Executable: executable}
	}
	entry := func(path, fingerprint string) estate.Dependent {
		return estate.Dependent{Kind: estate.DependentAuthorized, Place: path + "#" + fingerprint, Path: path, Key: &estate.Key{Fingerprint: fingerprint}}
	}
	l.read(look{accounts: []estate.Account{someone("1", "svc-berth", "yes")}, dependents: []estate.Dependent{service("Berth", "f1", "a"), service("Tide", "f1", "a"), service("Other", "f1", "a"), entry("/root/keys", "SHA256:a")}})
	l.write(`INSERT INTO credentials (id, kind, account_id, name, state, taken, rotated, first_seen) VALUES (9, 'password', 1, 'svc-berth', 'custody', '2020', '` + l.Stamp() + `', '2020');
		INSERT INTO rotations (id, credential_id, name, authority, plan, policy, mode, result, requested_by, reason, override, started, ended) VALUES (7, 9, 'svc-berth', 'quay1', '{"steps":[{"system_id":"` + l.system.String() + `","subject":"Berth"},{"system_id":"` + l.system.String() + `","subject":"Tide"},{"system_id":"99","subject":"Other"},{"system_id":"` + l.system.String() + `","subject":"/root/keys"}]}', 'undo', 'finished', 'done', 'ines', '', '', '` + l.Stamp() + `', '` + l.Stamp() + `')`)
	account := someone("1", "svc-berth", "yes")
	account.PasswordChanged = l.now()
	assert.Equal(t, []string{
		"changed account svc-berth [password changed: nothing → " + account.PasswordChanged.Format(time.RFC3339) + "] by moss-ledger",
		"changed dependent Berth [value: one value → another value] by moss-ledger",
		"changed dependent Tide [executable: a → b; value: one value → another value] by others",
		"changed dependent Other [value: one value → another value] by others",
		"new dependent /root/keys#SHA256:b [] by moss-ledger",
		"new dependent /home/keys#SHA256:c [] by others",
	}, l.read(look{accounts: []estate.Account{account}, dependents: []estate.Dependent{service("Berth", "f2", "a"), service("Tide", "f2", "b"), service("Other", "f2", "a"), entry("/root/keys", "SHA256:b"), entry("/home/keys", "SHA256:c"), entry("/root/keys", "SHA256:a")}}))

	account.PasswordChanged = account.PasswordChanged.Add(3 * time.Hour)
	assert.Equal(t, "by others", l.read(look{accounts: []estate.Account{account}, dependents: []estate.Dependent{service("Berth", "f3", "a")}})[0][len("changed account svc-berth [password changed: 2026-01-01T00:00:00Z → 2026-01-01T00:00:00Z] "):], "a password of another hour is somebody else's")
	assert.Equal(t, []string{"changed dependent Berth [value: one value → another value] by others"}, l.told(fmt.Sprintf("survey_id=%d", l.survey), "what=changed", "subject=dependent"), "the rotation had ended before the last look")
}

func TestOldChangesAreDropped(t *testing.T) {
	l := newLooks(t)
	ctx := context.WithoutCancel(t.Context())
	var rows strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&rows, "('2025-01-01T00:%02d:00Z', 'system', 'new', 'x', 'y', 'z'),", i%60)
	}
	l.write("INSERT INTO changes (at, subject, what, name, kind, system) VALUES " + strings.TrimSuffix(rows.String(), ","))
	require.NoError(t, l.PruneChanges(ctx, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)))
	assert.Len(t, l.told(), 1)
}

// What a rotation gives a dependent to run as is what it is tied to from that moment on,
// and is told as the rotation's; nothing is tied that was not tied before.
func TestALogOnThatARotationGives(t *testing.T) {
	l := newLooks(t)
	ctx := t.Context()
	l.read(look{accounts: []estate.Account{someone("1", "svc-berth", "yes"), someone("2", "svc-new", "yes")}, dependents: []estate.Dependent{runs("berth.service", "svc-berth"), runs("tide.service", "svc-berth"), runs("free.service", "")}})
	tie := ties.Tie{Account: "1", Evidence: estate.Configured, Strength: estate.StrengthRunsAs, Detail: "runs as svc-berth"}
	held := ties.Tie{Account: "1", Evidence: estate.Held, Strength: estate.StrengthMatches, Detail: "holds it"}
	require.NoError(t, l.PutTies(ctx, map[records.DependentID][]ties.Tie{1: {tie, held}, 2: {tie}}))
	c, err := l.NotePassword(ctx, 2)
	require.NoError(t, err)
	r := records.Rotation{CredentialID: c.ID, Credential: "svc-new", OnFailure: "undo"}
	r.ID, err = l.BeginRotation(ctx, r)
	require.NoError(t, err)
	given := func(place string) records.LogOnIs {
		return records.LogOnIs{SystemID: l.system, Place: estate.Place{Kind: estate.DependentUnit, Place: place}, AccountID: 2, Account: "svc-new", Fingerprint: "f"}
	}
	generation := l.Generation()
	require.NoError(t, l.AppendJournal(ctx, r, rotation.Record{Seq: 1, Event: rotation.EventOutcome, Step: 0, Result: "done"}, "running", "", records.Effects{LogOns: []records.LogOnIs{given("berth.service"), given("free.service")}}))
	assert.NotEqual(t, generation, l.Generation(), "a picture that is kept is drawn anew")
	tied := func(id records.DependentID) (out []string) {
		d, err := l.Dependent(ctx, id)
		require.NoError(t, err)
		for _, v := range d.Ties {
			out = append(out, string(v.Evidence)+" "+v.Account)
		}
		return append(out, "runs as "+d.RunsAs)
	}
	assert.Equal(t, []string{"held svc-berth", "configured svc-new", "runs as svc-new"}, tied(1))
	assert.Equal(t, []string{"configured svc-berth", "runs as svc-berth"}, tied(2))
	assert.Equal(t, []string{"runs as svc-new"}, tied(3))
	assert.Equal(t, []string{"changed dependent berth.service [runs as: svc-berth → svc-new] by moss-ledger", "changed dependent free.service [runs as: nothing → svc-new] by moss-ledger"}, l.told("made_by=moss-ledger"))
	// Undoing gives the old one back.
	back := given("berth.service")
	back.AccountID, back.Account = 1, "svc-berth"
	require.NoError(t, l.AppendJournal(ctx, r, rotation.Record{Seq: 2, Event: rotation.EventOutcome, Step: 0, Undo: true, Result: "done"}, "undoing", "", records.Effects{LogOns: []records.LogOnIs{back}}))
	assert.Equal(t, []string{"held svc-berth", "configured svc-berth", "runs as svc-berth"}, tied(1))
}

// A quiet time is that of both who take turns, and of what depends on either; what is new,
// and what we did, begins none.
func TestQuietTimesOfBothWhoTakeTurns(t *testing.T) {
	l := newLooks(t)
	account := func(name, shown string) estate.Account {
		return estate.Account{StableID: name, Name: name, Type: "user", DisplayName: shown, Enabled: estate.Yes}
	}
	l.read(look{accounts: []estate.Account{account("fares_a", ""), account("fares_b", ""), account("other", "")}})
	ids := map[string]records.AccountID{}
	page, err := l.Accounts(t.Context(), records.Query{})
	require.NoError(t, err)
	for _, a := range page.Items {
		ids[a.Name] = a.ID
	}
	latest := func(name string) string {
		v, err := l.LatestChangeByOthers(t.Context(), ids[name], time.Time{})
		if err != nil {
			require.ErrorIs(t, err, records.ErrNotFound)
			return ""
		}
		return v.Name
	}
	assert.Empty(t, latest("fares_a"))
	l.read(look{accounts: []estate.Account{account("fares_a", ""), account("fares_b", "changed"), account("other", "")}})
	assert.Empty(t, latest("fares_a"), "they do not take turns")
	for i, name := range []string{"fares_a", "fares_b"} {
		l.write(fmt.Sprintf("INSERT INTO credentials (id, kind, account_id, name, state, taken, first_seen) VALUES (%d, 'password', %d, '%s', 'custody', '2020', '2020')", i+1, ids[name], name))
	}
	l.write("INSERT INTO tandems (working, resting, added, added_by) VALUES (1, 2, '2020', 'ines')")
	assert.Equal(t, "fares_b", latest("fares_a"), "what rests was changed by somebody")
	assert.Equal(t, "fares_b", latest("fares_b"))
	assert.Empty(t, latest("other"))
	l.read(look{accounts: []estate.Account{account("fares_a", "too"), account("fares_b", "changed"), account("other", "")}})
	assert.Equal(t, "fares_a", latest("fares_a"), "the latest of both")
	v, err := l.LatestChangeByOthers(t.Context(), ids["fares_a"], l.now())
	require.ErrorIs(t, err, records.ErrNotFound, "%+v", v)
}
