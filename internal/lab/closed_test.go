package lab_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// What units name in folders that are closed to the steward, and unit files that
// only root may read, are read with rights and named without.
func TestClosedFoldersOfUnits(t *testing.T) {
	h := lab.NewHost(t, "closed1", 34)
	unitFile := func(exec string) string {
		return "[Service]\n" + exec + "\n[Install]\nWantedBy=multi-user.target\n"
	}
	h.Write(t, "/etc/closed/app.env", "APP_USER=svc-berth\nAPP_PASSWORD=Closed-Value-41\n", 0o600)
	h.Write(t, "/etc/closed/app.yaml", "database:\n  user: svc-berth\n  password: Closed-Value-41\n", 0o600)
	h.Write(t, "/etc/systemd/system/aa-app.service", unitFile("EnvironmentFile=/etc/closed/app.env\nExecStart=/bin/sh -c 'exec sleep infinity' /etc/closed/app.yaml"), 0o644)
	h.Write(t, "/etc/systemd/system/bb-secret.service", unitFile("Environment=KEY_PASSWORD=Closed-Value-41\nUser=nobody\nExecStart=/bin/sleep infinity"), 0o600)
	h.Write(t, "/etc/systemd/system/cc-late.service", unitFile("User=daemon\nExecStart=/bin/sleep infinity"), 0o644)
	h.Shell(t, "chmod 700 /etc/closed && systemctl -q enable aa-app bb-secret cc-late")
	h.Boot(t)
	visit := func() (map[string]estate.Dependent, []connect.Unread, connect.Coverage) {
		dependents := map[string]estate.Dependent{}
		var problems []connect.Unread
		coverage, _ := unixhost.Connector{}.Visit(t.Context(), h.Target(), connect.VisitRequest{FingerprintKey: secret.New("key"), Names: []string{"svc-berth"}, Values: []secret.Value{secret.New("Closed-Value-41")}}, func(b connect.Batch) error {
			for _, d := range b.Dependents {
				dependents[d.Place] = d
			}
			problems = append(problems, b.Problems...)
			return nil
		})
		return dependents, problems, coverage
	}
	holding := func(dependents map[string]estate.Dependent, path string) bool {
		for place, d := range dependents {
			if strings.HasPrefix(place, path) && d.Copy != nil && d.Copy.Fingerprint != "" {
				return true
			}
		}
		return false
	}

	dependents, problems, coverage := visit()
	for _, path := range []string{"/etc/closed/app.env", "/etc/closed/app.yaml", "/etc/systemd/system/bb-secret.service"} {
		assert.True(t, holding(dependents, path), "%s holds the value: %v", path, problems)
	}
	assert.Equal(t, "nobody", dependents["bb-secret.service"].RunsAs)
	assert.Equal(t, "daemon", dependents["cc-late.service"].RunsAs, "one that cannot be read stops no other")
	assert.True(t, coverage.Complete[connect.ScopeUnits], coverage.Why)
	assert.True(t, coverage.Complete[connect.ScopeFiles], coverage.Why)

	// Without rights: each is named, and nothing is called complete.
	h.Shell(t, "rm /etc/sudoers.d/mossmgr")
	dependents, problems, coverage = visit()
	assert.False(t, holding(dependents, "/etc/closed/app.env"))
	for _, path := range []string{"/etc/closed/app.env", "/etc/systemd/system/bb-secret.service"} {
		named := false
		for _, p := range problems {
			named = named || strings.Contains(p.Place+p.What, path) || strings.Contains(p.Place, "bb-secret.service") && strings.Contains(path, "bb-secret")
		}
		assert.True(t, named, "%s is named: %+v", path, problems)
	}
	require.Contains(t, dependents, "cc-late.service")
	assert.Equal(t, "daemon", dependents["cc-late.service"].RunsAs)
	assert.False(t, coverage.Complete[connect.ScopeFiles])
	assert.NotEmpty(t, coverage.Why[connect.ScopeFiles])
	assert.False(t, coverage.Complete[connect.ScopeUnits], "a unit file that nobody could read: %v", coverage.Why)
}
