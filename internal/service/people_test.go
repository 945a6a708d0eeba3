package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/people"
)

// A password typed as a name stands nowhere.
func TestAPasswordInTheWrongFieldIsNotWritten(t *testing.T) {
	data := t.TempDir()
	r := start(t, func(c *Config) { c.Data = data })
	r.setUp()
	admin := r.signIn("ines")
	const slip = "My-Real-Password-For-Everything-9"
	response, body := r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":%q,"password":"x"}`, slip))
	assert.Equal(t, 401, response.StatusCode)
	assert.NotContains(t, body, slip)
	_, entries := r.do("GET", "/api/v1/ledger?filter=result=refused", admin, "")
	assert.Contains(t, entries, "unknown:")
	assert.NotContains(t, entries, slip)
	assert.NotContains(t, r.log.String(), slip)
	r.stop()
	for _, name := range []string{"moss.db", "moss.db-wal"} {
		raw, err := os.ReadFile(data + "/" + name)
		if !os.IsNotExist(err) {
			require.NoError(t, err)
			assert.NotContains(t, strings.ToLower(string(raw)), strings.ToLower(slip), name)
		}
	}
}

func TestRightsEndWhenTheyAreTaken(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	response, body := r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":"ben","password":%q,"roles":["operator"]}`, password))
	require.Equal(t, 200, response.StatusCode, body)
	ben := r.signIn("ben")

	// A token makes none that outlives it.
	var tokens struct{ Items []struct{ Expires time.Time } }
	response, body = r.do("POST", "/api/v1/tokens", ben, `{"label":"longer"}`)
	require.Equal(t, 200, response.StatusCode, body)
	_, body = r.do("GET", "/api/v1/tokens?filter=user=ben", admin, "")
	require.NoError(t, json.Unmarshal([]byte(body), &tokens))
	require.Len(t, tokens.Items, 2)
	assert.False(t, tokens.Items[0].Expires.After(tokens.Items[1].Expires))

	// Nobody gives themselves a role.
	response, body = r.do("PATCH", "/api/v1/users/ines", admin, `{"roles":["administrator","operator","approver","auditor","viewer"]}`)
	assert.Equal(t, http.StatusConflict, response.StatusCode, body)

	// An event stream ends when its owner is disabled.
	request, err := http.NewRequestWithContext(t.Context(), "GET", r.url+"/api/v1/events", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+ben)
	stream, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer stream.Body.Close()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buffer := make([]byte, 4096)
		for {
			if _, err := stream.Body.Read(buffer); err != nil {
				return
			}
		}
	}()
	response, body = r.do("PATCH", "/api/v1/users/ben", admin, `{"disabled":true}`)
	require.Equal(t, 200, response.StatusCode, body)
	select {
	case <-ended:
	case <-time.After(3 * heartbeat):
		t.Fatal("the stream goes on for somebody who is disabled")
	}
}

