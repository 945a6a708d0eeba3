package wsman

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// A refused sign-in says which way was tried and which ones the host offers; who did not
// sign in yet is not told to have been refused a way.
func TestARefusedSignInSaysWhichWay(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Add("WWW-Authenticate", "Negotiate")
		w.Header().Add("WWW-Authenticate", `Basic realm="host"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer server.Close()
	transport, ok := server.Client().Transport.(*http.Transport)
	require.True(t, ok)
	c, err := New(Config{Endpoint: server.URL + "/wsman", Transport: transport, SignIn: Basic("mossmgr", secret.New("Not-This-One-7")), Timeout: 5 * time.Second})
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Get(t.Context(), Resource{})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "the sign-in by basic was refused (401); it offers Negotiate, Basic")
	assert.NotContains(t, err.Error(), "Not-This-One")
	assert.Equal(t, "the sign-in was refused (401)", (&StatusError{Status: 401}).Error())
}
