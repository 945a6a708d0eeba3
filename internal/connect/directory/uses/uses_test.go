package uses

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const record = `{"timestamp": "2026-11-23T10:00:0%.000001+0100", "type": "Authentication", "Authentication": {"status": "STATUS", "remoteAddress": "REMOTE", "serviceDescription": "LDAP", "authDescription": "simple bind/TLS", "clientAccount": "svc-x", "mappedAccount": "svc-x", "becameSid": "SID"}}`

func TestParseUses(t *testing.T) {
	line := func(second, status, remote, sid string) string {
		return strings.NewReplacer("%", second, "STATUS", status, "REMOTE", remote, "SID", sid).Replace(record) + "\n"
	}
	log := "[2026/11/23 10:00:00, 3] ../auth_log.c\n  " + line("1", "NT_STATUS_OK", "ipv4:192.0.2.7:50022", "S-1-5-21-1-2-3-1104") +
		line("3", "NT_STATUS_OK", "ipv4:192.0.2.7:50023", "S-1-5-21-1-2-3-1104") +
		line("2", "NT_STATUS_WRONG_PASSWORD", "ipv6:2001:db8::7:50022", "(NULL SID)") +
		line("2", "NT_STATUS_OK", "unix:", "S-1-5-21-1-2-3-1104") +
		`{"type": "passwordChange", "timestamp": "x"}` + "\n{broken\n" + "{" + strings.Repeat("y", maxRecord+10) + "\n" + "no record at all"
	uses, bad, err := Parse(strings.NewReader(log))
	require.NoError(t, err)
	assert.Equal(t, 2, bad)
	require.Len(t, uses, 2)
	assert.Equal(t, "S-1-5-21-1-2-3-1104", uses[0].Account)
	assert.Equal(t, "192.0.2.7", uses[0].Client)
	assert.Equal(t, "LDAP, simple bind/TLS", uses[0].How)
	assert.Equal(t, 2, uses[0].Count)
	assert.Equal(t, "2026-11-23 09:00:01.000001 +0000 UTC", uses[0].First.String())
	assert.Equal(t, "2026-11-23 09:00:03.000001 +0000 UTC", uses[0].Last.String())
	assert.True(t, uses[1].Failed)
	assert.Equal(t, "svc-x", uses[1].Account)
	assert.Equal(t, "2001:db8::7", uses[1].Client)
}

func FuzzParseUses(f *testing.F) {
	f.Add(record)
	f.Fuzz(func(t *testing.T, log string) {
		_, _, err := Parse(strings.NewReader(log))
		require.NoError(t, err)
	})
}
