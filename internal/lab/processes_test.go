package lab_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/connect/unixhost/reading"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// TestRunningPrograms: what a real host's processes hold in their environment
// and on their command lines, have open, or work beside.
func TestRunningPrograms(t *testing.T) {
	h := lab.NewHost(t, "running", 13)
	h.Write(t, "/etc/quay/plain.env", "QUAY_USER=svc-quay\nQUAY_PASSWORD=Plain-Value-1\n", 0o600)
	h.Write(t, "/run-later/hidden", "Hidden-Value-2", 0o600)
	h.Write(t, "/mnt/gauge/gauge.ini", "[db]\nuser = svc-quay\npassword = Folder-Value-3\n", 0o600)
	h.Write(t, "/mnt/gauge/notes.txt", "tides are slow\n", 0o644)
	h.Write(t, "/mnt/open files/quo\"te.conf", "user=svc-quay\npassword=Opened-Value-4\n", 0o600)
	h.Write(t, "/mnt/open files/unused.conf", "user=svc-quay\npassword=Never-Value-5\n", 0o600)
	h.Write(t, "/etc/systemd/system/plain.service", "[Service]\nEnvironmentFile=/etc/quay/plain.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Write(t, "/etc/systemd/system/hidden.service", "[Service]\nExecStart=/bin/sh -c 'QUAY_USER=svc-quay QUAY_PASSWORD=$(cat /run-later/hidden) exec sleep infinity'\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Write(t, "/etc/systemd/system/opener.service", "[Service]\nExecStart=/bin/sh -c 'exec sleep infinity 3<\"/mnt/open files/quo\\\\\"te.conf\"'\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "useradd -m tide && chown tide /mnt/gauge && systemctl -q enable plain.service hidden.service opener.service")
	h.Shell(t, "mkdir -p /u01 && useradd -m -d /u01/crane crane && mkdir -m 700 /u01/crane/.ssh && ssh-keygen -q -t ed25519 -N '' -C crane -f /u01/crane/.ssh/id_ed25519 && cp /u01/crane/.ssh/id_ed25519.pub /u01/crane/.ssh/authorized_keys && chown -R crane /u01/crane/.ssh && chmod 700 /u01/crane")
	h.Boot(t)
	h.Shell(t, "cd /mnt/gauge && QUAY_TOKEN='by hand\n6' setsid -f runuser -u tide -- perl -e 'sleep 600' -- --password=Argument-Value-7 >/dev/null 2>&1 </dev/null")
	for _, unit := range []string{"plain", "hidden", "opener"} {
		require.Eventually(t, func() bool {
			return strings.TrimSpace(h.Shell(t, "pgrep -f 'sleep infinity' | wc -l")) != "0" && strings.TrimSpace(h.Shell(t, "systemctl is-active "+unit+" || true")) == "active"
		}, 20*time.Second, 100*time.Millisecond)
	}
	visit := func(rights []string) (map[string]estate.Dependent, connect.Coverage, []connect.Unread) {
		h.Write(t, "/etc/sudoers.d/mossmgr", "Defaults:mossmgr !lecture, !requiretty\nmossmgr ALL=(root) NOPASSWD: "+strings.Join(rights, ", ")+"\n", 0o440)
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		seen := map[string]estate.Dependent{}
		var problems []connect.Unread
		coverage, err := unixhost.Connector{}.Visit(ctx, h.Target(), connect.VisitRequest{FingerprintKey: secret.New("key"), Names: []string{"svc-quay"}}, func(b connect.Batch) error {
			for _, d := range b.Dependents {
				assert.NotContains(t, fmt.Sprintf("%+v %+v", d, d.Copy), "-Value-", "no value in a dependent")
				seen[string(d.Kind)+" "+d.Place] = d
			}
			problems = append(problems, b.Problems...)
			return nil
		})
		require.NoError(t, err)
		return seen, coverage, problems
	}
	all := append(reading.SearchRights(nil), narrow...)
	seen, coverage, _ := visit(all)
	assert.Empty(t, coverage.Why)
	fingerprint := secret.FingerprinterFromKey(secret.New("key"))
	var got []string
	for place, d := range seen {
		if d.Kind == estate.DependentProcess {
			got = append(got, place)
		}
	}
	slices.Sort(got)
	assert.Equal(t, []string{
		"process /usr/bin/perl by hand", "process /usr/bin/perl by hand#arguments:perl --password", "process /usr/bin/perl by hand#environment:QUAY_TOKEN", "process hidden.service#environment:QUAY_PASSWORD",
	}, got, "what a file of the unit explains is not told again")
	hidden := seen["process hidden.service#environment:QUAY_PASSWORD"]
	assert.Equal(t, fingerprint.Of(secret.New("Hidden-Value-2")), hidden.Copy.Fingerprint)
	assert.Equal(t, []string{"svc-quay"}, hidden.Copy.Names)
	assert.Equal(t, []string{"hidden.service"}, hidden.Requires)
	assert.Equal(t, []string{"/mnt/gauge/gauge.ini"}, seen["process /usr/bin/perl by hand"].Uses)
	assert.Equal(t, "tide", seen["process /usr/bin/perl by hand"].RunsAs)
	assert.Contains(t, seen, "file /mnt/gauge/gauge.ini#db/password", "beside a program")
	assert.Contains(t, seen, "file /mnt/open files/quo\"te.conf#password", "held open by a program")
	assert.NotContains(t, seen, "file /mnt/open files/unused.conf#password")

	assert.Contains(t, seen, "key /u01/crane/.ssh/id_ed25519", "a home where the search does not look")
	entry := false
	for place, d := range seen {
		entry = entry || strings.HasPrefix(place, "authorized key /u01/crane/.ssh/authorized_keys#SHA256:") && d.Key.Lets == "crane"
	}
	assert.True(t, entry)

	without := func(command string) []string {
		return slices.DeleteFunc(slices.Clone(all), func(s string) bool { return strings.HasSuffix(s, command) })
	}
	seen, coverage, problems := visit(without("/usr/bin/ls"))
	assert.Empty(t, coverage.Why, "what is open comes on top")
	assert.NotContains(t, seen, "file /mnt/gauge/gauge.ini#db/password")
	assert.True(t, slices.ContainsFunc(problems, func(u connect.Unread) bool {
		return u.Place == "running programs" && strings.Contains(u.Next, "/usr/bin/ls")
	}), "and is told")
	_, coverage, _ = visit(without("/usr/bin/grep"))
	assert.Contains(t, coverage.Why[connect.ScopeProcesses], "/usr/bin/grep")
	assert.False(t, coverage.Complete[connect.ScopeProcesses])
}
