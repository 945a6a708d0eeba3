package lab_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/lab"
)

// Hosts of the lab speak German to whoever signs in, so that every test of them is one
// of commands that are told what to speak, or of codes instead of words.
func TestHostsSpeakGerman(t *testing.T) {
	h := lab.NewHost(t, "deutsch", 18)
	h.Boot(t)
	key := t.TempDir() + "/key"
	require.NoError(t, os.WriteFile(key, []byte(h.Key.RevealString()), 0o600))
	out, _ := exec.Command("ssh", "-i", key, "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "mossmgr@"+h.Address, "stat /root/x; stat /nowhere; sudo -n -- /usr/bin/false; true").CombinedOutput()
	require.Contains(t, string(out), "Keine Berechtigung")
	require.Contains(t, string(out), "Datei oder Verzeichnis nicht gefunden")
}
