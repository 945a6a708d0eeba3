package assembly_test

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	_ "mossledger.example/moss/internal/connect/directory"
	_ "mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/store"
)

// ferry is the Larkmoor estate with an operator that has surveyed it.
type ferry struct {
	*assembly.Application
	t      *testing.T
	estate *larkmoor.Estate
	folder string
}

// reopen takes up the database that the ferry was stopped with.
func (f *ferry) reopen() {
	f.t.Helper()
	f.reopenBy(&clock{})
}

// reopenBy does so by a clock of its own.
func (f *ferry) reopenBy(by *clock) {
	f.t.Helper()
	s, err := store.Open(context.Background(), f.folder, by.now)
	require.NoError(f.t, err)
	f.Application, err = assembly.New(context.Background(), assembly.Config{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: by.now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(f.t, err)
	require.NoError(f.t, f.Start(context.Background()))
}

// clock is one that can be put forward.
type clock struct{ ahead atomic.Int64 }

func (c *clock) now() time.Time { return time.Now().Add(time.Duration(c.ahead.Load())) }

func (c *clock) pass(d time.Duration) { c.ahead.Add(int64(d)) }

func start(t *testing.T) *ferry {
	t.Helper()
	return startBy(t, &clock{})
}

// startBy starts one that goes by a clock of its own.
func startBy(t *testing.T, by *clock) *ferry {
	t.Helper()
	ctx := t.Context()
	estate, err := larkmoor.Start()
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, estate.Close()) })
	folder := t.TempDir()
	s, err := store.Open(ctx, folder, by.now)
	require.NoError(t, err)
	o, err := assembly.New(ctx, assembly.Config{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: by.now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	f := &ferry{o, t, estate, folder}
	t.Cleanup(func() {
		f.Stop()
		require.NoError(t, f.Store.Close())
	})
	require.NoError(t, o.Inventory.SaveSteward(ctx, ines, "dir", larkmoor.ManagerDN, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	require.NoError(t, o.Inventory.SaveSteward(ctx, ines, "hosts", larkmoor.Manager, secret.New(larkmoor.ManagerPassword), secret.Value{}))
	host, port := larkmoor.Port(estate.Address)
	_, err = o.Inventory.Add(ctx, ines, records.System{Name: "dir", Kind: "directory", Address: host, Port: port, Steward: "dir", TrustedCA: estate.CA})
	require.NoError(t, err)
	for name, h := range estate.Hosts {
		host, port := larkmoor.Port(h.Address())
		options := map[string]string{}
		if name == "tide1" {
			options["paths"] = "/etc/tide/backup.env"
		}
		_, err := o.Inventory.Add(ctx, ines, records.System{Name: name, Kind: "unix-host", Address: host, Port: port, Steward: "hosts", Options: options})
		require.NoError(t, err)
		_, report, err := o.Inventory.Check(ctx, ines, name, h.Fingerprint())
		require.NoError(t, err)
		require.True(t, report.OK())
	}
	f.survey()
	return f
}

func (f *ferry) survey(names ...string) {
	f.t.Helper()
	id, err := f.Surveys.Start(f.t.Context(), ines, names)
	require.NoError(f.t, err)
	f.surveyed(id)
}

// surveyed waits for the end of a survey.
func (f *ferry) surveyed(id records.SurveyID) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		v, err := f.Store.Survey(f.t.Context(), id)
		return err == nil && v.State == "done"
	}, 2*time.Minute, 20*time.Millisecond)
}

func (f *ferry) account(spelling string) records.Account {
	f.t.Helper()
	a, _, err := f.Picture.FindAccount(f.t.Context(), spelling)
	require.NoError(f.t, err)
	return a
}

func (f *ferry) take(name string) records.Account {
	f.t.Helper()
	a := f.account("dir/" + name)
	_, err := f.Custody.Take(f.t.Context(), ines, cred(f, a), secret.New(larkmoor.Passwords[name]))
	require.NoError(f.t, err)
	return a
}

// cred is a credential as it is now: that of an account's password, or the one
// itself.
func cred(f *ferry, of any) records.Credential {
	f.t.Helper()
	var c records.Credential
	var err error
	switch of := of.(type) {
	case records.Account:
		c, err = f.Store.NotePassword(context.Background(), of.ID)
	case records.Credential:
		c, err = f.Store.Credential(context.Background(), of.ID)
	default:
		f.t.Fatalf("%T is no credential", of)
	}
	require.NoError(f.t, err)
	return c
}

