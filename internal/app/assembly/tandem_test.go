package assembly_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/datastore"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// tandem has the two roles of the fares take turns.
func (f *ferry) tandem() (a, b records.Account, v records.Tandem) {
	f.t.Helper()
	f.stores()
	a, b = f.account("bookings-db/fares_a"), f.account("bookings-db/fares_b")
	for _, account := range []records.Account{a, b} {
		_, err := f.Custody.Take(f.t.Context(), ines, cred(f, account), secret.New(larkmoor.Passwords[account.Name]))
		require.NoError(f.t, err)
	}
	f.survey()
	v, err := f.Tandems.Add(f.t.Context(), ines, cred(f, a), cred(f, b), "the feed never stands still")
	require.NoError(f.t, err)
	return a, b, v
}

const feed = "/etc/fares/feed.env"

// uses is which account the feed signs in as, with a value that the database accepts.
func (f *ferry) feeds() string {
	f.t.Helper()
	for _, path := range []string{feed, "/var/lib/tide/.pgpass"} {
		name, value := "", ""
		for line := range strings.Lines(f.file("tide1", path)) {
			line = strings.TrimSpace(line)
			if v, found := strings.CutPrefix(line, "FARES_USER="); found {
				name = v
			}
			if v, found := strings.CutPrefix(line, "FARES_PASSWORD="); found {
				value = strings.Trim(v, `'"`)
			}
			if fields := strings.SplitN(line, ":", 5); len(fields) == 5 {
				name, value = fields[3], fields[4]
			}
		}
		require.True(f.t, f.estate.Bookings.Accepts(name, value), "%s has what the database refuses: %s", path, name)
		if path != feed {
			return name
		}
	}
	return ""
}

func (f *ferry) currentIs(a records.Account) secret.Value {
	f.t.Helper()
	v, err := f.Sealed.Values(f.t.Context(), cred(f, a).ID)
	require.NoError(f.t, err)
	return v.Current
}

// TestTwoAccountsTakeTurns: there and back, the feed is never refused, what rests is refused
// and is not gone, and its policy follows the one that works.
func TestTwoAccountsTakeTurns(t *testing.T) {
	t.Parallel()
	f := start(t)
	a, b, v := f.tandem()
	assert.Equal(t, "ready", v.State)
	for turn, pair := range [][2]records.Account{{a, b}, {b, a}} {
		was, next := pair[0], pair[1]
		before := f.currentIs(was)
		r := f.rotate(was, rotation.UndoOnFailure)
		require.Equal(t, rotation.FinishedDone, r.Result)
		require.NotNil(t, r.Plan.Turn)
		assert.Equal(t, next.Name, f.feeds())
		assert.False(t, f.estate.Bookings.Accepts(was.Name, before.RevealString()), "it rests")
		assert.True(t, f.currentIs(was).Equal(before), "the value of what rests is as it was")
		assert.True(t, f.estate.Bookings.Accepts(next.Name, f.currentIs(next).RevealString()))
		f.survey()
		at, err := f.Store.TandemOf(t.Context(), cred(f, a).ID)
		require.NoError(t, err)
		assert.Equal(t, [3]string{next.Name, was.Name, records.TandemRests}, [3]string{at.Working.Account, at.Resting.Account, at.State})
		rests, err := f.Store.Account(t.Context(), was.ID)
		require.NoError(t, err)
		assert.True(t, rests.Gone.IsZero(), "what rests is not gone")
		assert.Equal(t, estate.No, rests.Enabled)
		assert.Equal(t, "current retired", f.states(next.ID), "turn %d: its former value was seen refused", turn+1)
		verdict, err := f.Custody.Verify(t.Context(), ines, cred(f, was))
		require.NoError(t, err)
		assert.Equal(t, connect.VerdictRests, verdict.Code, verdict.Words)
		assert.Empty(t, f.findings("drift"))
		planned, err := f.Store.Candidates(t.Context(), 0)
		require.NoError(t, err)
		var names []string
		for _, c := range planned {
			names = append(names, c.Credential)
		}
		assert.Contains(t, names, next.Name, "policies go by the one that works")
		assert.NotContains(t, names, was.Name)
		var rested string
		journal, err := f.Store.Journal(t.Context(), r.ID, 0)
		require.NoError(t, err)
		for _, record := range journal {
			if record.Step >= 0 && r.Plan.Steps[record.Step].Kind == rotation.StepRefuse && record.Event == rotation.EventOutcome {
				rested = record.Words
			}
		}
		assert.Contains(t, rested, was.Name+" rests")
	}
	// Nobody else did any of it.
	seen, err := f.Store.Changes(t.Context(), time.Time{}, time.Time{}, records.Query{Filters: []string{"made_by=others"}})
	require.NoError(t, err)
	for _, change := range seen.Items {
		assert.NotContains(t, change.Name, "fares", "%+v", change)
	}
	// What rests is rotated in its turn only, and is not released meanwhile.
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, b), undo)
	require.ErrorIs(t, err, app.ErrRefused)
	assert.ErrorContains(t, err, "rotating fares_a does")
	require.Error(t, f.Custody.Release(t.Context(), ines, "no more", cred(f, b)))
	// Somebody lets it sign in: that is a finding.
	f.estate.Bookings.Change(b.Name, func(account *datastore.Account) { account.Rests = false })
	_, err = f.Custody.Verify(t.Context(), ines, cred(f, b))
	require.NoError(t, err)
	assert.Len(t, f.findings("not-resting"), 1)
	// One that was not seen refused at the end of its turn is, when it is looked for.
	f.estate.Bookings.Change(b.Name, func(account *datastore.Account) { account.Rests = true })
	_, err = f.Custody.Verify(t.Context(), ines, cred(f, b))
	require.NoError(t, err)
	assert.Empty(t, f.findings("not-resting"))
	// They take turns no more: each is an account of its own again.
	require.NoError(t, f.Tandems.Remove(t.Context(), ines, v.ID, "enough"))
	require.Equal(t, rotation.FinishedDone, f.rotate(a, rotation.UndoOnFailure).Result)
	assert.Equal(t, a.Name, f.feeds())
}

