package tell_test

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/lab"
)

// A receiver of system logs that others wrote takes our lines apart as we meant them.
func TestOthersReadOurLogs(t *testing.T) {
	if testing.Short() {
		lab.LeaveOut(t, "a real system: not where the race detector looks")
	}
	receiver := lab.Logs(t, "127.0.0.91", 6514)
	m := several()
	m.Events = append(m.Events, notice.Event{Event: "service.freeze", Severity: notice.Critical, Time: moment, Text: "Everything is frozen\n<10>1 - - forged - - - line"}.Clean())
	said, err := tell.Send(t.Context(), tell.Place{Name: "trail", Kind: tell.Syslog, Address: receiver.Address, TrustedCA: receiver.CA}, m)
	require.NoError(t, err)
	assert.Contains(t, said, "3 lines written")
	lines := receiver.Received(t, 3)
	require.Len(t, lines, 3, "no text makes a line of its own")
	var got []map[string]string
	for _, line := range lines {
		var v map[string]string
		require.NoError(t, json.Unmarshal([]byte(line), &v), line)
		got = append(got, v)
	}
	for i, want := range []map[string]string{
		{"pri": "107", "msgid": "rotation.finished", "msg": m.Events[0].Text},
		{"pri": "108", "msgid": "finding.raised", "msg": m.Events[1].Text},
		{"pri": "106", "msgid": "service.freeze", "msg": m.Events[2].Text},
	} {
		assert.Equal(t, "1", got[i]["version"])
		assert.Equal(t, "moss1.larkmoor.example", got[i]["host"])
		assert.Equal(t, "moss-ledger", got[i]["app"])
		assert.Equal(t, want["pri"], got[i]["pri"])
		assert.Equal(t, want["msgid"], got[i]["msgid"])
		assert.Equal(t, want["msg"], strings.TrimSpace(strings.TrimPrefix(got[i]["msg"], "\ufeff")))
	}
	assert.True(t, strings.HasPrefix(got[0]["time"], "2026-11-28T22:04:05.678"), got[0]["time"])
	assert.Contains(t, got[0]["data"], `[moss@32473 `)
	assert.Contains(t, got[0]["data"], `ref="rotation/12"`)
	assert.Contains(t, got[0]["data"], `entry="4711"`)
	assert.Contains(t, got[1]["data"], `detail="C:\\tides\\run.exe \] \"x\""`, "as RFC 5424, section 6.3.3, writes it")
}

// A receiver that cuts us off was not told, and one that takes all and says nothing was.
func TestLogReceiversThatEndTheConnection(t *testing.T) {
	certificate, trusted, _ := certificate(t)
	for name, c := range map[string]struct {
		serve func(net.Conn)
		said  string
	}{
		"in good order": {func(c net.Conn) { _, _ = io.Copy(io.Discard, c); _ = c.Close() }, "ended in good order"},
		"refused": {func(c net.Conn) {
			raw, is := c.(*tls.Conn).NetConn().(*net.TCPConn)
			if is {
				_ = raw.SetLinger(0)
				_ = raw.Close()
			}
		}, ""},
	} {
		listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{certificate}})
		require.NoError(t, err)
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if tlsConn, is := conn.(*tls.Conn); is {
				_ = tlsConn.Handshake()
			}
			c.serve(conn)
		}()
		said, err := tell.Send(t.Context(), tell.Place{Name: "trail", Kind: tell.Syslog, Address: listener.Addr().String(), TrustedCA: string(trusted)}, several())
		if c.said == "" {
			require.Error(t, err, name)
		} else {
			require.NoError(t, err, name)
			assert.Contains(t, said, c.said, fmt.Sprint(name))
		}
		require.NoError(t, listener.Close())
	}
}
