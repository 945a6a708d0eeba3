package assembly_test

import (
	"database/sql"
	"net"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/store/database"
)

// knownHost is the line of a host in a known_hosts file, as another maker writes it.
func knownHost(t *testing.T, address string) string {
	t.Helper()
	var line string
	_, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: "nobody", HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		line = knownhosts.Line([]string{knownhosts.Normalize(address)}, key)
		return nil
	}})
	require.Error(t, err, "nobody may sign in")
	require.NotEmpty(t, line)
	return line + "\n"
}

// Whoever turned a host that the list has may point an account with rights at it.
// Who pastes the list has not looked at that: the list decides no endpoint that
// somebody else asked for.
func TestAListOfHostKeysDecidesNoEndpoint(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "administrator", "operator", "approver")
	f.person("ben", "operator")
	turned := f.estate.Hosts["quay1"]
	_, port := larkmoor.Port(turned.Address())
	_, err := f.Inventory.Add(ctx, ben, records.System{Name: "bank1", Kind: "unix-host", Address: "localhost", Port: port, Steward: "hosts"})
	require.NoError(t, err)

	result := func(list string) inventory.ListedKey {
		t.Helper()
		done, err := f.Inventory.ApproveListed(ctx, ines, list)
		require.NoError(t, err)
		for _, v := range done.Systems {
			if v.System == "bank1" {
				return v
			}
		}
		require.Fail(t, "bank1 is not told of")
		return inventory.ListedKey{}
	}
	list := knownHost(t, net.JoinHostPort("localhost", strconv.Itoa(port)))
	got := result(list)
	assert.Equal(t, inventory.KeyWaits, got.Result)
	assert.Contains(t, got.Words, "ben asked for its endpoint")
	assert.Empty(t, f.system("bank1").HostKeys)
	assert.Empty(t, f.system("bank1").Trusted)
	waits, err := f.Store.WaitsFor(ctx, f.system("bank1").ID)
	require.NoError(t, err, "it waits still")
	assert.Equal(t, "ben", waits.AskedBy)

	// What the words advise approves both.
	_, _, err = f.Inventory.Check(ctx, ines, "bank1", got.Fingerprint)
	require.NoError(t, err)
	assert.Contains(t, f.system("bank1").Trusted, "approved by ines")
	assert.Equal(t, inventory.KeyKnown, result(list).Result)
}

// An approval that could not be kept says nothing about the key of the host.
func TestAnApprovalThatCannotBeKept(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "administrator", "operator", "approver")
	h := f.estate.Hosts["quay1"]
	_, port := larkmoor.Port(h.Address())
	_, err := f.Inventory.Add(ctx, ines, records.System{Name: "new1", Kind: "unix-host", Address: "localhost", Port: port, Steward: "hosts"})
	require.NoError(t, err)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(ctx, "CREATE TRIGGER full BEFORE INSERT ON host_keys BEGIN SELECT RAISE(FAIL, 'the disk is full'); END")
	require.NoError(t, err)
	done, err := f.Inventory.ApproveListed(ctx, ines, knownHost(t, net.JoinHostPort("localhost", strconv.Itoa(port)))+knownHost(t, h.Address()))
	require.NoError(t, err)
	results := map[string]inventory.ListedKey{}
	for _, v := range done.Systems {
		results[v.System] = v
	}
	assert.Equal(t, inventory.KeyFailed, results["new1"].Result)
	assert.Contains(t, results["new1"].Words, "the disk is full")
	assert.Equal(t, inventory.KeyKnown, results["quay1"].Result, "the others are told of all the same")
	assert.Empty(t, f.system("new1").HostKeys)
}
