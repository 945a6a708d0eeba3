package witness

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/change"
)

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func line(identifier, message, login, user string) string {
	return fmt.Sprintf(`{"MESSAGE":%q,"SYSLOG_IDENTIFIER":%q,"_AUDIT_LOGINUID":%q,"_UID":%q,"__REALTIME_TIMESTAMP":"%d"}`+"\n", message, identifier, login, user, noon.UnixMicro())
}

func TestMeaning(t *testing.T) {
	names := namesOf("root:x:0:0::/root:/bin/sh\nodile:x:1001:1001::/home/odile:/bin/sh\ntoor:x:0:0::/root:/bin/sh\nbroken\n")
	require.Equal(t, "root", names["0"], "the first of a number is whom the system calls so")
	for _, v := range []struct {
		identifier, message, login, user string
		want                             change.Record
	}{
		{"sshd", "Accepted publickey for odile from 192.0.2.7 port 50022 ssh2: ED25519 SHA256:x", "", "0", change.Record{Act: change.SignedIn, Who: "odile", From: "192.0.2.7"}},
		{"sshd-session", "Accepted password for odile from 2001:db8::7 port 1 ssh2", "", "0", change.Record{Act: change.SignedIn, Who: "odile", From: "2001:db8::7"}},
		{"sshd", "Failed password for odile from 192.0.2.7 port 1 ssh2", "", "0", change.Record{}},
		{"sshd", "Invalid user Accepted password for root from 192.0.2.7 port 1 ssh2 from 192.0.2.9 port 1", "", "0", change.Record{}},
		{"login", "LOGIN ON tty1 BY odile", "", "0", change.Record{Act: change.SignedIn, Who: "odile", From: "tty1"}},
		{"login", "LOGIN ON pts/3 BY odile FROM terminal.example", "", "0", change.Record{Act: change.SignedIn, Who: "odile", From: "terminal.example"}},
		{"login", "ROOT LOGIN  ON tty1", "", "0", change.Record{Act: change.SignedIn, Who: "root", From: "tty1"}},
		{"su", "(to root) odile on pts/0", "", "0", change.Record{Act: change.Became, Who: "odile", From: "pts/0"}},
		{"su", "FAILED SU (to root) odile on pts/0", "", "0", change.Record{}},
		{"chpasswd", "pam_unix(chpasswd:chauthtok): password changed for svc-berth", "1001", "0", change.Record{Act: change.SetPassword, Who: "odile", Of: "svc-berth"}},
		{"passwd", "pam_unix(passwd:chauthtok): password changed for odile", unset, "1001", change.Record{Act: change.SetPassword, Who: "odile", Of: "odile"}},
		{"passwd", "pam_unix(passwd:chauthtok): password changed for odile", unset, "0", change.Record{Act: change.SetPassword, Of: "odile"}},
		{"passwd", "pam_unix(passwd:chauthtok): password changed for odile", "4711", "0", change.Record{Act: change.SetPassword, Of: "odile"}},
		{"passwd", "password for 'svc-berth' changed by 'root'", "1001", "0", change.Record{Act: change.Altered, Who: "odile", Of: "svc-berth"}},
		{"usermod", "change user 'svc-berth' password", "1001", "0", change.Record{Act: change.SetPassword, Who: "odile", Of: "svc-berth"}},
		{"usermod", "change user 'svc-berth' expiration from 'never' to '2030-01-01'", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"usermod", "lock user 'svc-berth' password", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"usermod", "add 'svc-berth' to shadow group 'deck'", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"useradd", "new user: name=svc-berth, UID=1002, GID=1002, home=/home/svc-berth, shell=/bin/sh, from=none", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"userdel", "delete user 'svc-berth'", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"chage", "changed password expiry for svc-berth", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"gpasswd", "user svc-berth added by root to group deck", "", "0", change.Record{Act: change.Altered, Of: "svc-berth"}},
		{"gpasswd", "nothing of the kind", "", "0", change.Record{}},
		// Anybody can write a line under any name: it is believed of root, and of those whom a setuid program ran for.
		{"sshd", "Accepted password for root from 192.0.2.7 port 1 ssh2", "1001", "1001", change.Record{}},
		{"sshd", "Accepted password for root from 192.0.2.7 port 1 ssh2", "", "", change.Record{}},
		{"usermod", "change user 'svc-berth' password", "1001", "1001", change.Record{}},
		{"su", "(to root) jonas on pts/0", unset, "1001", change.Record{Act: change.Became, Who: "odile", From: "pts/0"}},
		{"su", "(to root) jonas on pts/0", unset, "4711", change.Record{}},
		{"passwd", "password for 'svc-berth' changed by 'jonas'", "1001", "1001", change.Record{Act: change.Altered, Who: "odile", Of: "svc-berth"}},
		{"useradd", "Accepted password for root from 192.0.2.7 port 1 ssh2", "", "0", change.Record{}}, // only sshd says that
	} {
		log := parse(line(v.identifier, v.message, v.login, v.user), names, noon)
		if v.want.Act == "" {
			assert.Empty(t, log.Records, "%s: %s", v.identifier, v.message)
			continue
		}
		v.want.At = noon
		require.Len(t, log.Records, 1, v.message)
		assert.Equal(t, v.want, log.Records[0], v.message)
	}
}

func TestHowFarBack(t *testing.T) {
	one := line("sshd", "Server listening on 0.0.0.0 port 22.", "", "0")
	assert.Equal(t, noon.Add(-back), parse(one, nil, noon).Since)
	assert.Equal(t, noon, parse(strings.Repeat(one, lines), nil, noon.Add(time.Hour)).Since, "as many as are asked for: older ones were left out")
	assert.Equal(t, noon.Add(-back), parse("", nil, noon).Since)
	assert.Contains(t, Command, fmt.Sprint(lines), "what it counts with is what it asks for")
	assert.Contains(t, Command, fmt.Sprintf("-%ddays", int(back.Hours()/24)))
}

// Whatever stands in a journal, which anybody on the host can write into, is read to its
// end: nobody is told of without a name, and what is told is a name or an address.
func FuzzParse(f *testing.F) {
	f.Add(line("sshd", "Accepted publickey for odile from 192.0.2.7 port 50022 ssh2", "", "0"))
	f.Add(line("login", "LOGIN ON tty1 BY odile", "1001", "0"))
	f.Add(`{"MESSAGE":[65,66],"SYSLOG_IDENTIFIER":"sshd","__REALTIME_TIMESTAMP":"1"}`)
	f.Add("{\n[]\n{}\nnull")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range parse(text, map[string]string{"1001": "odile"}, noon).Records {
			require.NotEmpty(t, r.Act)
			require.False(t, r.Who == "" && r.Of == "", "%+v", r)
			require.NotContains(t, r.Who+r.From, " ")
		}
	})
}
