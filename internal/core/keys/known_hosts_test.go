package keys

import (
	"crypto/ed25519"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func hostKey(t *testing.T) (line, fingerprint string) {
	t.Helper()
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), ssh.FingerprintSHA256(key)
}

func TestKnownHosts(t *testing.T) {
	key, fingerprint := hostKey(t)
	text := "# quay1:22 SSH-2.0-OpenSSH_9.2\n\nquay1,quay1.larkmoor.example,192.0.2.7 " + key + " a comment\n" +
		"[tide1]:2222 " + key + "\n*.dock.example,!bad.dock.example " + key + "\n@revoked old1 " + key + "\n" +
		"@cert-authority *.larkmoor.example " + key + "\nquay2 ssh-ed25519 AAAA\nnonsense\n"
	known, unread := ParseKnownHosts(text)
	require.Len(t, known, 4)
	assert.Equal(t, fingerprint, known[0].Fingerprint)
	assert.Equal(t, 3, known[0].Line)
	for _, c := range []struct {
		line int
		host string
		port int
		of   bool
	}{
		{0, "quay1", 22, true},
		{0, "QUAY1.larkmoor.example.", 0, true},
		{0, "192.0.2.7", 22, true},
		{0, "quay1", 2222, false}, // another server may listen there
		{0, "quay11", 22, false},
		{1, "tide1", 2222, true},
		{1, "tide1", 22, false},
		{2, "crane.dock.example", 22, true},
		{2, "bad.dock.example", 22, false},
		{2, "dock.example", 22, false},
		{3, "old1", 22, true},
	} {
		assert.Equal(t, c.of, known[c.line].Of(c.host, c.port), "%+v", c)
	}
	assert.True(t, known[3].Revoked)
	require.Len(t, unread, 3)
	assert.Contains(t, unread[0].What, "authority for certificates")
	assert.Equal(t, []int{7, 8, 9}, []int{unread[0].Line, unread[1].Line, unread[2].Line})
}

// OpenSSH's own tool hashes names; what it wrote is found again, and finds the same.
func TestNamesThatAreHashed(t *testing.T) {
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		t.Fatal("ssh-keygen is needed: 'make test' installs what brings it")
	}
	key, fingerprint := hostKey(t)
	file := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(file, []byte("quay1.larkmoor.example "+key+"\n[tide1]:2222 "+key+"\n"), 0o600))
	out, err := exec.CommandContext(t.Context(), keygen, "-H", "-f", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotContains(t, string(raw), "quay1")
	known, unread := ParseKnownHosts(string(raw))
	require.Empty(t, unread)
	require.Len(t, known, 2)
	assert.Equal(t, fingerprint, known[0].Fingerprint)
	assert.True(t, known[0].Of("quay1.larkmoor.example", 22))
	assert.False(t, known[0].Of("quay2.larkmoor.example", 22))
	assert.True(t, known[1].Of("tide1", 2222))
	assert.False(t, known[1].Of("tide1", 22))
}

func FuzzKnownHosts(f *testing.F) {
	f.Add("quay1 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGY=", "quay1")
	f.Add("|1|a|b ssh-rsa AAAA\n@revoked * x y", "*")
	f.Fuzz(func(t *testing.T, text, host string) {
		known, _ := ParseKnownHosts(text)
		for _, k := range known {
			k.Of(host, 22)
		}
	})
}
