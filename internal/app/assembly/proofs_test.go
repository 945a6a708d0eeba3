package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/prove"
	"mossledger.example/moss/internal/core/proving"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/unixhost"
)

const tideCharter = `charter: tide-keeper
must:
  - member_of: cardreaders
  - run: /usr/bin/systemctl restart fuelcard.service
  - run: /usr/bin/systemctl stop fuelcard.service
`

// scratchAccount is one on bookings1 with which things may be tried.
func (f *ferry) scratchAccount(label bool) records.Account {
	f.t.Helper()
	ctx := f.t.Context()
	f.estate.Hosts["bookings1"].AddUser(unixhost.User{Name: "scratch", UID: 1900, Home: "/home/scratch", Shell: "/bin/sh", Password: "Scratch-Kelp-3991-x"})
	f.survey("bookings1")
	a := f.account("bookings1/scratch")
	c, err := f.Custody.Note(ctx, ines, a.ID)
	require.NoError(f.t, err)
	_, err = f.Custody.Take(ctx, ines, c, secret.New("Scratch-Kelp-3991-x"))
	require.NoError(f.t, err)
	if label {
		f.label(prove.Label, "bookings1/scratch")
	}
	return f.account("bookings1/scratch")
}

func (f *ferry) proofEnded(id records.ProofID) (v records.CharterProof) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		var err error
		v, err = f.Store.Proof(f.t.Context(), id)
		require.NoError(f.t, err)
		if v.State != records.ProofFinished && v.State != records.ProofStopped {
			return false
		}
		made, err := f.Amendments.View(f.t.Context(), v.AmendmentID)
		require.NoError(f.t, err)
		return made.Mode != "running" && made.Mode != "undoing"
	}, 30*time.Second, 20*time.Millisecond)
	return v
}

