package e2e

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// duty is the other side of a webhook.
type duty struct {
	*httptest.Server
	away atomic.Bool
	lock sync.Mutex
	ids  map[string]int
	got  []map[string]any
	raw  strings.Builder
}

func newDuty(t *testing.T) *duty {
	t.Helper()
	d := &duty{ids: map[string]int{}}
	d.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if d.away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body, err := io.ReadAll(r.Body)
		var message struct {
			ID     string
			Events []map[string]any
		}
		if assert.NoError(t, err) && assert.NoError(t, json.Unmarshal(body, &message)) {
			d.lock.Lock()
			defer d.lock.Unlock()
			d.ids[message.ID]++
			d.got = append(d.got, message.Events...)
			d.raw.Write(body)
		}
	}))
	d.TLS = &tls.Config{}
	d.StartTLS()
	t.Cleanup(d.Close)
	return d
}

func (d *duty) heard(event, subject string) (n int) {
	d.lock.Lock()
	defer d.lock.Unlock()
	for _, e := range d.got {
		if e["event"] == event && e["subject"] == subject {
			n++
		}
	}
	return n
}

// Somebody who does not look is told: by a rotation that ends, by a freeze, and by what
// happened while the other side was away and the service was killed; once each, with no
// secret in it.
func TestPeopleAreTold(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	other := newDuty(t)
	key, authority := u.file("duty.key", "fog-over-the-harbour-at-night"), u.file("duty.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: other.Certificate().Raw})))
	assert.Contains(t, u.moss(2, "notify", "add", "duty", "--webhook", "http://duty.larkmoor.example/", "--secret-file", key), "only https")
	u.moss(0, "notify", "add", "duty", "--webhook", other.URL+"/moss", "--ca-file", authority, "--secret-file", key, "--least", "notice")
	assert.Contains(t, u.moss(0, "notify", "test", "duty"), "HTTP 200 OK")
	assert.Equal(t, 1, other.heard("message.test", "duty"))
	assert.Contains(t, u.moss(2, "notify", "change", "duty", "--webhook", "https://eve.larkmoor.example/"), "goes nowhere else")
	u.moss(0, "rotate", "rehearse", "svc-tidefeed")
	u.moss(0, "rotate", "run", "svc-tidefeed", "--reason", "asked for")
	require.Eventually(t, func() bool { return other.heard("rotation.finished", "svc-tidefeed") == 1 }, time.Minute, 100*time.Millisecond)

	other.away.Store(true)
	u.moss(0, "freeze", "--reason", "storm over the sound")
	require.Eventually(t, func() bool { return strings.Contains(u.moss(0, "notify", "list"), "503") }, time.Minute, 100*time.Millisecond)
	b.page("/messages", "duty", "messages")
	require.NoError(t, d.StopService(syscall.SIGKILL))
	require.NoError(t, d.StartService(t.Context(), 0))
	other.away.Store(false)
	require.Eventually(t, func() bool { return other.heard("service.freeze", "everything") == 1 }, 2*time.Minute, 100*time.Millisecond)
	u.moss(0, "thaw", "--reason", "calm again")
	require.Eventually(t, func() bool { return other.heard("service.thaw", "everything") == 1 }, time.Minute, 100*time.Millisecond)
	other.lock.Lock()
	defer other.lock.Unlock()
	for id, n := range other.ids {
		assert.Equal(t, 1, n, id)
	}
	assert.NotContains(t, other.raw.String(), "fog-over-the-harbour")
}