// TestATurnIsUndone: at once where something fails, and later when a person asks for it; the
// one whose turn it was not rests again.
func TestATurnIsUndone(t *testing.T) {
	t.Parallel()
	f := start(t)
	a, b, _ := f.tandem()
	refuseRestarts(f.estate.Hosts["tide1"], "fares.service", 3)
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedUndone, r.Result)
	assert.Equal(t, a.Name, f.feeds())
	made := f.currentIs(b)
	assert.False(t, f.estate.Bookings.Accepts(b.Name, made.RevealString()), "it rests")
	assert.NotEqual(t, larkmoor.Passwords["fares_b"], made.RevealString(), "and has the value that was made")
	f.survey()
	v, err := f.Store.TandemOf(t.Context(), cred(f, a).ID)
	require.NoError(t, err)
	assert.Equal(t, [2]string{a.Name, records.TandemRests}, [2]string{v.Working.Account, v.State})

	done := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, done.Result)
	assert.Equal(t, b.Name, f.feeds())
	f.survey()
	rehearsed, err := f.Rotations.RehearseUndo(t.Context(), ines, done.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", rehearsed.Verdict, "%+v", bad(rehearsed.Checks))
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, done.ID, rotation.DecideUndo, "the feed says so"))
	require.Equal(t, rotation.FinishedUndone, f.ended(done.ID).Result)
	assert.Equal(t, a.Name, f.feeds())
	f.survey()
	v, err = f.Store.TandemOf(t.Context(), cred(f, a).ID)
	require.NoError(t, err)
	assert.Equal(t, [2]string{a.Name, records.TandemRests}, [2]string{v.Working.Account, v.State})
	// After a further turn the one before can be undone no more.
	again := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, again.Result)
	f.survey()
	require.Equal(t, rotation.FinishedDone, f.rotate(b, rotation.UndoOnFailure).Result)
	_, err = f.Rotations.RehearseUndo(t.Context(), ines, again.ID)
	assert.ErrorIs(t, err, app.ErrRefused)
}

func noted(p rotation.Plan) string {
	var out []string
	for _, n := range p.Notes {
		out = append(out, n.String())
	}
	return strings.Join(out, "\n")
}

func fileOf(text string) unixhost.File { return unixhost.File{Mode: 0o600, Content: []byte(text)} }

// TestWhatCostsTheWay: what cannot be moved is named; asked for, the turn is refused for it,
// and otherwise the value is replaced.
func TestWhatCostsTheWay(t *testing.T) {
	t.Parallel()
	f := start(t)
	a, b, _ := f.tandem()
	f.estate.Hosts["tide1"].Write("/etc/fares/bare.pw", fileOf(larkmoor.Passwords["fares_a"]))
	f.survey()
	asked := planning.Request{OnFailure: rotation.UndoOnFailure, Way: "alternate"}
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), asked)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict)
	assert.Nil(t, v.Plan.Turn)
	assert.Contains(t, noted(v.Plan), "fares_b cannot take the place of fares_a: /etc/fares/bare.pw#content on tide1 does not name it beside the value")
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	assert.Nil(t, r.Plan.Turn, "the value was replaced")
	assert.Equal(t, a.Name, f.feeds())

	// What the database has against it is told too, and nothing that rests is used.
	f.estate.Hosts["tide1"].Write("/etc/fares/bare.pw", fileOf("nothing more\n"))
	f.estate.Bookings.Change(a.Name, func(account *datastore.Account) { account.Owns = 3 })
	f.survey()
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), asked)
	require.NoError(t, err)
	assert.Contains(t, noted(v.Plan), "fares_a itself owns or was granted 3 objects")
	f.estate.Bookings.Change(a.Name, func(account *datastore.Account) { account.Owns = 0 })
	f.estate.Hosts["tide1"].Write("/etc/fares/other.env", fileOf("DB_USER=fares_b\nDB_PASSWORD="+f.currentIs(b).RevealString()+"\n"))
	f.survey()
	v, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, a), asked)
	require.NoError(t, err)
	assert.Contains(t, noted(v.Plan), "holds the value of fares_b, which rests")
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, f.account("bookings-db/svc_bookings")), asked)
	require.NoError(t, err)
}

