package assembly_test

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate/planning"
	_ "mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/standin/windowshost"
)

// terminals adds the windows hosts of the estate and reads them.
func terminals(t *testing.T) *ferry {
	f := start(t)
	f.windows("north1", "skerry1")
	return f
}

// windows adds some of the windows hosts of the estate and reads them.
func (f *ferry) windows(names ...string) {
	ctx := f.t.Context()
	require.NoError(f.t, f.Inventory.SaveSteward(ctx, ines, "terminals", `LARKMOOR\`+larkmoor.Manager, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	for _, name := range names {
		host, port := larkmoor.Port(f.estate.Windows[name].Address())
		_, err := f.Inventory.Add(ctx, ines, records.System{Name: name, Kind: "windows-host", Address: host, Port: port, Steward: "terminals", TrustedCA: f.estate.CA, Options: map[string]string{"signin": "ntlm"}})
		require.NoError(f.t, err)
	}
	f.survey(names...)
}

func (f *ferry) dependent(system, name string) records.Dependent {
	f.t.Helper()
	page, err := f.Store.Dependents(f.t.Context(), 0, records.Query{Filters: []string{"system=" + system, "name=" + name}, Limit: 2})
	require.NoError(f.t, err)
	require.Len(f.t, page.Items, 1)
	return page.Items[0]
}

func (f *ferry) run(a records.Account, wish planning.Request) records.Rotation {
	f.t.Helper()
	v, err := f.Rotations.Rehearse(f.t.Context(), ines, cred(f, a), wish)
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict, "%+v", v.Checks)
	id, err := f.Rotations.Start(f.t.Context(), ines, cred(f, a), wish, "test", "")
	require.NoError(f.t, err)
	return f.ended(id)
}

// quiet waits until what a rotation changed was read again.
func (f *ferry) quiet() { f.Rotations.Settled(f.t.Context()) }

func (f *ferry) stacks(want bool) {
	f.t.Helper()
	for host := range f.estate.Windows {
		for _, service := range larkmoor.QuayLine {
			assert.Equal(f.t, want, f.estate.Ready(host, service), "%s on %s: %s", service, host, f.estate.Stack(host))
		}
	}
}

func (f *ferry) kinds(kind string) string {
	var out []string
	for _, v := range f.findings(kind) {
		out = append(out, v.System+"/"+v.Subject)
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

// once reports true the first time an action ends so.
func once(suffix string) func(string) bool {
	var done atomic.Bool // hosts ask at the same time
	return func(action string) bool {
		return strings.HasSuffix(action, suffix) && !done.Swap(true)
	}
}

func TestWindowsRotation(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	a := f.take("svc-quayline")
	north, skerry := f.estate.Windows["north1"], f.estate.Windows["skerry1"]

	// Answers that are lost on the way: every kind of act, one host each.
	north.SetFault(windowshost.Fault{Drop: once("/Change")})
	skerry.SetFault(windowshost.Fault{Cut: once("/StartService")})
	r := f.run(a, planning.Request{OnFailure: rotation.StopOnFailure})
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.stacks(true)
	_, stored := north.Stores("QuayLineStore")
	require.NotEqual(t, larkmoor.Passwords["svc-quayline"], stored)
	for _, s := range larkmoor.QuayLine {
		for _, h := range []*windowshost.Host{north, skerry} {
			_, now := h.Stores(s)
			require.Equal(t, stored, now)
			_, used := h.Uses(s)
			require.Equal(t, stored, used, "each was started anew")
		}
	}

	// One that does not start, policy undo: everything goes back and runs.
	north.SetFault(windowshost.Fault{})
	skerry.SetFault(windowshost.Fault{})
	broken := 1
	skerry.UpdateService("QuayLineGates", func(s *windowshost.Service) {
		was := s.Program
		s.Program = func(account, password string) error {
			if password != stored && broken > 0 {
				return fmt.Errorf("the gates do not like this one")
			}
			return was(account, password)
		}
	})
	r = f.run(a, planning.Request{OnFailure: rotation.UndoOnFailure})
	require.Equal(t, rotation.FinishedUndone, r.Result)
	f.stacks(true)
	_, now := north.Stores("QuayLineBoarding")
	require.Equal(t, stored, now, "the old value is back")
	broken = 0

	f.quiet()
	// Deleted between survey and rotation, and a log-on that somebody changed.
	skerry.RemoveService("QuayLineBoarding")
	north.UpdateService("QuayLineFares", func(s *windowshost.Service) { s.Account = `LARKMOOR\svc-terminal` })
	v, err := f.Rotations.Rehearse(t.Context(), ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict)
	words := fmt.Sprint(v.Checks)
	assert.Contains(t, words, "do not name an object that is there")
	assert.Contains(t, words, `it logs on as LARKMOOR\svc-terminal now`)
	id, err := f.Rotations.Start(t.Context(), ines, cred(f, a), undo, "test", "it burns")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result, "what is gone or somebody else's is left alone, the rest goes back")
	account, _ := north.Stores("QuayLineFares")
	assert.Equal(t, `LARKMOOR\svc-terminal`, account)
	_, now = north.Stores("QuayLineStore")
	require.Equal(t, stored, now)
}

// TestLatentBreakage: found before a restart shows it, and repaired.
func TestLatentBreakage(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	a := f.take("svc-terminal")
	f.survey("dir", "north1", "skerry1")
	require.Empty(t, f.findings("latent-breakage"))
	require.Empty(t, f.findings("runs-on-old"))

	// In custody, changed from here, services left running.
	r := f.run(a, planning.Request{OnFailure: rotation.UndoOnFailure, When: rotation.RestartLeave})
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.survey("dir", "north1", "skerry1")
	assert.Equal(t, "north1/KioskAgent skerry1/KioskAgent", f.kinds("runs-on-old"))
	require.Empty(t, f.findings("latent-breakage"), "they will start: the new value is stored")

	// Somebody stores another password in a pool, which shows it, and gives
	// another to a service, which nobody can see.
	f.estate.Windows["north1"].UpdatePool("KioskSite", func(p *windowshost.Pool) { p.Password = "By-Hand-1" })
	f.survey("north1")
	assert.Equal(t, "north1/KioskSite", f.kinds("latent-breakage"))

	// Repair is one action for all of it.
	targets, err := f.Diagnoses.RepairTargets(t.Context(), a)
	require.NoError(t, err)
	require.Len(t, targets, 3)
	r = f.run(a, planning.Request{OnFailure: rotation.StopOnFailure, Assign: targets, Start: true})
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.survey("dir", "north1", "skerry1")
	require.Empty(t, f.findings("latent-breakage"))
	require.Empty(t, f.findings("runs-on-old"))
	_, err = f.Diagnoses.RepairTargets(t.Context(), a)
	assert.ErrorIs(t, err, app.ErrRefused)

	// Changed elsewhere, not in custody: found by comparing times.
	f.estate.SetPassword("svc-quayline", "Changed-Elsewhere-2026")
	f.survey("dir", "north1")
	assert.Contains(t, f.kinds("latent-breakage"), "north1/QuayLineStore")
	assert.Contains(t, f.findings("latent-breakage")[0].What, "will fail at its next start, unless somebody stored the new password since")
	f.stacks(false) // the boards already say so: the old value is refused
}

// TestRepairOfACopy: a file of a unix host that was put back to an earlier
// value is found by what it holds, and mended in the same way.
func TestRepairOfACopy(t *testing.T) {
	t.Parallel()
	f := start(t)
	a := f.take("svc-berth")
	f.survey()
	const path = "/etc/berth/berth.env"
	before, _ := f.estate.Hosts["quay1"].Read(path)
	require.Equal(t, rotation.FinishedDone, f.rotate(a, rotation.StopOnFailure).Result)
	f.quiet()
	now, _ := f.estate.Hosts["quay1"].Read(path)
	f.estate.Hosts["quay1"].Write(path, before) // from a backup
	f.survey("quay1")
	assert.Equal(t, "quay1/berth.service", f.kinds("latent-breakage"))
	targets, err := f.Diagnoses.RepairTargets(t.Context(), a)
	require.NoError(t, err)
	require.Len(t, targets, 1)
	require.Equal(t, rotation.FinishedDone, f.run(a, planning.Request{OnFailure: rotation.UndoOnFailure, Assign: targets}).Result)
	f.quiet()
	after, _ := f.estate.Hosts["quay1"].Read(path)
	assert.Equal(t, string(now.Content), string(after.Content))
	require.Empty(t, f.findings("latent-breakage"))
	f.ready(true, "quay1/berth.service", "quay1/gangway.service")

	// A value that the account never had here is nobody's to overwrite.
	b := f.take("svc-tidefeed")
	_, err = f.Rotations.Rehearse(t.Context(), ines, cred(f, b), planning.Request{OnFailure: rotation.UndoOnFailure, Assign: []records.DependentID{f.dependent("tide1", "backup.env").ID}})
	assert.ErrorContains(t, err, "replacing it would lose something unknown")
}

// TestCopyInJSON: a copy in a JSON document is found, tied, replaced and read
// back, with its comments and everything else as they were.
func TestCopyInJSON(t *testing.T) {
	t.Parallel()
	f := start(t)
	h := f.estate.Hosts["tide1"]
	const path, before = "/etc/tide/fares.json", "{\n  // fares, by hand\n  \"directory\": {\"user\": \"svc-tidefeed@larkmoor.example\", \"password\": \"%s\",},\n}\n"
	h.Write(path, unixhost.File{Mode: 0o640, Content: []byte(fmt.Sprintf(before, larkmoor.Passwords["svc-tidefeed"]))})
	h.AddUnit(unixhost.Unit{Name: "fares.service", User: "tide", Exec: "/opt/fares/bin/fares --config " + path, Enabled: true})
	f.survey("tide1")
	a := f.take("svc-tidefeed")
	d := f.dependent("tide1", "fares.json")
	assert.Equal(t, path+"#/directory/password", d.Place)
	require.Len(t, d.Ties, 1)
	assert.Equal(t, "matches", d.Ties[0].Strength)
	require.Equal(t, rotation.FinishedDone, f.rotate(a, rotation.UndoOnFailure).Result)
	feed, _ := h.Read("/etc/tide/feed.pw")
	after, _ := h.Read(path)
	assert.Equal(t, fmt.Sprintf(before, strings.TrimSpace(string(feed.Content))), string(after.Content))
	assert.Equal(t, uint32(0o640), after.Mode)
	assert.NotContains(t, string(after.Content), larkmoor.Passwords["svc-tidefeed"])
}

// TestAssign gives services of others to an account, and gives them back.
func TestAssign(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	a, other := f.take("svc-terminal"), f.take("svc-quayline")
	ctx := t.Context()
	boarding := f.dependent("north1", "QuayLineBoarding")
	system := f.dependent("north1", "Spooler")
	wish := planning.Request{OnFailure: rotation.UndoOnFailure, Assign: []records.DependentID{boarding.ID, system.ID}}
	r := f.run(a, wish)
	require.Equal(t, rotation.FinishedDone, r.Result)
	north := f.estate.Windows["north1"]
	account, password := north.Uses("QuayLineBoarding")
	assert.Equal(t, `LARKMOOR\svc-terminal`, account)
	assert.Equal(t, larkmoor.Passwords["svc-terminal"], password)
	f.survey("north1")
	ties := f.dependent("north1", "QuayLineBoarding").Ties
	require.Len(t, ties, 1)
	assert.Equal(t, "svc-terminal", ties[0].Account)
	_, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "it was a test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	account, password = north.Uses("QuayLineBoarding")
	assert.Equal(t, `LARKMOOR\svc-quayline`, account)
	assert.Equal(t, larkmoor.Passwords["svc-quayline"], password)
	account, password = north.Uses("Spooler")
	assert.Equal(t, "LocalSystem", account)
	assert.Empty(t, password)

	// A task that has a bare name gets it back in full: a bare one is another account there.
	f.quiet()
	task := f.dependent("north1", "Kiosk report")
	r = f.run(other, planning.Request{OnFailure: rotation.UndoOnFailure, Assign: []records.DependentID{task.ID}})
	require.Equal(t, rotation.FinishedDone, r.Result)
	account, _ = north.TaskStores("Kiosk report")
	assert.Equal(t, `LARKMOOR\svc-quayline`, account)
	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "it was a test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	account, password = north.TaskStores("Kiosk report")
	assert.Equal(t, [2]string{`LARKMOOR\svc-terminal`, larkmoor.Passwords["svc-terminal"]}, [2]string{account, password})

	// Undone as well where the host checks what it stores.
	f.quiet()
	north.UpdateService("KioskAgent", func(s *windowshost.Service) {
		was := s.Program
		s.Program = func(account, password string) error {
			if password != larkmoor.Passwords["svc-terminal"] {
				return fmt.Errorf("the agent knows only the old one")
			}
			return was(account, password)
		}
	})
	require.Equal(t, rotation.FinishedUndone, f.run(a, undo).Result)
	for _, h := range f.estate.Windows {
		_, password = h.TaskStores("Kiosk report")
		assert.Equal(t, larkmoor.Passwords["svc-terminal"], password)
	}
	f.quiet()

	// What cannot be: a local account elsewhere, a file, an account not in custody.
	for _, c := range []struct {
		account records.Account
		assign  []records.DependentID
		words   string
	}{
		{a, []records.DependentID{f.dependent("quay1", "berth.service").ID}, "only services, tasks, application pools"},
		{a, []records.DependentID{99999}, "not found"},
		{f.account("north1/terminal"), []records.DependentID{f.dependent("skerry1", "KioskAgent").ID}, "is a local account of north1"},
	} {
		_, err := f.Rotations.Rehearse(ctx, ines, cred(f, c.account), planning.Request{OnFailure: rotation.UndoOnFailure, Assign: c.assign})
		assert.ErrorContains(t, err, c.words)
	}
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, f.account("dir/svc-gangway")), wish)
	require.NoError(t, err)
	assert.Equal(t, "failed", v.Verdict, "not in custody")
	for _, w := range []planning.Request{{OnFailure: rotation.UndoOnFailure, When: "later"}, {OnFailure: rotation.UndoOnFailure, When: rotation.RestartWindow}, {OnFailure: rotation.UndoOnFailure, When: rotation.RestartWindow, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: time.Now().Add(-time.Hour)}} {
		_, err := f.Rotations.Rehearse(ctx, ines, cred(f, other), w)
		assert.ErrorIs(t, err, app.ErrInput)
	}

	f.quiet()
	// In a window: nothing restarts before it opens.
	opens := time.Now().Add(4 * time.Second).Truncate(time.Second)
	wish = planning.Request{OnFailure: rotation.UndoOnFailure, When: rotation.RestartWindow, NotBefore: opens, NotAfter: opens.Add(time.Minute), Assign: []records.DependentID{f.dependent("skerry1", "KioskAgent").ID}}
	r = f.run(a, wish)
	require.Equal(t, rotation.FinishedDone, r.Result)
	records, err := f.Store.Journal(ctx, r.ID, 0)
	require.NoError(t, err)
	for _, rec := range records {
		if rec.Event == rotation.EventIntent && r.Plan.Steps[rec.Step].Kind == rotation.StepRestart {
			assert.False(t, rec.Time.Before(opens))
		}
	}
}

// TestExplain: each cause is named, with its evidence, and the others are not.
func TestExplain(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	f.take("svc-quayline")
	ctx := t.Context()
	north := f.estate.Windows["north1"]
	entry := func(change func(*directory.Entry)) func() {
		return func() { f.estate.Directory.Update(larkmoor.DN("svc-quayline"), change) }
	}
	fares := f.dependent("north1", "QuayLineFares")
	for _, c := range []struct {
		name   string
		upset  func()
		mend   func()
		code   diagnosis.Code
		repair string
	}{
		{"disabled", entry(func(e *directory.Entry) { e.Disabled = true }), entry(func(e *directory.Entry) { e.Disabled = false }), diagnosis.Disabled, ""},
		{"locked", entry(func(e *directory.Entry) { e.Locked = true }), entry(func(e *directory.Entry) { e.Locked = false }), diagnosis.Locked, ""},
		{"account expired", entry(func(e *directory.Entry) { e.Expired = true }), entry(func(e *directory.Entry) { e.Expired = false }), diagnosis.AccountExpired, ""},
		{"must change", entry(func(e *directory.Entry) { e.MustChange = true }), entry(func(e *directory.Entry) { e.MustChange = false }), diagnosis.MustChange, "rotate"},
		{"expired", entry(func(e *directory.Entry) { e.Changed = time.Now().AddDate(0, 0, -91) }), entry(func(e *directory.Entry) { e.Changed = time.Now() }), diagnosis.Expired, "rotate"},
		{"wrong", func() {
			north.UpdateService("QuayLineFares", func(s *windowshost.Service) { s.Password = "Somebody-Typed-This" })
		}, func() {
			north.UpdateService("QuayLineFares", func(s *windowshost.Service) { s.Password = larkmoor.Passwords["svc-quayline"] })
		}, diagnosis.WrongPassword, "assign"},
		{"right", func() { north.Grant(`LARKMOOR\svc-quayline`, false) }, func() { north.Grant(`LARKMOOR\svc-quayline`, true) }, diagnosis.MissingRight, ""},
		{"program", func() {
			north.UpdateService("QuayLineFares", func(s *windowshost.Service) {
				s.Program = func(string, string) error { return fmt.Errorf("fares.dat is damaged") }
			})
		}, func() {
			north.UpdateService("QuayLineFares", func(s *windowshost.Service) { s.Program = nil })
		}, diagnosis.Program, "start"},
	} {
		require.Equal(t, 0, north.Stop("QuayLineBoarding", ""), c.name)
		for _, s := range []string{"QuayLineGates", "QuayLineFares"} {
			require.Eventually(t, func() bool { return north.Stop(s, "") == 0 || north.State(s) == windowshost.Stopped }, 5*time.Second, 20*time.Millisecond)
			require.Eventually(t, func() bool { return north.State(s) == windowshost.Stopped }, 5*time.Second, 20*time.Millisecond)
		}
		c.upset()
		require.NotEqual(t, 0, north.Start("QuayLineBoarding"), c.name)
		x, err := f.Diagnoses.Explain(ctx, ines, fares.ID)
		require.NoError(t, err)
		assert.Equal(t, c.code, x.Causes[0].Code, "%s: %+v", c.name, x.Causes[:3])
		assert.Equal(t, diagnosis.IsCause, x.Causes[0].Verdict, c.name)
		assert.NotEmpty(t, x.Causes[0].Evidence)
		assert.NotEmpty(t, x.Causes[0].Next)
		if c.repair == "" {
			assert.Nil(t, x.Repair, c.name)
		} else {
			require.NotNil(t, x.Repair, c.name)
			assert.Equal(t, c.repair, x.Repair.Kind, c.name)
		}
		top, err := f.Diagnoses.Explain(ctx, ines, f.dependent("north1", "QuayLineBoarding").ID)
		require.NoError(t, err)
		require.NotNil(t, top.First, c.name)
		assert.Equal(t, "QuayLineFares", top.First.Dependent.Place, "the one that failed first")
		c.mend()
		require.Equal(t, 0, north.Start("QuayLineBoarding"), c.name)
		require.Eventually(t, func() bool { return north.State("QuayLineBoarding") == windowshost.Running }, 5*time.Second, 20*time.Millisecond)
	}
	x, err := f.Diagnoses.Explain(ctx, ines, fares.ID)
	require.NoError(t, err)
	assert.True(t, x.Up)
	assert.Contains(t, x.Verdict, "nothing speaks against its next start", "%+v", x.Causes[0])

	// What cannot be asked: a host that is down, a service that is gone, a file.
	north.SetFault(windowshost.Fault{Down: true})
	x, err = f.Diagnoses.Explain(ctx, ines, fares.ID)
	require.NoError(t, err)
	assert.Equal(t, diagnosis.Unreachable, x.Causes[0].Code)
	assert.Equal(t, diagnosis.NotKnown, x.Causes[len(x.Causes)-1].Verdict, "nothing is ruled out without looking")
	north.SetFault(windowshost.Fault{})
	north.RemoveService("QuayLineFares")
	_, err = f.Diagnoses.Explain(ctx, ines, fares.ID)
	assert.ErrorIs(t, err, app.ErrNotFound)
	page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"kind=file"}, Limit: 1})
	require.NoError(t, err)
	_, err = f.Diagnoses.Explain(ctx, ines, page.Items[0].ID)
	assert.ErrorIs(t, err, app.ErrInput)

	// A unit of a unix host is explained by the copy that it reads.
	f.take("svc-berth")
	f.estate.SetPassword("svc-berth", "Changed-By-Hand-7")
	f.estate.Hosts["quay1"].Restart("berth.service")
	x, err = f.Diagnoses.Explain(ctx, ines, f.dependent("quay1", "berth.service").ID)
	require.NoError(t, err)
	assert.False(t, x.Up)
	assert.Equal(t, "svc-berth", x.Account)
	assert.Contains(t, fmt.Sprint(x.Causes), "invalid credentials")
	assert.Contains(t, fmt.Sprint(x.Causes), "refuses that: somebody changed the password elsewhere")
}

// TestManyServices: a host with 5,000 services, and one name on two hosts.
func TestManyServices(t *testing.T) {
	t.Parallel()
	f := terminals(t)
	many := 5000
	if testing.Short() {
		many = 600
	}
	h := f.estate.Windows["skerry1"]
	for i := range many {
		h.AddService(windowshost.Service{Name: fmt.Sprintf("Filler%04d", i), Account: "LocalSystem", Idle: true})
	}
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	f.survey("skerry1")
	count := func(filters ...string) (n int) {
		q := records.Query{Filters: append([]string{"system=skerry1", "name*=filler*"}, filters...), Limit: 1000}
		for {
			page, err := f.Store.Dependents(ctx, 0, q)
			require.NoError(t, err)
			if n += len(page.Items); page.Next == "" {
				return n
			}
			assert.True(t, page.More, "more than is counted, and it says so")
			q.Cursor = page.Next
		}
	}
	assert.Equal(t, many, count())
	page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"name=KioskAgent", "gone="}})
	require.NoError(t, err)
	require.Equal(t, 2, page.Total)
	assert.NotEqual(t, page.Items[0].System, page.Items[1].System, "a name is no identity")
	for i := range many {
		h.RemoveService(fmt.Sprintf("Filler%04d", i))
	}
	f.survey("skerry1")
	assert.Zero(t, count("gone!="), "so many at once are a question")
	require.Len(t, f.findings("absence"), 1)
	_, err = f.Surveys.ConfirmAbsence(ctx, ines, "skerry1", "")
	require.ErrorIs(t, err, app.ErrInput)
	id, err := f.Surveys.ConfirmAbsence(ctx, ines, "skerry1", "the kiosks were taken out")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := f.Store.Survey(ctx, id)
		return err == nil && v.State == "done"
	}, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, many, count("gone!="))
	assert.Empty(t, f.findings("absence"))
}
