package assembly_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/acme"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// Certificates of a real host, whose keys OpenSSL made and whose server OpenSSL is: one in two
// files, one in a file with its key, in the form of the curve's parameters before it, one of a server
// that reads it again while it runs. All are renewed, and OpenSSL's client finds the way to the
// authority; and put back, byte for byte.
func TestRealCertificates(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	lab.Require(t)
	h := lab.NewHost(t, "site2", 63)
	h.Shell(t, "mkdir -p /etc/site && cd /etc/site && openssl req -x509 -newkey rsa:2048 -nodes -days 12 -subj /CN=booking.larkmoor.example -addext subjectAltName=DNS:booking.larkmoor.example,IP:192.0.2.7 -keyout site.key -out site.pem 2>/dev/null && chmod 600 site.key"+
		" && openssl ecparam -name prime256v1 -genkey -out both.pem 2>/dev/null && openssl req -x509 -key both.pem -days 12 -subj /O=Larkmoor -addext subjectAltName=DNS:tide.larkmoor.example -out /run/c.pem && (echo '# of the tide page'; cat /run/c.pem) >> both.pem && chmod 600 both.pem")
	unit := func(name, port, files string) {
		h.Write(t, "/etc/systemd/system/"+name, "[Service]\nExecStart=/usr/bin/openssl s_server -quiet -accept "+port+" "+files+"\n[Install]\nWantedBy=multi-user.target\n", 0o644)
		h.Shell(t, "systemctl -q enable "+name)
	}
	unit("site.service", "9443", "-cert /etc/site/site.pem -key /etc/site/site.key")
	unit("tide.service", "9444", "-cert /etc/site/both.pem -key /etc/site/both.pem")
	// A server that reads its certificate again when it is told to, and stays up.
	h.Write(t, "/opt/berth.sh", `while :; do
    /usr/bin/openssl s_server -quiet -accept 9445 "$@" &
    child=$!
    trap 'kill $child' HUP
    wait $child || wait $child
done
`, 0o755)
	h.Shell(t, "cd /etc/site && openssl ecparam -name prime256v1 -genkey -noout -out berth.key && openssl req -x509 -key berth.key -days 12 -subj /CN=berth.larkmoor.example -addext subjectAltName=DNS:berth.larkmoor.example -out berth.pem && chmod 600 berth.key")
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nExecStart=/bin/sh /opt/berth.sh -cert /etc/site/berth.pem -key /etc/site/berth.key\nExecReload=/bin/kill -HUP $MAINPID\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "systemctl -q enable berth.service")
	h.Boot(t)

	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	ca := acme.New(config, authority, func(string) string { return "" })
	address, err := ca.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, ca.Close()) })
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, ca.Register(&key.PublicKey, "booking.larkmoor.example", "192.0.2.7", "tide.larkmoor.example", "berth.larkmoor.example"))
	h.Write(t, "/etc/ca.pem", authority.PEM, 0o644)

	ctx := t.Context()
	f := empty(t)
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "host", "mossmgr", secret.Value{}, h.Key))
	require.NoError(t, f.Inventory.SaveSteward(ctx, ines, "ca", "ledger", secret.Value{}, secret.FromBytes(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))))
	host, port := larkmoor.Port(address)
	for _, v := range []records.System{
		{Name: "site2", Kind: "unix-host", Address: h.Address, Port: 22, Steward: "host"},
		{Name: "ca", Kind: "certificate-authority", Address: host, Port: port, Steward: "ca", TrustedCA: authority.PEM},
	} {
		_, err := f.Inventory.Add(ctx, ines, v)
		require.NoError(t, err)
	}
	_, report, err := f.Inventory.Check(ctx, ines, "site2", h.Fingerprint())
	require.NoError(t, err)
	require.True(t, report.OK())
	// OpenSSL's client, on the host, with the authority alone trusted.
	sees := func(port string) string {
		return h.Shell(t, "echo | timeout 5 openssl s_client -connect 127.0.0.1:"+port+" -CAfile /etc/ca.pem -verify_return_error 2>&1 | tail -40 || true")
	}
	files := func(names string) string { return h.Shell(t, "cd /etc/site && sha256sum "+names) }
	started := func(unit string) string {
		return h.Shell(t, "systemctl show -p InvocationID,MainPID "+unit)
	}
	for _, c := range []struct {
		name, port, files, unit string
		stays                   bool
	}{{"booking.larkmoor.example", "9443", "site.key site.pem", "site.service", false}, {"tide.larkmoor.example", "9444", "both.pem", "tide.service", false}, {"berth.larkmoor.example", "9445", "berth.key berth.pem", "berth.service", true}} {
		var k records.Credential
		require.Eventually(t, func() bool { // the servers come up
			f.survey()
			k, err = f.Picture.FindCredential(ctx, c.name)
			return err == nil && k.Points == 1
		}, time.Minute, time.Second, c.name)
		verdict, err := f.Custody.Take(ctx, ines, k, secret.Value{})
		require.NoError(t, err)
		require.True(t, verdict.Accepted, verdict.Words)
		before, runs := files(c.files), started(c.unit)
		assert.NotContains(t, sees(c.port), "Verify return code: 0 (ok)")
		r := f.rotate(k, rotation.UndoOnFailure)
		require.Equal(t, rotation.FinishedDone, r.Result, f.words(r.ID))
		f.quiet()
		assert.Contains(t, sees(c.port), "Verify return code: 0 (ok)")
		assert.NotEqual(t, before, files(c.files))
		assert.Equal(t, "2", strings.TrimSpace(h.Shell(t, "cat /etc/site/"+strings.Fields(c.files)[len(strings.Fields(c.files))-1]+" | grep -c 'BEGIN CERTIFICATE'")), "the authority's own follows")
		_, state, _, err := f.Rotations.State(ctx, r.ID)
		require.NoError(t, err)
		assert.Equal(t, "1 shows the certificate in force to clients", state.Proof().String())

		undoing, err := f.Rotations.RehearseUndo(ctx, ines, r.ID)
		require.NoError(t, err)
		require.Equal(t, "passed", undoing.Verdict, "%+v", undoing.Checks)
		require.NoError(t, f.Rotations.Decide(ctx, ines, r.ID, rotation.DecideUndo, "test"))
		require.Equal(t, rotation.FinishedUndone, f.ended(r.ID).Result, f.words(r.ID))
		f.quiet()
		assert.Equal(t, before, files(c.files), "byte for byte")
		assert.Equal(t, c.stays, runs == started(c.unit), "%s: what reads its files again is not restarted, others are", c.unit)
	}
	issued, revoked, _ := ca.Counts()
	assert.Equal(t, []int{3, 3}, []int{issued, revoked})
	assert.Empty(t, strings.TrimSpace(h.Shell(t, "find /etc/site -name '*.moss-new'")))
}
