package lab_test

import (
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

// A host whose sudo asks for a password can be read without a right to change anything:
// what is open is read, what is not is told with the line that it needs, nothing that was
// not read counts as complete, and nothing waits for somebody to type.
func TestAHostWithoutAnyRight(t *testing.T) {
	h := lab.NewHost(t, "asking", 43)
	h.Write(t, "/etc/berth/berth.env", "BERTH_PASSWORD=Old-Value-1\n", 0o600)
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nEnvironmentFile=/etc/berth/berth.env\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Write(t, "/etc/sudoers.d/mossmgr", "mossmgr ALL=(root) ALL\n", 0o440)
	h.Shell(t, "useradd -m svc-tide && systemctl -q enable berth.service && mkdir -p /var/spool/cron/crontabs && echo '1 2 * * * /bin/true' > /var/spool/cron/crontabs/svc-tide")
	h.Boot(t)
	c, target := unixhost.Connector{}, h.Target()
	var accounts, units int
	needs := ""
	coverage, err := c.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
		accounts += len(b.Accounts)
		for _, d := range b.Dependents {
			if d.Kind == estate.DependentUnit {
				units++
			}
		}
		for _, p := range b.Problems {
			needs += p.Place + ": " + p.What + " " + p.Next + "\n"
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, accounts, 10)
	assert.Greater(t, units, 5)
	assert.True(t, coverage.Complete[connect.ScopeAccounts])
	for _, scope := range []string{connect.ScopeCron, connect.ScopeFiles} {
		assert.False(t, coverage.Complete[scope], scope)
		assert.NotEmpty(t, coverage.Why[scope], scope)
	}
	for _, line := range []string{"/usr/bin/passwd -S -a", "/usr/bin/ls -1 -- /var/spool/cron/crontabs", "/usr/bin/cat -- /etc/berth/berth.env"} {
		assert.Contains(t, needs, line, "what it would need next")
	}
	failed := 0
	for _, line := range c.Rehearse(t.Context(), target, []connect.Intention{{Replace: "/etc/berth/berth.env", Places: []held.Locator{{Layout: layout.Env, Key: "BERTH_PASSWORD", Part: held.PartValue}}, Current: secret.New("Old-Value-1")}, {Restart: unit("berth.service")}}) {
		if line.Result == connect.CheckFailed {
			failed++
			assert.NotEmpty(t, line.Words+line.Next)
		}
	}
	assert.GreaterOrEqual(t, failed, 2)
	_, err = c.Restart(t.Context(), target, unit("berth.service"))
	assert.Error(t, err)
}
