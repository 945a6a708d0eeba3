package lab_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A host whose small programs are all one other program, which knows fewer options: what
// can be read is, what cannot is told and makes nothing complete, and a copy is replaced.
func TestAHostWithAnotherUserland(t *testing.T) {
	h := lab.NewHost(t, "small", 43)
	raw, err := os.ReadFile("/usr/bin/busybox")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(h.Root+"/usr/bin/busybox", raw, 0o755))
	const path = "/etc/berth/berth.env"
	require.NoError(t, os.MkdirAll(h.Root+"/etc/berth", 0o755))
	h.Write(t, path, "BERTH_USER=svc-berth\nBERTH_PASSWORD=Old-Value-41\n", 0o640)
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nEnvironmentFile="+path+"\nExecStart=/bin/sleep infinity\n", 0o644)
	h.Write(t, "/etc/cron.d/berth", "5 4 * * * root /bin/true berth\n", 0o644)
	h.Boot(t)
	h.Shell(t, `chown root:nogroup `+path+`
for a in $(busybox --list); do
 case $a in sh|ash|login|su|init|mount|umount|ip|ps|crontab|passwd|busybox|'['|'[[') continue;; esac
 if [ -e /usr/bin/$a ]; then busybox ln -sf busybox /usr/bin/$a; fi
done`)
	c, target := unixhost.Connector{}, h.Target()
	require.True(t, c.Check(t.Context(), target).OK())
	old, next := secret.New("Old-Value-41"), secret.New("New-Value-42")
	seen := map[string]estate.Dependent{}
	var told []string
	coverage, err := c.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key"), Names: []string{"svc-berth"}, Values: []secret.Value{old}}, func(b connect.Batch) error {
		for _, d := range b.Dependents {
			seen[d.Place] = d
		}
		for _, p := range b.Problems {
			told = append(told, p.What)
		}
		return nil
	})
	require.NoError(t, err)
	for scope, complete := range map[string]bool{connect.ScopeAccounts: true, connect.ScopeUnits: true, connect.ScopeCron: true, connect.ScopeFiles: false, connect.ScopeProcesses: false} {
		assert.Equal(t, complete, coverage.Complete[scope], "%s: %s", scope, coverage.Why[scope])
		assert.Equal(t, complete, coverage.Why[scope] == "", scope)
	}
	assert.Contains(t, coverage.Why[connect.ScopeFiles], "realpath")
	assert.NotEmpty(t, told)
	assert.Equal(t, "/bin/true berth", seen["/etc/cron.d/berth:1"].Executable)
	assert.Equal(t, []string{path}, seen["berth.service"].Uses)
	copied := seen[path+"#BERTH_PASSWORD"]
	require.NotNil(t, copied.Copy, "what a unit names is read, whatever the search can do")
	assert.Equal(t, []string{"svc-berth"}, copied.Copy.Names)

	places := []held.Locator{{Layout: layout.Env, Key: "BERTH_PASSWORD", Part: held.PartValue}}
	for _, line := range c.Rehearse(t.Context(), target, []connect.Intention{{Replace: path, Places: places, Current: old}}) {
		assert.NotEqual(t, connect.CheckFailed, line.Result, "%+v", line)
	}
	require.NoError(t, c.ReplaceCopies(t.Context(), target, path, places, old, next))
	assert.Equal(t, "640 root nogroup\nBERTH_USER=svc-berth\nBERTH_PASSWORD=New-Value-42\n", h.Shell(t, "stat -c '%a %U %G' "+path+"; cat "+path), "with its mode and its group")
}
