package e2e

import (
	"net"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// OpenSSH's own scanner writes the list; host keys are approved by it in bulk,
// and nothing is approved that it does not say.
func TestHostKeysByAList(t *testing.T) {
	t.Parallel()
	scanner, err := exec.LookPath("ssh-keyscan")
	require.NoError(t, err, "'make test' installs what brings it")
	d, u := startDemo(t)
	scan := func(host string) string {
		address, port, err := net.SplitHostPort(d.Estate.Hosts[host].Address())
		require.NoError(t, err)
		out, err := exec.CommandContext(t.Context(), scanner, "-T", "20", "-p", port, address).Output()
		require.NoError(t, err)
		require.NotEmpty(t, out)
		return string(out)
	}
	all := scan("quay1") + scan("quay2") + scan("tide1")
	result := func(rows []map[string]any) map[string]any {
		out := map[string]any{}
		for _, v := range rows {
			out[v["system"].(string)] = v["result"]
		}
		return out
	}

	// All were approved when the demonstration was made; the others are not in the list.
	got := result(u.rowsOf(3, "system", "approve-keys", "--known-hosts", u.file("known", all)))
	assert.Equal(t, "known", got["quay1"])
	assert.Equal(t, "not listed", got["bookings1"])

	// A host that nobody approved yet, and one that offers another key than the list has.
	_, port, err := net.SplitHostPort(d.Estate.Hosts["quay2"].Address())
	require.NoError(t, err)
	u.moss(0, "system", "add", "quay9", "--kind", "unix-host", "--address", "localhost", "--port", port, "--steward", "hosts")
	out, err := exec.CommandContext(t.Context(), scanner, "-4", "-T", "20", "-p", port, "localhost").Output()
	require.NoError(t, err)
	all += string(out)
	d.Estate.Hosts["tide1"].NewHostKey()
	got = result(u.rowsOf(3, "system", "approve-keys", "--known-hosts", u.file("known2", all)))
	assert.Equal(t, "approved", got["quay9"])
	assert.Equal(t, "other key", got["tide1"], "the list has its former key")
	got = result(u.rowsOf(3, "system", "approve-keys", "--known-hosts", u.file("known3", scan("tide1"))))
	assert.Equal(t, "replaces", got["tide1"], "a list never replaces a key that was approved")

	said := u.moss(2, "system", "approve-keys", "--known-hosts", u.file("junk", "not a list\n"))
	assert.Contains(t, said, "line 1: it is not a line of a known_hosts file")
	u.moss(2, "system", "approve-keys")
}
