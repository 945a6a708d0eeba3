package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/schedule"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

func TestBodiesAreAsLargeAsTheirSenderMay(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	response, answer := r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":"reader","password":%q,"roles":["viewer"]}`, password))
	require.Equal(t, 200, response.StatusCode, answer)
	viewer := r.signIn("reader")
	large := func(size int) string { return `{"list":"` + strings.Repeat("x", size) + `"}` }
	for _, c := range []struct {
		path, token string
		size, want  int
	}{
		{"/api/v1/sessions", "", publicBody - 100, 422},
		{"/api/v1/sessions", "", publicBody, 413},
		{"/api/v1/systems/import", "", publicBody, 413},
		{"/api/v1/systems/import", "made-up", publicBody, 413},
		{"/api/v1/surveys", admin, signedBody - 100, 422},
		{"/api/v1/surveys", admin, signedBody, 413},
		{"/api/v1/systems/import", viewer, signedBody - 100, 403},
		{"/api/v1/systems/import", viewer, signedBody, 413},
		{"/api/v1/systems/import", admin, 4 * signedBody, 400},
		{"/api/v1/systems/d/uses", admin, 4 * signedBody, 422},
		{"/api/v1/systems/import", admin, importBody, 413},
	} {
		response, answer := r.do("POST", c.path, c.token, large(c.size))
		assert.Equal(t, c.want, response.StatusCode, "%s with %d bytes: %.200s", c.path, c.size, answer)
	}
}

// Room for a body is made for whoever may send it, not for whoever says so.
func TestSlowBodiesOfStrangersTakeNoRoom(t *testing.T) {
	r := start(t, nil)
	address := strings.TrimPrefix(r.url, "http://")
	var before, during runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var all []net.Conn
	for range 200 {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		all = append(all, c)
		defer c.Close()
		_, err = fmt.Fprintf(c, "POST /api/v1/systems/import HTTP/1.1\r\nHost: moss\r\nAuthorization: Bearer none\r\nContent-Type: application/json\r\nContent-Length: 12000000\r\n\r\n{")
		require.NoError(t, err)
	}
	for _, c := range all {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		line, err := bufio.NewReader(c).ReadString('\n')
		require.NoError(t, err)
		assert.Contains(t, line, "413")
	}
	runtime.ReadMemStats(&during)
	assert.Less(t, int64(during.TotalAlloc-before.TotalAlloc), int64(100<<20), "2.4 GB were announced")
	response, _ := r.do("GET", "/healthz", "", "")
	assert.Equal(t, 200, response.StatusCode)
}

func TestWhatWatchersSee(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	token := r.signIn("ines")
	for _, path := range []string{"/metrics", "/readyz"} {
		response, _ := r.do("GET", path, "", "")
		assert.Equal(t, 200, response.StatusCode, "on this machine: %s", path)
		for _, header := range []string{"X-Forwarded-For", "Forwarded", "Via", "X-Real-IP"} {
			response, _ = r.do("GET", path, "", "", header, "for=198.51.100.7")
			assert.Equal(t, 401, response.StatusCode, "through a proxy: %s", path)
			response, _ = r.do("GET", path, token, "", header, "for=198.51.100.7")
			assert.Equal(t, 200, response.StatusCode, "with a token: %s", path)
		}
	}
	response, _ := r.do("GET", "/healthz", "", "", "Via", "a proxy")
	assert.Equal(t, 200, response.StatusCode)
}

func (r *running) surveys(token string) (page records.Page[records.Survey]) {
	r.t.Helper()
	response, answer := r.do("GET", "/api/v1/surveys", token, "")
	require.Equal(r.t, 200, response.StatusCode, answer)
	require.NoError(r.t, json.Unmarshal([]byte(answer), &page))
	return page
}

