package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/cli/api"
)

// What a later look prints and how it ends: a script goes by the code.
func TestLookingAgain(t *testing.T) {
	s := recorded(t)
	s.answers["POST /api/v1/rotations/7/look"] = answer{http.StatusOK, json.RawMessage(`{"rotation_id":7,"looked":"2026-11-28T09:00:00Z","checks":[{"result":"failed","system":"tide1","what":"/etc/tide/feed.pw","words":"it has again what was replaced","next":"change it there"},{"result":"ok","system":"","what":"still runs","words":"2 places"}]}`)}
	s.answers["POST /api/v1/rotations/8/look"] = answer{http.StatusOK, json.RawMessage(`{"rotation_id":8,"looked":"2026-11-28T09:00:00Z","checks":[{"result":"ok","system":"","what":"still runs","words":"2 places"}]}`)}
	s.answers["POST /api/v1/rotations/9/look"] = answer{http.StatusConflict, json.RawMessage(`{"status":409,"detail":"refused: rotation 9 has not ended"}`)}
	server := httptest.NewServer(s)
	defer server.Close()
	for _, c := range []struct {
		line  []string
		code  int
		print []string
		told  string
	}{
		{[]string{"rotate", "look", "7"}, api.ExitNegative, []string{"/etc/tide/feed.pw", "it has again what was replaced", "change it there", "still runs"}, "something is not as the rotation left it"},
		{[]string{"rotate", "look", "7", "-o", "csv"}, api.ExitNegative, []string{"failed,tide1,/etc/tide/feed.pw"}, "something is not"},
		{[]string{"rotate", "look", "8"}, api.ExitOK, []string{"2 places"}, ""},
		{[]string{"rotate", "look", "8", "-o", "json"}, api.ExitOK, []string{`"looked": "2026-11-28T09:00:00Z"`}, ""},
		{[]string{"rotate", "look", "9"}, api.ExitFailed, nil, "rotation 9 has not ended"},
		{[]string{"rotate", "look"}, api.ExitUsage, nil, "give the number of a rotation: see 'moss rotate list'"},
		{[]string{"rotate", "look", "x"}, api.ExitUsage, nil, `"x" is not the number of a rotation`},
		{[]string{"rotate", "look", "7", "8"}, api.ExitUsage, nil, "only 1 of 2 arguments are taken"},
	} {
		code, out, told := run(t, server.URL, "a-token", c.line...)
		assert.Equal(t, c.code, code, "%v: %s", c.line, told)
		for _, words := range c.print {
			assert.Contains(t, out, words, "%v", c.line)
		}
		assert.Contains(t, told, c.told, "%v", c.line)
	}
}
