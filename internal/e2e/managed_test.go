package e2e

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A managed account is looked at as a person would, by command line and in the console: what is
// missing is named with its host, and what to do.
func TestManagedAccounts(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	const lockers = "larkmoor-directory/gmsa-lockers$"
	list := u.rows("managed", "list")
	require.Len(t, list, 1)
	assert.Equal(t, "gmsa-lockers$", list[0]["name"])
	said := u.moss(0, "managed", "check", "larkmoor-directory")
	assert.Contains(t, said, "6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11")
	assert.NotContains(t, said, "failed")
	said = u.moss(3, "managed", "show", lockers)
	for _, want := range []string{"Locker Hosts", "SKERRY1", "it joined Locker Hosts at", "restart it: a host learns its groups when it starts", "1 of 16 are missing"} {
		assert.Contains(t, said, want)
	}
	var report struct {
		Verdict string           `json:"verdict"`
		Checks  []map[string]any `json:"checks"`
		Account struct {
			Interval int              `json:"interval_days"`
			Hosts    []map[string]any `json:"hosts"`
		} `json:"account"`
	}
	require.NoError(t, json.Unmarshal([]byte(u.moss(0, "managed", "check", "larkmoor-directory", "--account", "gmsa-lockers$", "--host", "skerry1", "-o", "json")), &report))
	assert.Equal(t, []any{"passed", 30, 2, 12}, []any{report.Verdict, report.Account.Interval, len(report.Account.Hosts), len(report.Checks)})
	assert.Contains(t, u.moss(3, "managed", "check", "larkmoor-directory", "--account", "gmsa-lockers$", "--host", "kiosk4"), "add it to the permitted group, and restart it")
	assert.Contains(t, u.moss(3, "managed", "check", "larkmoor-directory", "--container", "OU=Nowhere"), "cannot be seen: no such object")
	assert.Contains(t, u.moss(1, "managed", "check", "quay1"), "have no managed accounts")
	assert.Contains(t, u.moss(2, "managed", "show", "svc-berth"), "is no managed account")
	assert.Contains(t, u.moss(2, "managed", "check", "larkmoor-directory", "--host", "skerry1"), "hosts are checked for an account: name one")
	assert.Contains(t, u.moss(1, "managed", "check", "pier9"), "not found")
	// One is created: by its names it cannot be taken for another, a second person is nobody's here.
	create := func(exit int, more ...string) string {
		return u.moss(exit, append([]string{"managed", "create", "larkmoor-directory", "gmsa-gates", "--dns-name", "gates.larkmoor.example", "--group", "Locker Hosts"}, more...)...)
	}
	assert.Contains(t, create(0), "nothing is changed yet")
	assert.Contains(t, create(3, "--service", "HTTP/gangway.larkmoor.example"), "CN=svc-gangway,OU=Service Accounts,DC=larkmoor,DC=example has the service principal name")
	assert.Contains(t, u.moss(2, "managed", "create", "larkmoor-directory", "gmsa-of-all-the-gates", "--dns-name", "gates.larkmoor.example"), "at most 15")
	assert.Contains(t, u.moss(2, "managed", "create", "larkmoor-directory", "gmsa-gates", "--dns-name", "gates.larkmoor.example", "--group", "Nobody"), "shows no group")
	done := create(0, "--service", "HTTP/gates.larkmoor.example", "--reason", "gates without a password")
	assert.Contains(t, done, "prove that the managed account gmsa-gates$ is there")
	assert.Contains(t, u.moss(0, "survey", "run", "larkmoor-directory"), "done")
	assert.Contains(t, u.moss(3, "managed", "show", "gmsa-gates$"), "HTTP/gates.larkmoor.example")
	u.moss(0, "managed", "permit", "gmsa-gates$", "--group", "Operations", "--reason", "the operators' hosts")
	assert.Contains(t, u.moss(3, "managed", "show", "gmsa-gates$"), "Operations")
	list = u.rows("amend", "list", "--sort", "id")
	last := list[len(list)-1]["id"]
	assert.Contains(t, u.moss(0, "amend", "undo", fmt.Sprint(last), "--reason", "they have none"), "undone")
	assert.NotContains(t, u.moss(3, "managed", "show", "gmsa-gates$"), "Operations")
	d.Estate.Windows["north1"].Reboot()
	u.moss(0, "survey", "run", "north1")
	assert.Contains(t, u.moss(0, "managed", "show", lockers), "after it joined Locker Hosts", "restarted, and so it can")

	// A dependent gets it once its host can fetch the password, and the host keeps it so long.
	assert.Contains(t, u.moss(0, "managed", "install", lockers, "--host", "north1", "--restart"), "it is so already")
	assert.Contains(t, u.moss(2, "managed", "install", lockers, "--host", "north1", "--restart", "--window", "soon"), "write BEGIN/END")
	assert.Contains(t, u.moss(2, "managed", "install", lockers, "--host", "pier9"), "has seen no computer")
	assert.Contains(t, u.moss(2, "managed", "assign", lockers, "--rehearse"), "choose dependents")
	given := u.moss(0, "managed", "assign", lockers, "--filter", "system=skerry1", "--filter", "name=KioskAgent", "--reason", "kiosks without a password")
	assert.Contains(t, given, "4 of 4 that it needs")
	assert.Contains(t, given, "finished done")
	account, stored := d.Estate.Windows["skerry1"].Stores("KioskAgent")
	assert.Equal(t, `LARKMOOR\gmsa-lockers$`, account)
	assert.Empty(t, stored)
	assert.Contains(t, u.moss(1, "managed", "remove", lockers, "--host", "skerry1"), "KioskAgent on skerry1")
	assert.Contains(t, u.moss(2, "managed", "remove", lockers, "--host", "skerry1", "--group", "Locker Hosts"), "not both")
	assert.Contains(t, u.moss(2, "managed", "remove", lockers, "--watch", "soon"), "no span")

	d.Estate.Directory.Join("CN=Locker Hosts,OU=Groups,DC=larkmoor,DC=example", "CN=KIOSK4,OU=Hosts,DC=larkmoor,DC=example", time.Now())
	b := signedIn(t, d)
	b.open("/managed", "gmsa-lockers$")
	b.press("Check")
	b.see("Can the hosts of gmsa-lockers$ use it?")
	b.see("Nothing is missing; ")
	b.see("KIOSK4 knows that it is permitted")
	b.see("Hosts restarted")
	b.settle()
	b.accessible("managed account")
	b.press("Check a directory")
	b.see("Where an account is to stand")
	b.accessible("check a directory")
	b.open("/managed", "gmsa-lockers$")
	b.press("More")
	b.press("Let hosts use it")
	b.see("Hosts become members of the group")
	b.settle()
	b.accessible("hosts of a managed account")
	b.open("/managed", "gmsa-lockers$")
	b.press("Create a managed account")
	b.see("At most 15 characters")
	b.settle()
	b.accessible("create a managed account")
	b.fill("#new-name", "gmsa-kiosks")
	b.fill("#new-dns", "kiosks.larkmoor.example")
	b.fill("#new-group", "Locker Hosts")
	b.press("Rehearse")
	b.see("Change of a managed account")
	b.see("it is not there, and nothing has one of its names")
	b.accessible("a managed account that was rehearsed")
}
