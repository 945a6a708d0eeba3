package assembly_test

import (
	"errors"
	"fmt"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// Two rotations at the same time change one file: neither takes back what the
// other did.
func TestTwoRotationsOfOneFile(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	names := []string{"svc-manifest", "svc-tidefeed"}
	content := ""
	for i, name := range names {
		content += fmt.Sprintf("APP%d_USER=%s\nAPP%d_PASSWORD='%s'\n", i, name, i, larkmoor.Passwords[name])
	}
	h := f.estate.Hosts["quay1"]
	h.Write("/etc/shared/both.env", unixhost.File{Mode: 0o600, Owner: "root", Content: []byte(content)})
	var accounts []records.Account
	for _, name := range names {
		accounts = append(accounts, f.take(name))
	}
	f.survey()
	var running []records.RotationID
	for _, a := range accounts {
		v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
		require.NoError(t, err)
		require.Equal(t, "passed", v.Verdict, failures(v))
		require.Contains(t, fmt.Sprint(v.Plan.Steps), "/etc/shared/both.env")
	}
	for _, a := range accounts {
		id, err := f.Rotations.Start(ctx, ines, cred(f, a), undo, "test", "")
		require.NoError(t, err)
		running = append(running, id)
	}
	for _, id := range running {
		require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	}
	after := f.file("quay1", "/etc/shared/both.env")
	for i, name := range names {
		m := regexp.MustCompile(fmt.Sprintf(`APP%d_PASSWORD='([^']*)'`, i)).FindStringSubmatch(after)
		require.Len(t, m, 2, after)
		assert.NotEqual(t, larkmoor.Passwords[name], m[1])
		assert.True(t, f.estate.Directory.Accepts(larkmoor.DN(name), m[1]), "%s: the file holds what the directory accepts", name)
	}
}

// Many surveys that wait for one system that hangs leave the places to others.
func TestAHangingSystemHoldsUpNobodyElse(t *testing.T) {
	f := start(t)
	hang := make(chan struct{})
	release := sync.OnceFunc(func() { close(hang) })
	defer release()
	f.estate.Directory.SetFault(directory.Fault{Hang: hang})
	var waiting []records.SurveyID
	for range 3 * f.Surveys.Parallel() {
		id, err := f.Surveys.Start(t.Context(), ines, []string{"dir"})
		require.NoError(t, err)
		waiting = append(waiting, id)
	}
	f.survey("quay1") // would wait for ever, if those that wait kept the places
	f.estate.Directory.SetFault(directory.Fault{})
	release()
	for _, id := range waiting[1:] {
		if err := f.Surveys.Cancel(f.t.Context(), ines, id); !errors.Is(err, app.ErrNotFound) { // it may have ended since
			require.NoError(t, err)
		}
	}
	require.Eventually(t, func() bool {
		v, err := f.Store.Survey(t.Context(), waiting[0])
		return err == nil && v.State == "done"
	}, time.Minute, 20*time.Millisecond)
}
