package assembly_test

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"sync"
	"syscall"
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

// silence is a port at which nothing answers, at any address of this machine: a
// listener whose queue is full, so that the system drops what comes (listen(2), a
// backlog of 0).
func silence(t *testing.T) (port int) {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{}))
	require.NoError(t, syscall.Listen(fd, 0))
	bound, err := syscall.Getsockname(fd)
	require.NoError(t, err)
	address := bound.(*syscall.SockaddrInet4)
	full := false
	for range 8 {
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", address.Port), 500*time.Millisecond)
		if err != nil {
			full = true
			break
		}
		t.Cleanup(func() { _ = conn.Close() })
	}
	require.True(t, full, "its queue is full")
	return address.Port
}

// Systems that do not answer keep their places for as long as connecting may take:
// those that do answer are read meanwhile, at the first survey and at the next.
func TestSilentSystemsHoldUpNobody(t *testing.T) {
	f := start(t)
	port := silence(t)
	names := []string{"quay1"}
	for i := range 3 * f.Surveys.Parallel() {
		v := records.System{Name: fmt.Sprintf("aground%d", i), Kind: "redis", Address: fmt.Sprintf("127.0.1.%d", i+1), Port: port}
		_, err := f.Inventory.Add(t.Context(), ines, v)
		require.NoError(t, err)
		names = append(names, v.Name)
	}
	// In the middle, wherever a survey begins.
	names[0], names[len(names)/2] = names[len(names)/2], names[0]
	for round := range 2 {
		id, err := f.Surveys.Start(t.Context(), ines, names)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			v, err := f.Store.Survey(t.Context(), id)
			return err == nil && v.State == "done"
		}, time.Minute, 20*time.Millisecond)
		visits, err := f.Store.Visits(t.Context(), id, records.Query{Limit: 100})
		require.NoError(t, err)
		var live time.Time
		first := time.Now()
		for _, v := range visits.Items {
			if v.System == "quay1" {
				require.Equal(t, "done", v.State, v.Words)
				live = v.Ended
			} else {
				require.Equal(t, "failed", v.State)
				if v.Ended.Before(first) {
					first = v.Ended
				}
			}
		}
		assert.True(t, live.Before(first), "round %d: quay1 was read %s after the first silent one was given up", round, live.Sub(first))
	}
}