// TestWhoTakesTurns: what two accounts must be for it.
func TestWhoTakesTurns(t *testing.T) {
	t.Parallel()
	f := start(t)
	a, b, v := f.tandem()
	berth, bookings := f.take("svc-berth"), f.account("bookings-db/svc_bookings")
	for name, c := range map[string]struct {
		by    access.Actor
		one   records.Account
		other records.Account
		words string
	}{
		"already":        {ines, a, bookings, "svc_bookings cannot rest"},
		"taken":          {ines, bookings, b, "takes turns with another account already"},
		"itself":         {ines, bookings, bookings, "not with itself"},
		"other system":   {ines, berth, bookings, "of one system"},
		"in use":         {ines, a, bookings, "move them to the other account first"},
		"not in custody": {ines, f.account("bookings-db/svc_reports"), bookings, "not in custody"},
		"no right":       {access.Actor{Name: "odile", Roles: []string{access.RoleOperator}}, a, b, ""},
	} {
		_, err := f.Tandems.Add(t.Context(), c.by, cred(f, c.one), cred(f, c.other), "")
		require.Error(t, err, name)
		assert.ErrorContains(t, err, c.words, name)
	}
	require.Error(t, f.Tandems.Remove(t.Context(), access.Actor{Name: "odile", Roles: []string{access.RoleOperator}}, v.ID, ""))
	// While a turn is not finished, neither is begun anew, taken, reset or parted.
	id := f.begun(a, rotation.UndoOnFailure)
	_, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, b), undo)
	assert.Error(t, err)
	f.ended(id)
}

// TestTurnsOfLogOns: services, tasks and pools that log on as an account of a directory are
// given the other one, each in the spelling that stood there, and given back.
func TestTurnsOfLogOns(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	const other = "svc-terminal2"
	f.estate.Directory.Add(standindir.Entry{DN: larkmoor.DN(other), Password: "Kiosk-Light-65", Disabled: true, Attributes: map[string][]string{
		"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {other}, "cn": {other}, "userPrincipalName": {other + "@larkmoor.example"},
	}})
	f.estate.Directory.Update(larkmoor.DN(other), func(e *standindir.Entry) { e.Disabled = false })
	for _, h := range f.estate.Windows {
		h.Grant(`LARKMOOR\`+other, true)
	}
	f.survey()
	a := f.take("svc-terminal")
	b := f.account("dir/" + other)
	_, err := f.Custody.Take(t.Context(), ines, cred(f, b), secret.New("Kiosk-Light-65"))
	require.NoError(t, err)
	f.survey()
	_, err = f.Tandems.Add(t.Context(), ines, cred(f, a), cred(f, b), "")
	require.NoError(t, err)
	logOns := func(name, password string) {
		t.Helper()
		require.True(t, f.estate.Directory.Accepts(larkmoor.DN(name), password))
		for host, h := range f.estate.Windows {
			account, stored := h.Stores("KioskAgent")
			if account == "" {
				continue // not on this one
			}
			assert.Equal(t, [2]string{name + "@larkmoor.example", password}, [2]string{account, stored}, host)
			account, stored = h.TaskStores("Kiosk report")
			assert.Contains(t, []string{name, `LARKMOOR\` + name}, account, host)
			assert.Equal(t, password, stored, host)
			used, with := h.Uses("KioskAgent")
			assert.Equal(t, [2]string{name + "@larkmoor.example", password}, [2]string{used, with}, host)
		}
	}
	logOns(a.Name, larkmoor.Passwords[a.Name])
	r := f.rotate(a, rotation.UndoOnFailure)
	journal, err := f.Store.Journal(t.Context(), r.ID, 0)
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, r.Result, "%+v", journal)
	require.NotNil(t, r.Plan.Turn, "%s", noted(r.Plan))
	logOns(other, f.currentIs(b).RevealString())
	assert.False(t, f.estate.Directory.Accepts(larkmoor.DN(a.Name), larkmoor.Passwords[a.Name]), "it rests")
	f.quiet()
	f.survey()
	in, err := f.Store.Account(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Contains(t, in.Groups, "CN=Terminal Services,OU=Groups,"+larkmoor.Base, "it was brought into step")
	ties := f.dependent("north1", "KioskAgent").Ties
	require.NotEmpty(t, ties)
	assert.Equal(t, other, ties[0].Account)
	rehearsed, err := f.Rotations.RehearseUndo(t.Context(), ines, r.ID)
	require.NoError(t, err)
	require.Equal(t, "passed", rehearsed.Verdict, "%+v", bad(rehearsed.Checks))
	require.NoError(t, f.Rotations.Decide(t.Context(), ines, r.ID, rotation.DecideUndo, "it was a test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	logOns(a.Name, larkmoor.Passwords[a.Name])
	assert.False(t, f.estate.Directory.Accepts(larkmoor.DN(other), f.currentIs(b).RevealString()), "it rests again")
}
