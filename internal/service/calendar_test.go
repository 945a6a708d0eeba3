package service

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

func basic(token string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte("calendar:"+token))
}

// A token for the calendar reads the calendar and nothing else, in no other way; and who
// edits the database makes no other of it.
func TestCalendarToken(t *testing.T) {
	data := t.TempDir()
	r := start(t, func(c *Config) { c.Data = data })
	r.setUp()
	token := r.signIn("ines")
	make := func(body string) string {
		response, answer := r.do("POST", "/api/v1/tokens", token, body)
		require.Equal(t, 200, response.StatusCode, answer)
		var v NewToken
		require.NoError(t, json.Unmarshal([]byte(answer), &v))
		return v.Token
	}
	feed := make(`{"label":"calendar","only":"calendar"}`)
	plain := make(`{"label":"all"}`)
	response, answer := r.do("POST", "/api/v1/tokens", token, `{"label":"x","only":"everything"}`)
	require.Equal(t, 422, response.StatusCode, answer)

	get := func(path, authorization string) *http.Response {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.url+path, nil)
		require.NoError(t, err)
		if authorization != "" {
			request.Header.Set("Authorization", authorization)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		return response
	}
	ok := get("/api/v1/schedule.ics", basic(feed))
	assert.Equal(t, 200, ok.StatusCode)
	assert.Equal(t, "text/calendar; charset=utf-8", ok.Header.Get("Content-Type"))
	ends := get("/api/v1/expiry.ics", basic(feed))
	assert.Equal(t, 200, ends.StatusCode, "what ends is a calendar too")
	assert.Equal(t, "text/calendar; charset=utf-8", ends.Header.Get("Content-Type"))
	assert.Equal(t, 200, get("/api/v1/schedule.ics", "Bearer "+plain).StatusCode, "who may read everything may read this")
	for what, c := range map[string][2]string{
		"everything else":           {"/api/v1/accounts", "Bearer " + feed},
		"everything else, as basic": {"/api/v1/accounts", basic(feed)},
		"the calendar, as a bearer": {"/api/v1/schedule.ics", "Bearer " + feed},
		"the list of that calendar": {"/api/v1/expiry", basic(feed)},
		"ends, as a bearer":         {"/api/v1/expiry.ics", "Bearer " + feed},
		"ends, a full token":        {"/api/v1/expiry.ics", basic(plain)},
		"ends, nothing":             {"/api/v1/expiry.ics", ""},
		"a full token, as basic":    {"/api/v1/schedule.ics", basic(plain)},
		"a password":                {"/api/v1/schedule.ics", basic(password)},
		"nothing":                   {"/api/v1/schedule.ics", ""},
		"no base64":                 {"/api/v1/schedule.ics", "Basic !"},
		"no colon":                  {"/api/v1/schedule.ics", "Basic " + base64.StdEncoding.EncodeToString([]byte(feed))},
		"the query":                 {"/api/v1/schedule.ics?token=" + feed, ""},
	} {
		assert.Equal(t, 401, get(c[0], c[1]).StatusCode, what)
	}
	assert.Contains(t, get("/api/v1/schedule.ics", "").Header.Get("WWW-Authenticate"), "Basic ", "calendars are asked")
	assert.NotContains(t, get("/api/v1/accounts", "").Header.Get("WWW-Authenticate"), "Basic ")
	response, answer = r.do("GET", "/api/v1/tokens?filter=only%3Dcalendar", token, "")
	require.Equal(t, 200, response.StatusCode, answer)
	assert.Contains(t, answer, `"only":"calendar"`)
	r.stop()

	db, err := sql.Open("sqlite", filepath.Join(data, "moss.db"))
	require.NoError(t, err)
	_, err = db.ExecContext(context.Background(), "UPDATE tokens SET only = CASE only WHEN '' THEN 'calendar' ELSE '' END")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	r = start(t, func(c *Config) { c.Data = data })
	assert.Equal(t, 401, get("/api/v1/accounts", "Bearer "+feed).StatusCode, "a token is what it was made as")
	assert.Equal(t, 401, get("/api/v1/schedule.ics", basic(plain)).StatusCode)
}
