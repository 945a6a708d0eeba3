package wsman

import (
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"testing"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/iana/patype"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// Whoever stands in a key distribution center's place may answer what it likes: a sign-in
// fails then, and the service goes on.
func TestACenterThatMakesNoSense(t *testing.T) {
	none, err := asn1.Marshal(types.ETypeInfo2{})
	require.NoError(t, err)
	methods, err := asn1.Marshal(types.PADataSequence{{PADataType: patype.PA_ETYPE_INFO2, PADataValue: none}})
	require.NoError(t, err)
	said := messages.NewKRBError(types.NewPrincipalName(2, "krbtgt/LARKMOOR.EXAMPLE"), "LARKMOOR.EXAMPLE", errorcode.KDC_ERR_PREAUTH_REQUIRED, "")
	said.EData = methods
	answer, err := said.Marshal()
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan struct{})
	t.Cleanup(func() { _ = listener.Close(); <-served })
	go func() {
		defer close(served)
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			var size [4]byte
			if _, err := io.ReadFull(conn, size[:]); err == nil {
				_, _ = io.CopyN(io.Discard, conn, int64(binary.BigEndian.Uint32(size[:])))
				_, _ = conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(answer))), answer...))
			}
			_ = conn.Close()
		}
	}()
	signIn, err := Kerberos(KerberosConfig{Account: "mossmgr", Realm: "LARKMOOR.EXAMPLE", Centers: []string{listener.Addr().String()}, Service: "HTTP/north1.larkmoor.example", Password: secret.New("Manager-Passw0rd")})
	require.NoError(t, err)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, "https://north1.larkmoor.example/wsman", nil)
	require.NoError(t, err)
	err = signIn.(*kerberos).ticket(request)
	var refused *SignInError
	require.ErrorAs(t, err, &refused)
	assert.False(t, refused.Refused, "that says nothing of the value")
	assert.ErrorContains(t, err, "makes no sense")
}