// Which rights a job needs is tried with a scratch account that an administrator named, by two
// people; at the end it has what it had.
func TestProofs(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	host := f.estate.Hosts["bookings1"]
	_, err := f.Charters.Save(ctx, ines, "tide-keeper", tideCharter, 0)
	require.NoError(t, err)
	a := f.scratchAccount(false)
	wish := prove.Wish{Charter: "tide-keeper", Account: a.ID, Job: "# as the pump does\nsudo -n /usr/bin/systemctl restart fuelcard.service\n", Reason: "audit"}
	_, err = f.Proofs.Start(ctx, ines, wish)
	require.ErrorContains(t, err, "has not the label scratch")
	f.label(prove.Label, "bookings1/scratch")
	for name, change := range map[string]func(w *prove.Wish){
		"job":     func(w *prove.Wish) { w.Job = "# nothing\n" },
		"reason":  func(w *prove.Wish) { w.Reason = " " },
		"charter": func(w *prove.Wish) { w.Charter = "no-such" },
		"account": func(w *prove.Wish) { w.Account = 98765 },
		"used":    func(w *prove.Wish) { w.Account = f.account("bookings1/svc-fuelcard").ID },
	} {
		wrong := wish
		change(&wrong)
		_, err := f.Proofs.Start(ctx, ines, wrong)
		require.Error(t, err, name)
	}
	_, err = f.Proofs.Start(ctx, access.Actor{Name: "x", Roles: []string{access.RoleViewer, access.RoleApprover, access.RoleAuditor}}, wish)
	require.ErrorIs(t, err, access.ErrDenied)

	v, err := f.Proofs.Start(ctx, ines, wish)
	require.NotContains(t, host.Sudoers(), "charter-scratch", "nothing before it is approved")
	require.NoError(t, f.approved(ola, err))
	done := f.proofEnded(v.ID)
	require.Equal(t, records.ProofFinished, done.State, done.Words)
	assert.Equal(t, "too-much", done.Verdict)
	verdicts := map[string]string{}
	for _, item := range done.Report.Items {
		verdicts[item.Right] = item.Verdict
		for _, tried := range item.Fails {
			assert.Contains(t, tried.Words, "a password is required")
		}
	}
	assert.Equal(t, map[string]string{"the membership of cardreaders": proving.Unneeded, "the right to run /usr/bin/systemctl restart fuelcard.service": proving.Needed, "the right to run /usr/bin/systemctl stop fuelcard.service": proving.Unneeded}, verdicts)
	made, err := f.Amendments.View(ctx, done.AmendmentID)
	require.NoError(t, err)
	assert.Equal(t, rotation.FinishedUndone, made.Result)
	assert.False(t, host.InGroup("scratch", "cardreaders"))
	assert.NotContains(t, host.Sudoers(), "charter-scratch")

	// One that is stopped before it is approved, and approved all the same, leaves nothing.
	v, err = f.Proofs.Start(ctx, ines, wish)
	_, stopped := f.Proofs.Stop(ctx, ines, v.ID)
	require.NoError(t, stopped)
	require.NoError(t, f.approved(ola, err))
	require.Eventually(t, func() bool { return f.amended(v.AmendmentID).Result == rotation.FinishedUndone }, 20*time.Second, 20*time.Millisecond)
	assert.False(t, host.InGroup("scratch", "cardreaders"))
	_, err = f.Proofs.Stop(ctx, ines, v.ID)
	require.ErrorIs(t, err, app.ErrRefused)
	v, err = f.Proofs.Start(ctx, ines, wish)
	require.Error(t, err)
	_, stopped = f.Proofs.Stop(ctx, ben, v.ID)
	require.NoError(t, stopped)
	entries, read := f.Store.EntriesFrom(ctx, 0, 100_000)
	require.NoError(t, read)
	var last string
	for _, e := range entries {
		if e.Act == "proof.end" {
			last = e.Actor
		}
	}
	assert.Equal(t, "ben", last, "who ended it is told, not who began it")

	// One that nobody approves ends with its request.
	v, err = f.Proofs.Start(ctx, ines, wish)
	require.Error(t, err)
	require.NoError(t, f.Proofs.Forget(ctx))
	waits, err := f.Store.Proof(ctx, v.ID)
	require.NoError(t, err)
	assert.Equal(t, records.ProofWaits, waits.State)
	by := &clock{}
	by.pass(26 * time.Hour)
	f.Stop()
	require.NoError(t, f.Store.Close())
	f.reopenBy(by)
	require.NoError(t, f.Proofs.Forget(ctx))
	waits, err = f.Store.Proof(ctx, v.ID)
	require.NoError(t, err)
	assert.Equal(t, records.ProofStopped, waits.State)
	assert.Contains(t, waits.Words, "nobody approved it")

	// A job that does not work with all of it says nothing about any of it.
	wish.Job = "sudo -n /usr/bin/cat /etc/shadow\n"
	v, err = f.Proofs.Start(ctx, ines, wish)
	require.NoError(t, f.approved(ola, err))
	done = f.proofEnded(v.ID)
	assert.Equal(t, "too-little", done.Verdict)
	assert.Empty(t, done.Report.Items)
	assert.False(t, host.InGroup("scratch", "cardreaders"))
}

// The service ends while something is tried: its next run takes back what was given.
func TestProofsThatAreCut(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	host := f.estate.Hosts["bookings1"]
	_, err := f.Charters.Save(ctx, ines, "tide-keeper", tideCharter, 0)
	require.NoError(t, err)
	a := f.scratchAccount(true)
	reached, release := make(chan struct{}), make(chan struct{})
	first := true
	host.SetFault(unixhost.Fault{Command: func(user string, argv []string) (int, string, bool) {
		if user == "scratch" && first && argv[len(argv)-1] == "/usr/bin/true" {
			first = false
			close(reached)
			<-release
		}
		return 0, "", false
	}})
	v, err := f.Proofs.Start(ctx, ines, prove.Wish{Charter: "tide-keeper", Account: a.ID, Job: "/usr/bin/true\n", Reason: "audit"})
	require.NoError(t, err)
	<-reached
	assert.True(t, host.InGroup("scratch", "cardreaders"))
	ended := make(chan struct{})
	go func() { f.Stop(); close(ended) }()
	close(release)
	<-ended
	require.NoError(t, f.Store.Close())
	f.reopen()
	done := f.proofEnded(v.ID)
	assert.Equal(t, records.ProofStopped, done.State)
	assert.Contains(t, done.Words, "the service ended")
	assert.False(t, host.InGroup("scratch", "cardreaders"))
	assert.NotContains(t, host.Sudoers(), "charter-scratch")
}