// rotate rehearses, rotates, and returns how it ended or stopped.
var undo = planning.Request{OnFailure: rotation.UndoOnFailure}

func (f *ferry) rotate(a any, policy rotation.OnFailure) records.Rotation {
	f.t.Helper()
	v, err := f.Rotations.Rehearse(f.t.Context(), ines, cred(f, a), planning.Request{OnFailure: policy})
	require.NoError(f.t, err)
	require.Equal(f.t, "passed", v.Verdict, "%+v", bad(v.Checks))
	id, err := f.Rotations.Start(f.t.Context(), ines, cred(f, a), planning.Request{OnFailure: policy}, "test", "")
	require.NoError(f.t, err)
	return f.ended(id)
}

// bad are the lines of a rehearsal that keep it from passing.
func bad(checks []connect.Checked) (out []connect.Checked) {
	for _, c := range checks {
		if c.Result == connect.CheckFailed {
			out = append(out, c)
		}
	}
	return out
}

func (f *ferry) ended(id records.RotationID) (r records.Rotation) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		var err error
		r, err = f.Store.Rotation(f.t.Context(), id)
		return err == nil && (r.Mode == "finished" || r.Mode == "stopped")
	}, 60*time.Second, 20*time.Millisecond)
	return r
}

func (f *ferry) findings(kind string) []records.Finding {
	f.t.Helper()
	page, err := f.Store.Findings(f.t.Context(), false, records.Query{Filters: []string{"kind=" + kind}})
	require.NoError(f.t, err)
	return page.Items
}

func (f *ferry) states(account records.AccountID) string {
	f.t.Helper()
	return f.statesOf(cred(f, records.Account{ID: account}))
}

func (f *ferry) statesOf(c records.Credential) string {
	f.t.Helper()
	all, err := f.Store.Secrets(f.t.Context(), c.ID)
	require.NoError(f.t, err)
	var out []string
	for _, s := range all {
		out = append(out, s.State)
	}
	return strings.Join(out, " ")
}

// refuseRestarts makes restarts of a unit fail n times.
func refuseRestarts(h *unixhost.Host, unit string, n int) {
	h.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if n > 0 && strings.HasSuffix(strings.Join(argv, " "), "-- /usr/bin/systemctl restart "+unit) && argv[2] == "--" {
			n--
			return 1, "Job for " + unit + " failed.", true
		}
		return 0, "", false
	}})
}

var quays = []string{"quay1", "quay2"}

func (f *ferry) ready(want bool, units ...string) {
	f.t.Helper()
	for _, u := range units {
		host, unit, _ := strings.Cut(u, "/")
		assert.Equal(f.t, want, f.estate.Ready(host, unit), u)
	}
}

// sane: an error tells a person something, and is none of the inside.
func sane(t *testing.T, err error) {
	t.Helper()
	if err == nil || errors.Is(err, app.ErrRefused) || errors.Is(err, records.ErrConflict) || errors.Is(err, app.ErrNotFound) || errors.Is(err, context.Canceled) {
		return
	}
	assert.NoError(t, err, "neither done nor refused")
}

// agrees: everything that holds a value of an account agrees with the authority, and
// the store has what is in force.
func (f *ferry) agrees(a records.Account, host, path string) {
	f.t.Helper()
	held, there := f.estate.Hosts[host].Read(path)
	require.True(f.t, there)
	assert.True(f.t, f.estate.Directory.Accepts(larkmoor.DN(a.Name), strings.TrimSpace(string(held.Content))), "the copy is what the directory accepts")
	values, err := f.Sealed.Values(f.t.Context(), cred(f, a).ID)
	require.NoError(f.t, err)
	assert.True(f.t, f.estate.Directory.Accepts(larkmoor.DN(a.Name), values.Current.RevealString()), "what is current is in force")
}

// journalWhole: numbered without a gap, and folds to what the row says.
func (f *ferry) journalWhole(id records.RotationID) {
	f.t.Helper()
	r, err := f.Store.Rotation(f.t.Context(), id)
	require.NoError(f.t, err)
	records, err := f.Store.Journal(f.t.Context(), id, 0)
	require.NoError(f.t, err)
	for i, record := range records {
		require.EqualValues(f.t, i+1, record.Seq)
	}
	state, err := rotation.Fold(r.Plan, records)
	require.NoError(f.t, err)
	assert.Equal(f.t, r.Mode, string(state.Mode))
	assert.Equal(f.t, r.Result, state.Result)
}
