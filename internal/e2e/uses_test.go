package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a directory recorded of sign-ins is taken in by the command line, from a file and
// from a pipe; the same records count once, and a host has none to take in.
func TestUsesThatADirectoryRecorded(t *testing.T) {
	t.Parallel()
	_, u := startDemo(t)
	var lines strings.Builder
	for i := range 3 {
		fmt.Fprintf(&lines, `{"timestamp": "2026-11-23T10:00:0%d.000001+0100", "type": "Authentication", "Authentication": {"status": "NT_STATUS_OK", "remoteAddress": "ipv4:192.0.2.77:49152", "serviceDescription": "LDAP", "authDescription": "simple bind/TLS", "clientAccount": "svc-berth", "mappedAccount": "svc-berth", "becameSid": ""}}`+"\n", i)
	}
	lines.WriteString("a line of something else\n{broken\n")
	records := u.file("auth.json", lines.String())
	for range 2 {
		assert.Contains(t, u.moss(0, "use", "import", records, "--system", "larkmoor-directory"), "3 log-ons taken in, 1 lines not understood")
	}
	out := u.moss(0, "use", "list", "larkmoor-directory/svc-berth", "-o", "json")
	var got struct {
		Seen []struct {
			Client string
			Count  int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	counts := map[string]int{}
	for _, v := range got.Seen {
		counts[v.Client] += v.Count
	}
	assert.Equal(t, 3, counts["192.0.2.77"], "taken in twice, counted once")
	assert.Contains(t, u.moss(2, "use", "import", records, "--system", "quay1"), "quay1 is a unix-host: these are records of a directory")
	assert.Contains(t, u.moss(1, "use", "import", records, "--system", "nowhere"), "not found")
}
