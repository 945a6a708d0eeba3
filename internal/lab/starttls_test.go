package lab_test

import (
	"context"
	"crypto/tls"
	"net"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/shown"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/lab"
)

// A directory and a data store that begin without TLS are asked for it, each in its own words,
// and show the certificate that they have.
func TestCertificatesAfterStartTLS(t *testing.T) {
	lab.Samba(t, "127.0.0.116")
	store := lab.PostgreSQL(t, "127.0.0.116", 55566)
	direct := func(address string) shown.Dialer {
		return func(ctx context.Context, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", address)
		}
	}
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 10 * time.Second}, "tcp", "127.0.0.116:636", &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12})
	require.NoError(t, err)
	defer conn.Close()
	a := shown.Ask(t.Context(), direct("127.0.0.116:389"), "127.0.0.116:389", "")
	require.NoError(t, a.Err)
	require.NotEmpty(t, a.Chain, a.Words)
	assert.True(t, conn.ConnectionState().PeerCertificates[0].NotAfter.Equal(a.Chain[0].NotAfter))
	assert.Equal(t, conn.ConnectionState().PeerCertificates[0].Subject.String(), a.Chain[0].Subject)

	a = shown.Ask(t.Context(), direct("127.0.0.116:"+strconv.Itoa(55566)), "127.0.0.116:5432", "")
	require.NoError(t, a.Err)
	require.NotEmpty(t, a.Chain, a.Words)
	raw, err := os.ReadFile(store.Folder() + "/tls/cert.pem")
	require.NoError(t, err)
	_, list := keys.ParsePEM(raw)
	require.NotEmpty(t, list)
	assert.Equal(t, list[0].Fingerprint, a.Chain[0].Fingerprint)
}
