package lab_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/lab"
)

// A rule of sudo that is given for a while: until when is read of it, and sudo itself lets the
// command run before that moment, and after it does not.
func TestSudoUntil(t *testing.T) {
	h := lab.NewHost(t, "until", 64)
	h.Shell(t, "useradd -r -m svc-berth && useradd -r svc-far")
	h.Boot(t)
	end := time.Now().UTC().Add(12 * time.Second).Truncate(time.Second)
	h.Write(t, "/etc/sudoers.d/night", fmt.Sprintf("svc-berth ALL = (root) NOTAFTER=%s NOPASSWD: /usr/bin/id\nsvc-far ALL = (root) NOTAFTER=2031010203Z /usr/bin/id\nsvc-far ALL = (root) NOTAFTER=20310102030405 /usr/bin/true\n", end.Format("20060102150405Z")), 0o440)
	h.Shell(t, "visudo -cqf /etc/sudoers.d/night")
	try := func() string {
		return h.Shell(t, "su svc-berth -s /bin/sh -c 'LC_ALL=C sudo -n /usr/bin/id 2>&1' || true")
	}
	require.Contains(t, try(), "uid=0(root)")
	until := map[string]time.Time{}
	coverage, err := unixhost.Connector{}.Rights(t.Context(), h.Target(), connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
		for _, l := range b.Rights.Lists {
			for _, e := range l.Entries {
				if strings.HasPrefix(e.What, "/usr/bin/id") || e.What == "/usr/bin/true" {
					until[strings.Fields(e.Text)[0]+" "+e.What] = e.Until
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.True(t, coverage.Complete, coverage.Why)
	assert.Equal(t, map[string]time.Time{
		"svc-berth /usr/bin/id": end, "svc-far /usr/bin/id": time.Date(2031, 1, 2, 3, 0, 0, 0, time.UTC),
		"svc-far /usr/bin/true": {}, // by the clock of its host, in a zone that it does not name
	}, until)
	require.Eventually(t, func() bool { return time.Now().After(end) && !strings.Contains(try(), "uid=0(root)") }, time.Minute, time.Second)
	assert.Contains(t, try(), "a password is required")
}
