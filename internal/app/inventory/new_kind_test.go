package inventory_test

import (
	"context"
	"crypto/rand"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// buoy is a kind of system that nothing else in the program knows.
type buoy struct {
	connect.Cannot
	accepts *string
}

const kindBuoy estate.Kind = "buoy"

func (buoy) Describe() connect.Description {
	return connect.Description{
		Kind: kindBuoy, Class: estate.ClassOther, Title: "buoy", Port: 4040, Proof: connect.ProofCertificate, SignIn: []string{connect.SignInPassword},
		Options: []connect.Option{
			{Name: "channel", Type: connect.OptionChoice, Choices: []string{"am", "fm"}, Help: "how it is spoken to"},
			{Name: "logs", Type: connect.OptionPaths, Help: "logs to read", Reading: true, Adds: true},
		},
		Scopes: []string{connect.ScopeAccounts}, Acts: []connect.Act{connect.ActVisit, connect.ActVerify, connect.ActAccept, connect.ActRehearse},
	}
}

func (buoy) Check(_ context.Context, t connect.Target) connect.CheckReport {
	return connect.CheckReport{Stages: []connect.StageResult{{Stage: connect.StageSignIn, OK: true, Detail: t.Steward.Account}, {Stage: connect.StageRead, OK: true}}}
}

func (buoy) Visit(_ context.Context, _ connect.Target, _ connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	err := emit(connect.Batch{Accounts: []estate.Account{{StableID: "b1", Name: "svc-bell", Type: "user", Enabled: estate.Yes, Locked: estate.No}}})
	return connect.Coverage{Complete: map[string]bool{connect.ScopeAccounts: true}, Counts: map[string]int{connect.ScopeAccounts: 1}}, err
}

func (b buoy) Verify(_ context.Context, _ connect.Target, _ connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.RevealString() == *b.accepts {
		return connect.Verdict{Accepted: true, Words: "it rings"}, nil
	}
	return connect.Verdict{Code: connect.VerdictWrong, Words: "silence"}, nil
}

func (b buoy) Accept(_ context.Context, t connect.Target, _ connect.Point, values connect.Values, want connect.Accepted) error {
	return connect.ReplacePassword(t, values, want, func(v secret.Value) error { *b.accepts = v.RevealString(); return nil })
}

func (b buoy) Probe(ctx context.Context, t connect.Target, p connect.Point, values connect.Values) (connect.Probed, error) {
	return connect.ProbePassword(ctx, b, t, p, values)
}

func (buoy) Rehearse(_ context.Context, t connect.Target, _ []connect.Intention) []connect.Checked {
	return []connect.Checked{{System: t.Name, What: "reach it", Result: connect.CheckOK}}
}

// TestANewKindIsAFolderAndALine: a kind that was registered, and is named nowhere
// else, is added with its options checked, read, kept and rotated.
var ines = access.Actor{Name: "ines", Roles: access.Roles()}

func TestANewKindIsAFolderAndALine(t *testing.T) {
	value := "ring-ring-ring-1"
	connect.Register(buoy{accepts: &value})
	ctx := t.Context()
	s, err := store.Open(ctx, t.TempDir(), time.Now)
	require.NoError(t, err)
	a, err := assembly.New(ctx, assembly.Config{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, a.Start(ctx))
	t.Cleanup(func() {
		a.Stop()
		require.NoError(t, s.Close())
	})
	require.NoError(t, a.Inventory.SaveSteward(ctx, ines, "sea", "keeper", secret.New("x-keeps-the-sea"), secret.Value{}))
	system := records.System{Name: "b1", Kind: string(kindBuoy), Steward: "sea", Options: map[string]string{"channel": "am"}}
	for name, options := range map[string]map[string]string{"not a choice": {"channel": "pm"}, "not a path": {"logs": "log"}, "another kind's": {"base": "DC=x"}} {
		bad := system
		bad.Options = options
		_, err := a.Inventory.Add(ctx, ines, bad)
		require.ErrorIs(t, err, app.ErrInput, name)
	}
	_, err = a.Inventory.Add(ctx, ines, system)
	require.NoError(t, err)
	require.NoError(t, a.Inventory.SetCommonOption(ctx, ines, records.CommonOption{Field: "kind", Value: string(kindBuoy), Name: "logs", Setting: "/var/log/bell"}))
	require.ErrorIs(t, a.Inventory.SetCommonOption(ctx, ines, records.CommonOption{Field: "kind", Value: "unix-host", Name: "logs", Setting: "/x"}), app.ErrInput)
	_, report, err := a.Inventory.Check(ctx, ines, "b1", "")
	require.NoError(t, err)
	require.True(t, report.OK())
	assert.Equal(t, "keeper", report.Stages[0].Detail)

	id, err := a.Surveys.Start(ctx, ines, nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool { v, err := s.Survey(ctx, id); return err == nil && v.State == "done" }, 10*time.Second, 5*time.Millisecond)
	c, err := a.Picture.FindCredential(ctx, "b1/svc-bell")
	require.NoError(t, err)
	c, err = s.NotePassword(ctx, c.AccountID)
	require.NoError(t, err)
	_, err = a.Custody.Take(ctx, ines, c, secret.New("not-it-at-all-22"))
	require.ErrorIs(t, err, app.ErrRefused)
	_, err = a.Custody.Take(ctx, ines, c, secret.New(value))
	require.NoError(t, err)
	c, err = s.Credential(ctx, c.ID)
	require.NoError(t, err)
	request := planning.Request{OnFailure: "undo"}
	rehearsed, err := a.Rotations.Rehearse(ctx, ines, c, request)
	require.NoError(t, err)
	require.Equal(t, "passed", rehearsed.Verdict, "%+v", rehearsed.Checks)
	rotation, err := a.Rotations.Start(ctx, ines, c, request, "test", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool { r, err := s.Rotation(ctx, rotation); return err == nil && r.Result == "done" }, 10*time.Second, 5*time.Millisecond)
	assert.NotEqual(t, "ring-ring-ring-1", value)
	verdict, err := a.Custody.Verify(ctx, ines, c)
	require.NoError(t, err)
	assert.True(t, verdict.Accepted)
}
