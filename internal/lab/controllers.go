package lab

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Controllers starts a real domain with two controllers. They replicate only when they are
// told to, by what is returned: so a test has the time in between in hand.
func Controllers(t testing.TB, first, second string, accounts ...string) (a, b *Directory, replicate func(from, to *Directory)) {
	t.Helper()
	a = samba(t, first, "ldap, cldap, kdc, rpc", accounts...)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	b = &Directory{Address: second, Port: a.Port, Base: a.Base, CA: a.CA, Manager: a.Manager, folder: t.TempDir()}
	require.NoError(t, os.Chmod(b.folder, 0o755))
	dc := filepath.Join(b.folder, "dc")
	for _, sub := range []string{"/private/tls", "/run/ncalrpc", "/cache", "/state", "/bind-dns"} {
		require.NoError(t, os.MkdirAll(dc+sub, 0o755))
	}
	require.NoError(t, os.WriteFile(dc+"/smb.conf", []byte(sambaConf(dc, "DC2", second, "ldap, cldap, kdc, rpc", 1)), 0o600))
	require.NoError(t, os.WriteFile(dc+"/offline.conf", []byte(sambaConf(dc, "DC2", second, "ldap, cldap, kdc, rpc", 0)), 0o600))
	administrator := []string{"-U", "Administrator%" + administratorPassword, "--use-kerberos=off"}
	_, err := run(ctx, "", "samba-tool", append([]string{
		"domain", "join", "larkmoor.example", "DC", "-s", dc + "/offline.conf", "--targetdir=" + dc, "--server=" + first, "--dns-backend=NONE",
		"--option=netbios name=DC2", "--option=interfaces=" + second + "/24", "--option=bind interfaces only=yes",
	}, administrator...)...)
	require.NoError(t, err)
	require.NoError(t, a.authority.issue(ctx, dc+"/private/tls", "dc2.larkmoor.example", second))
	b.start(t, "samba", "-s", dc+"/smb.conf", "-i", "-M", "single", "--debug-stdout")
	b.wait(ctx, t)
	names := map[*Directory]string{a: "DC1", b: "DC2"}
	return a, b, func(from, to *Directory) {
		t.Helper()
		_, err := run(t.Context(), "", "samba-tool", append([]string{"drs", "replicate", "--local", names[to], from.Address, a.Base, "-s", to.folder + "/dc/offline.conf"}, administrator...)...)
		require.NoError(t, err)
	}
}
