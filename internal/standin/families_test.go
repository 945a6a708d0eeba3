package standin_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	standinhost "mossledger.example/moss/internal/standin/unixhost"
)

// Distributions differ in where crontabs are and in what passwd and chage say. What is
// read is the same of each, and none is complete by not having looked.
func TestHostsOfEveryFamilyAreRead(t *testing.T) {
	for family, table := range map[standinhost.Family]string{
		"": "/var/spool/cron/crontabs/svc-tide", standinhost.FamilyRHEL: "/var/spool/cron/svc-tide", standinhost.FamilySUSE: "/var/spool/cron/tabs/svc-tide",
	} {
		t.Run("family "+string(family), func(t *testing.T) {
			host := standinhost.New("quay1")
			host.Family = family
			host.AddUser(standinhost.User{Name: "mossmgr", UID: 990, Shell: "/bin/bash", Password: "Manager-Passw0rd", Sudo: func([]string) bool { return true }})
			host.AddUser(standinhost.User{Name: "svc-tide", UID: 1001, Home: "/var/lib/tide", Password: "Tide-Passw0rd-1", Expires: "2027-01-09", MaxDays: 90})
			host.AddUser(standinhost.User{Name: "svc-shut", UID: 1002, Home: "/var/lib/shut"})
			host.AddUser(standinhost.User{Name: "odile.kern", UID: 80001, Home: "/home/odile.kern", Directory: true})
			host.SetCrontab("svc-tide", "5 2 * * * /opt/tide/nightly --password-file /etc/tide.pw\n")
			host.SetCrontab("odile.kern", "@daily /home/odile.kern/report\n")
			host.Write("/etc/anacrontab", standinhost.File{Mode: 0o644, Content: []byte("SHELL=/bin/sh\nSTART_HOURS_RANGE=3-22\n7\t15\ttide.weekly\tnice run-parts /etc/cron.weekly\n@monthly 45 tide.monthly /opt/tide/monthly\n")})
			address, err := host.Serve("127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { require.NoError(t, host.Close()) })
			name, port := split(t, address)
			target := connect.Target{
				SystemID: "h", Name: "quay1", Kind: estate.KindUnixHost, Address: name, Port: port, HostKeys: []string{host.Fingerprint()},
				Steward: connect.Steward{Account: "mossmgr", Password: secret.New("Manager-Passw0rd")},
			}
			accounts, entries := map[string]estate.Account{}, map[string]estate.Dependent{}
			coverage, err := unixhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
				for _, a := range b.Accounts {
					accounts[a.Name] = a
				}
				for _, d := range b.Dependents {
					if d.Kind == estate.DependentCron {
						entries[d.Place] = d
					}
				}
				for _, p := range b.Problems {
					assert.NotContains(t, []string{"password state", "/var/spool/cron"}, p.Place, p.What)
				}
				return nil
			})
			require.NoError(t, err)
			assert.True(t, coverage.Complete[connect.ScopeCron], coverage.Why[connect.ScopeCron])
			assert.Equal(t, "svc-tide", entries[table+":1"].RunsAs, "%v", entries)
			assert.Contains(t, entries, "/var/spool/cron/"+map[standinhost.Family]string{"": "crontabs/", standinhost.FamilySUSE: "tabs/"}[family]+"odile.kern:1", "of a directory's user as well")
			assert.Equal(t, "root", entries["/etc/anacrontab:3"].RunsAs)
			assert.Equal(t, "nice run-parts /etc/cron.weekly", entries["/etc/anacrontab:3"].Executable)
			assert.Equal(t, "@monthly 45", entries["/etc/anacrontab:4"].Schedule)
			assert.NotContains(t, accounts, "odile.kern", "no local account")
			tide := accounts["svc-tide"]
			assert.Equal(t, estate.Yes, tide.Enabled)
			assert.Equal(t, "2027-01-09", tide.AccountExpires.Format(time.DateOnly))
			assert.Equal(t, "2026-05-31", tide.PasswordExpires.Format(time.DateOnly))
			assert.Equal(t, estate.No, accounts["svc-shut"].Enabled, "LK is locked, too")
			assert.Equal(t, estate.Yes, accounts["svc-shut"].Locked)
		})
	}
}

// Where no crontab was found, "complete" is said only of a host that can have none.
func TestCrontabsInAnUnknownPlace(t *testing.T) {
	for _, program := range []string{"", "/usr/sbin/crond"} {
		host := standinhost.New("quay1")
		host.Family = "unknown"
		host.AddUser(standinhost.User{Name: "mossmgr", UID: 990, Shell: "/bin/bash", Password: "Manager-Passw0rd", Sudo: func([]string) bool { return true }})
		if program != "" {
			host.Write(program, standinhost.File{Mode: 0o755, Content: []byte("\x7fELF")})
		}
		address, err := host.Serve("127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, host.Close()) })
		name, port := split(t, address)
		target := connect.Target{
			SystemID: "h", Name: "quay1", Kind: estate.KindUnixHost, Address: name, Port: port, HostKeys: []string{host.Fingerprint()},
			Steward: connect.Steward{Account: "mossmgr", Password: secret.New("Manager-Passw0rd")},
		}
		coverage, err := unixhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("key")}, func(connect.Batch) error { return nil })
		require.NoError(t, err)
		assert.Equal(t, program == "", coverage.Complete[connect.ScopeCron], coverage.Why[connect.ScopeCron])
	}
}
