package assembly_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// reached: we get in, and what is in custody is what is accepted.
func (f *ferry) reached(a records.Account, why string) {
	f.t.Helper()
	_, report, err := f.Inventory.Check(f.t.Context(), ines, "dir", "")
	require.NoError(f.t, err, why)
	require.True(f.t, report.OK(), "%s: %+v", why, report.Stages)
	verdict, err := f.Custody.Verify(f.t.Context(), ines, cred(f, a))
	require.NoError(f.t, err, why)
	require.True(f.t, verdict.Accepted, why)
}

// The account by which we reach a directory is in custody and rotated itself:
// we do not lock ourselves out, on no way.
func TestRotatingTheAccountWeSignInWith(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.account(larkmoor.ManagerDN)
	_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New(larkmoor.ManagerPassword))
	require.NoError(t, err)
	f.reached(a, "taken")

	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	var kinds []string
	for _, s := range r.Plan.Steps {
		kinds = append(kinds, string(s.Kind))
	}
	assert.Contains(t, kinds, "steward", "that we still get in is proven by a step of its own")
	assert.False(t, f.estate.Directory.Accepts(larkmoor.ManagerDN, larkmoor.ManagerPassword))
	f.reached(a, "rotated")
	f.survey("dir")
	f.reached(a, "surveyed")
	r = f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result, "and again")
	f.reached(a, "rotated twice")

	_, err = f.Rotations.RehearseUndo(ctx, ines, r.ID)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result)
	f.reached(a, "undone")

	require.NoError(t, f.Custody.Reset(ctx, ines, "nobody knows it", cred(f, a)))
	f.reached(a, "reset")

	// The answer of the change is lost: which value lets us in is found out.
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	f.estate.Directory.SetFault(standindir.Fault{LoseAnswer: true})
	id, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
	require.NoError(t, err)
	f.after(id, func(p rotation.Plan, r rotation.Record) bool {
		return p.Steps[r.Step].Kind == rotation.StepChange && r.Event == rotation.EventOutcome
	})
	f.estate.Directory.SetFault(standindir.Fault{})
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	f.reached(a, "after a lost answer")

	// Custody ends: the stored log-on has what is in force.
	require.NoError(t, f.Custody.Release(ctx, ines, "handed over", cred(f, a)))
	_, report, err := f.Inventory.Check(ctx, ines, "dir", "")
	require.NoError(t, err)
	assert.True(t, report.OK(), "%+v", report.Stages)
	_, err = f.Custody.Verify(ctx, ines, cred(f, a))
	assert.ErrorIs(t, err, app.ErrRefused)
}

// A value whose text stands there by chance is not written; a person decides.
func TestSettingsThatEqualThePassword(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.estate.SetPassword("svc-berth", "svc-berth")
	for _, host := range quays {
		file, ok := f.estate.Hosts[host].Read("/etc/berth/berth.env")
		require.True(t, ok)
		file.Content = []byte(strings.ReplaceAll(string(file.Content), larkmoor.Passwords["svc-berth"], "svc-berth") + "\nBERTH_QUEUE=svc-berth\nDATABASE=svc-berth\n")
		f.estate.Hosts[host].Write("/etc/berth/berth.env", file)
		other, _ := f.estate.Hosts[host].Read("/etc/gangway/gangway.env")
		other.Content = []byte(strings.ReplaceAll(string(other.Content), larkmoor.Passwords["svc-berth"], "svc-berth"))
		f.estate.Hosts[host].Write("/etc/gangway/gangway.env", other)
	}
	f.survey()
	a := f.account("dir/svc-berth")
	_, err := f.Custody.Take(ctx, ines, cred(f, a), secret.New("svc-berth"))
	require.NoError(t, err)
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	doubtful := 0
	for _, c := range v.Checks {
		if c.What == "every copy is known to be one" {
			doubtful++
		}
	}
	require.Equal(t, "failed", v.Verdict)
	assert.Equal(t, 4, doubtful, "%+v", v.Checks)
	page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"kind=file", "path~berth.env"}, Limit: 100})
	require.NoError(t, err)
	require.ErrorIs(t, f.Picture.DecideCopy(ctx, ines, page.Items[0].ID, "leave", ""), app.ErrInput, "with a reason")
	for _, d := range page.Items {
		if d.Copy.Doubt == "" {
			continue
		}
		decision := "leave"
		if d.Copy.Key == "DATABASE" && d.System == "quay1" {
			decision = "replace"
		}
		require.NoError(t, f.Picture.DecideCopy(ctx, ines, d.ID, decision, "looked at it"))
	}
	r := f.rotate(a, rotation.StopOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	for _, host := range quays {
		file, _ := f.estate.Hosts[host].Read("/etc/berth/berth.env")
		assert.Contains(t, string(file.Content), "\nBERTH_QUEUE=svc-berth\n", "what a person left is left")
		assert.NotContains(t, string(file.Content), "PASSWORD=svc-berth\n")
		assert.Equal(t, host != "quay1", containsLine(file.Content, "DATABASE=svc-berth"))
	}
}

func containsLine(content []byte, line string) bool {
	for _, l := range strings.Split(string(content), "\n") {
		if l == line {
			return true
		}
	}
	return false
}

// What holds the value is a copy, whatever its layout: it fails the rehearsal
// until a person decides, and is told after the rotation.
func TestACopyThatNoLayoutExplains(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-tidefeed")
	odd := "the account svc-tidefeed was given to the harbour office\n<<" + larkmoor.Passwords["svc-tidefeed"] + ">> as agreed\n"
	file, _ := f.estate.Hosts["tide1"].Read("/etc/tide/backup.env")
	file.Content = []byte(odd)
	f.estate.Hosts["tide1"].Write("/etc/tide/backup.env", file)
	f.survey("tide1")
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	require.Equal(t, "failed", v.Verdict, "%+v", v.Checks)
	page, err := f.Store.Dependents(ctx, 0, records.Query{Filters: []string{"place~#bytes:"}})
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	require.ErrorIs(t, f.Picture.DecideCopy(ctx, ines, page.Items[0].ID, "replace", "please"), app.ErrRefused)
	require.NoError(t, f.Picture.DecideCopy(ctx, ines, page.Items[0].ID, "leave", "a letter, nothing reads it"))
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	require.Eventually(t, func() bool { return len(f.findings("left-behind")) == 1 }, 30*time.Second, 20*time.Millisecond)
	assert.Equal(t, "high", f.findings("left-behind")[0].Severity)
	file, _ = f.estate.Hosts["tide1"].Read("/etc/tide/backup.env")
	assert.Equal(t, odd, string(file.Content))
	// It is removed, and the finding with it.
	file.Content = []byte("gone\n")
	f.estate.Hosts["tide1"].Write("/etc/tide/backup.env", file)
}
