package lab

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// LogReceiver is a real receiver of system logs over TLS (RFC 5425).
type LogReceiver struct {
	Address string // host:port
	CA      string // PEM that proves it
	file    string
}

// Logs starts one that writes what it was sent as JSON, a line each.
func Logs(t testing.TB, address string, port int) *LogReceiver {
	t.Helper()
	server := &DataStore{Address: address, Port: port}
	server.prepare(t, "root")
	l := &LogReceiver{Address: net.JoinHostPort(address, strconv.Itoa(port)), CA: server.CA, file: filepath.Join(server.folder, "received.json")}
	authority := filepath.Join(server.folder, "authority.pem")
	require.NoError(t, os.WriteFile(authority, []byte(server.CA), 0o600))
	config := fmt.Sprintf(`
global(workDirectory=%[1]q defaultNetstreamDriver="gtls" defaultNetstreamDriverCAFile=%[5]q defaultNetstreamDriverCertFile="%[1]s/tls/cert.pem" defaultNetstreamDriverKeyFile="%[1]s/tls/key.pem" parser.escapeControlCharactersOnReceive="off" maxMessageSize="64k")
module(load="imtcp" streamDriver.name="gtls" streamDriver.mode="1" streamDriver.authMode="anon")
template(name="asJSON" type="string" string="{\"pri\":\"%%pri%%\",\"version\":\"%%protocol-version%%\",\"time\":\"%%timereported:::date-rfc3339%%\",\"host\":\"%%hostname%%\",\"app\":\"%%app-name%%\",\"msgid\":\"%%msgid%%\",\"data\":\"%%structured-data:::json%%\",\"msg\":\"%%msg:::json%%\"}\n")
ruleset(name="got") { action(type="omfile" file=%[2]q template="asJSON" flushOnTXEnd="on" asyncWriting="off") }
input(type="imtcp" address=%[3]q port="%[4]d" ruleset="got")
`, server.folder, l.file, address, port, authority)
	require.NoError(t, os.WriteFile(filepath.Join(server.folder, "rsyslog.conf"), []byte(config), 0o600))
	server.begin(t, "root", "rsyslogd", "-n", "-f", filepath.Join(server.folder, "rsyslog.conf"), "-i", filepath.Join(server.folder, "pid"))
	return l
}

// Received are the lines that it wrote, once there are so many.
func (l *LogReceiver) Received(t testing.TB, least int) []string {
	t.Helper()
	var lines []string
	require.Eventually(t, func() bool {
		raw, err := os.ReadFile(l.file)
		if err != nil {
			return false
		}
		lines = strings.Split(strings.TrimSpace(string(raw)), "\n")
		return len(lines) >= least
	}, 20*time.Second, 50*time.Millisecond)
	return lines
}
