package lab_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// Certificates are seen behind the ports of a real host as OpenSSL's server shows them, with the
// unit behind each: on the host's own address through its SSH server, and from outside where
// that connects nobody.
func TestCertificatesBehindPorts(t *testing.T) {
	h := lab.NewHost(t, "site1", 62)
	h.Shell(t, "mkdir -p /etc/site && cd /etc/site && openssl req -x509 -newkey rsa:2048 -nodes -days 12 -subj /CN=booking.larkmoor.example -addext subjectAltName=DNS:booking.larkmoor.example -keyout site.key -out site.pem 2>/dev/null && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 3650 -subj /CN=inside -keyout inside.key -out inside.pem 2>/dev/null")
	unit := func(name, address, file, more string) {
		h.Write(t, "/etc/systemd/system/"+name, "[Service]\nExecStart=/usr/bin/openssl s_server -quiet -accept "+address+" -cert /etc/site/"+file+".pem -key /etc/site/"+file+".key "+more+"\n[Install]\nWantedBy=multi-user.target\n", 0o644)
		h.Shell(t, "systemctl enable "+name+" 2>/dev/null")
	}
	unit("site.service", "0.0.0.0:9443", "site", "")
	unit("old.service", h.Address+":9444", "site", "-tls1_2")
	unit("inside.service", "127.0.0.1:9445", "inside", "-tls1_3")
	unit("knows.service", h.Address+":9446", "site", "-Verify 1") // asks who we are
	// Another certificate for who asks for it by name.
	h.Shell(t, "cd /etc/site && openssl req -x509 -newkey rsa:2048 -nodes -days 40 -subj /CN=tide -addext subjectAltName=DNS:tide.larkmoor.example -keyout tide.key -out tide.pem 2>/dev/null")
	unit("both.service", h.Address+":9447", "site", "-servername tide.larkmoor.example -cert2 /etc/site/tide.pem -key2 /etc/site/tide.key")
	h.Boot(t)
	read := func() (map[string]estate.Dependent, connect.Coverage) {
		shown := map[string]estate.Dependent{}
		coverage, err := unixhost.Connector{}.Visit(t.Context(), h.Target(), connect.VisitRequest{FingerprintKey: secret.New("key")}, func(b connect.Batch) error {
			for _, d := range b.Dependents {
				if d.Kind == estate.DependentShown {
					shown[d.Place] = d
				}
			}
			return nil
		})
		require.NoError(t, err)
		return shown, coverage
	}
	var shown map[string]estate.Dependent
	var coverage connect.Coverage
	require.Eventually(t, func() bool { shown, coverage = read(); return len(shown) == 6 }, time.Minute, time.Second)
	assert.True(t, coverage.Complete[connect.ScopeCertificates], coverage.Why[connect.ScopeCertificates])
	for place, unit := range map[string]string{"0.0.0.0:9443": "site.service", h.Address + ":9444": "old.service", "127.0.0.1:9445": "inside.service", h.Address + ":9446": "knows.service", h.Address + ":9447": "both.service", h.Address + ":9447 tide.larkmoor.example": "both.service"} {
		d := shown[place]
		require.NotNil(t, d.Key, place)
		assert.Equal(t, []string{unit}, d.Requires, place)
		if unit == "inside.service" {
			assert.Equal(t, "CN=inside", d.Key.Subject)
			continue
		}
		file := "site"
		if name, named := "tide.larkmoor.example", strings.HasSuffix(place, " tide.larkmoor.example"); named {
			file = "tide"
			assert.Equal(t, []string{name}, d.Key.Names)
			key, err := unixhost.Connector{}.Shown(t.Context(), h.Target(), place)
			require.NoError(t, err)
			assert.Equal(t, d.Key.Fingerprint, key.Fingerprint, "asked again by its name")
		} else {
			assert.Equal(t, []string{"booking.larkmoor.example"}, d.Key.Names, place)
		}
		said := h.Shell(t, "openssl x509 -noout -enddate -in /etc/site/"+file+".pem")
		end, err := time.Parse("Jan _2 15:04:05 2006 MST", strings.TrimPrefix(strings.TrimSpace(said), "notAfter="))
		require.NoError(t, err)
		assert.True(t, end.Equal(d.Key.Ends), "%s: %s", end, d.Key.Ends)
	}

	// A host whose SSH server connects nobody: what others reach is asked from outside.
	h.Shell(t, "echo 'AllowTcpForwarding no' > /etc/ssh/sshd_config.d/05-closed.conf && systemctl restart ssh")
	require.Eventually(t, func() bool { shown, coverage = read(); return len(shown) == 5 }, time.Minute, time.Second)
	assert.Contains(t, shown, "0.0.0.0:9443")
	assert.NotContains(t, shown, "127.0.0.1:9445")
	assert.False(t, coverage.Complete[connect.ScopeCertificates])
	assert.Contains(t, coverage.Why[connect.ScopeCertificates], "1 ports could not be asked: the host's SSH server does not connect")
}