func TestARequestSentManyTimesIsDoneOnce(t *testing.T) {
	data := t.TempDir()
	r := start(t, func(c *Config) { c.Data = data })
	r.setUp()
	token := r.signIn("ines")
	for _, name := range []string{"a", "bb"} {
		response, answer := r.do("POST", "/api/v1/systems", token, fmt.Sprintf(`{"name":%q,"kind":"redis","address":"127.0.0.1","port":%d}`, name, len(name)))
		require.Equal(t, 200, response.StatusCode, answer)
	}
	ids := make([]string, 20)
	var all sync.WaitGroup
	for i := range ids {
		all.Go(func() {
			response, answer := r.do("POST", "/api/v1/surveys", token, `{"systems":["a"]}`, "Idempotency-Key", "one intent")
			assert.Equal(t, 200, response.StatusCode, answer)
			var v records.Survey
			assert.NoError(t, json.Unmarshal([]byte(answer), &v))
			ids[i] = fmt.Sprint(v.ID)
		})
	}
	all.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	assert.Len(t, r.surveys(token).Items, 1)
	response, answer := r.do("POST", "/api/v1/surveys", token, `{"systems":["bb"]}`, "Idempotency-Key", "one intent")
	assert.Equal(t, 422, response.StatusCode, answer)
	assert.Contains(t, answer, "sent before with another request")
	assert.Len(t, r.surveys(token).Items, 1)

	r.stop()
	r = start(t, func(c *Config) { c.Data = data })
	response, answer = r.do("POST", "/api/v1/surveys", token, `{"systems":["a"]}`, "Idempotency-Key", "one intent")
	assert.Equal(t, 200, response.StatusCode, answer)
	assert.Len(t, r.surveys(token).Items, 1, "also after a restart")
	response, _ = r.do("POST", "/api/v1/surveys", token, `{"systems":["a"]}`, "Idempotency-Key", "another")
	assert.Equal(t, 200, response.StatusCode)
	assert.Len(t, r.surveys(token).Items, 2)
}

// What was due while the service was down runs after its start, once.
func TestSchedulesSurviveTheService(t *testing.T) {
	data := t.TempDir()
	daily := func(c *Config) { c.Data, c.SurveyEvery = data, 24*time.Hour }
	r := start(t, daily)
	r.setUp()
	token := r.signIn("ines")
	response, answer := r.do("POST", "/api/v1/systems", token, `{"name":"a","kind":"redis","address":"127.0.0.1","port":1}`)
	require.Equal(t, 200, response.StatusCode, answer)
	r.stop()
	r = start(t, daily)
	assert.Empty(t, r.surveys(token).Items, "not due")
	r.stop()

	s, err := store.Open(context.Background(), data, time.Now)
	require.NoError(t, err)
	noted, err := s.Duty(context.Background(), "survey")
	require.NoError(t, err, "noted at the first start")
	require.WithinDuration(t, time.Now(), noted.Begun, time.Minute)
	require.NoError(t, s.BeginDuty(context.Background(), "survey", time.Now().Add(-72*time.Hour)))
	require.NoError(t, s.Close())

	r = start(t, daily)
	require.Eventually(t, func() bool { return len(r.surveys(token).Items) == 1 }, 10*time.Second, 20*time.Millisecond)
	var duties []schedule.Planned
	require.Eventually(t, func() bool {
		_, answer := r.do("GET", "/api/v1/duties", token, "")
		return json.Unmarshal([]byte(answer), &duties) == nil && len(duties) == 9 && duties[1].Words != ""
	}, 10*time.Second, 20*time.Millisecond)
	assert.Contains(t, duties[1].Words, "began survey 1")
	assert.WithinDuration(t, time.Now().Add(24*time.Hour), duties[1].Due, time.Minute)
	assert.Zero(t, duties[0].Every, "verifying is switched off here")
	r.stop()
	r = start(t, daily)
	assert.Len(t, r.surveys(token).Items, 1, "not again at the next start")
}

func TestNothingBeginsAfterStop(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	token := r.signIn("ines")
	response, answer := r.do("POST", "/api/v1/systems", token, `{"name":"a","kind":"redis","address":"127.0.0.1","port":1}`)
	require.Equal(t, 200, response.StatusCode, answer)
	// Surveys are asked for while the service stops: each is refused, or ended
	// by it; the database closing under one would be logged as an error.
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for {
				request, err := http.NewRequest("POST", r.url+"/api/v1/surveys", strings.NewReader("{}"))
				if err != nil {
					return
				}
				request.Header.Set("Content-Type", "application/json")
				request.Header.Set("Authorization", "Bearer "+token)
				response, err := http.DefaultClient.Do(request)
				if err != nil {
					return
				}
				response.Body.Close()
				if response.StatusCode != 200 {
					return
				}
			}
		})
	}
	r.stop()
	all.Wait()
	assert.NotContains(t, r.log.String(), `"level":"ERROR"`)
}