// Sessions are seen and ended by who has them and by administrators, and by nobody else;
// what the list says of them opens nothing.
func TestSessionsAreEnded(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	admin := r.signIn("ines")
	response, body := r.do("POST", "/api/v1/users", admin, fmt.Sprintf(`{"name":"ben","password":%q,"roles":["operator"]}`, password))
	require.Equal(t, 200, response.StatusCode, body)
	browser := func(name string) *http.Cookie {
		response, body := r.do("POST", "/api/v1/sessions", "", fmt.Sprintf(`{"name":%q,"password":%q}`, name, password))
		require.Equal(t, 200, response.StatusCode, body)
		for _, c := range response.Cookies() {
			if c.Name == sessionCookie {
				return c
			}
		}
		t.Fatal("no session")
		return nil
	}
	lives := func(c *http.Cookie) bool {
		request, err := http.NewRequestWithContext(t.Context(), "GET", r.url+"/api/v1/me", nil)
		require.NoError(t, err)
		request.AddCookie(c)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		return response.StatusCode == 200
	}
	type session struct {
		ID, User, Address string
		Current           bool
	}
	list := func(token string) (out []session, text string) {
		var page struct{ Items []session }
		response, body := r.do("GET", "/api/v1/sessions", token, "")
		require.Equal(t, 200, response.StatusCode, body)
		require.NoError(t, json.Unmarshal([]byte(body), &page))
		return page.Items, body
	}
	first, second, other := browser("ben"), browser("ben"), browser("ines")
	ben := r.signIn("ben")
	own, text := list(ben)
	require.Len(t, own, 2, "one's own")
	assert.Equal(t, "ben", own[0].User)
	assert.Equal(t, "127.0.0.1", own[0].Address)
	assert.NotContains(t, text, second.Value)
	all, _ := list(admin)
	require.GreaterOrEqual(t, len(all), 3, "an administrator sees all")
	for _, v := range all {
		if v.User == "ines" {
			response, body = r.do("DELETE", "/api/v1/sessions/"+v.ID, ben, "")
			assert.Equal(t, 404, response.StatusCode, "whose it is is not told: %s", body)
		}
	}
	require.True(t, lives(other))
	response, _ = r.do("DELETE", "/api/v1/sessions/"+own[0].ID, ben, "")
	assert.Equal(t, 204, response.StatusCode)
	assert.False(t, lives(second), "the latest stood first")
	assert.True(t, lives(first))
	response, _ = r.do("DELETE", "/api/v1/sessions/"+own[1].ID, admin, "")
	assert.Equal(t, 204, response.StatusCode)
	assert.False(t, lives(first))
	response, body = r.do("DELETE", "/api/v1/sessions/"+own[1].ID, admin, "")
	assert.Equal(t, 404, response.StatusCode, body)
	response, _ = r.do("DELETE", "/api/v1/sessions/%25", admin, "")
	assert.Equal(t, 422, response.StatusCode, "a pattern is no name")
}

func TestOwnPassword(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	token := r.signIn("ines")
	change := func(old, next string) (int, string) {
		response, body := r.do("POST", "/api/v1/me/password", token, fmt.Sprintf(`{"old":%q,"new":%q}`, old, next))
		return response.StatusCode, body
	}
	status, _ := change("not the old one", "brine-lantern-cobble-fern")
	assert.Equal(t, 403, status)
	status, body := change(password, "password12345")
	assert.Equal(t, 400, status)
	assert.Contains(t, body, "common")
	status, body = change(password, "brine-lantern-cobble-fern")
	require.Equal(t, 204, status, body)
	response, _ := r.do("GET", "/api/v1/me", token, "")
	assert.Equal(t, 401, response.StatusCode, "every token ends")
	response, _ = r.do("POST", "/api/v1/sessions", "", `{"name":"ines","password":"brine-lantern-cobble-fern","token":true}`)
	assert.Equal(t, 200, response.StatusCode)

	// Signing out ends a token.
	other := r.signInWith("ines", "brine-lantern-cobble-fern")
	response, _ = r.do("DELETE", "/api/v1/sessions/current", other, "")
	assert.Less(t, response.StatusCode, 300)
	response, _ = r.do("GET", "/api/v1/me", other, "")
	assert.Equal(t, 401, response.StatusCode)
}

// Hashes are computed two at a time, and who finds too many waiting is sent
// away instead of being kept.
func TestManySignInsAtOnce(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	var all sync.WaitGroup
	var lock sync.Mutex
	answers := map[int]int{}
	for i := range 120 {
		all.Add(1)
		go func() {
			defer all.Done()
			response, err := http.Post(r.url+"/api/v1/sessions", "application/json", strings.NewReader(fmt.Sprintf(`{"name":"n%d","password":"wrong"}`, i)))
			if err != nil {
				return
			}
			defer response.Body.Close()
			lock.Lock()
			defer lock.Unlock()
			answers[response.StatusCode]++
		}()
	}
	all.Wait()
	assert.Equal(t, 120, answers[401]+answers[429]+answers[503], "%v", answers)
	assert.LessOrEqual(t, answers[401], people.FreeFromAddress, "%v", answers)
}
