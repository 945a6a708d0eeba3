package service

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var columnsIn = regexp.MustCompile(`columns: ([a-z_, ]+)\)`)

// Every list answers whatever it is asked: with rows, or with what was wrong in
// words, never with an error of the inside, nor with what was sent as a value.
func TestEveryListWithEveryFilter(t *testing.T) {
	r := start(t, nil)
	r.setUp()
	token := r.signIn("ines")
	response, answer := r.do("POST", "/api/v1/systems", token, `{"name":"a","kind":"redis","address":"127.0.0.1","port":1}`)
	require.Equal(t, 200, response.StatusCode, answer)
	var api struct {
		Paths map[string]struct {
			Get *struct {
				OperationID string `json:"operationId"`
				Parameters  []struct{ Name string }
			}
		}
	}
	_, description := r.do("GET", "/api/v1/openapi.json", "", "")
	require.NoError(t, json.Unmarshal([]byte(description), &api))
	ask := func(path string, query url.Values) (int, string) {
		response, answer := r.do("GET", path+"?"+query.Encode(), token, "")
		return response.StatusCode, answer
	}
	lists := 0
	for path, methods := range api.Paths {
		if methods.Get == nil {
			continue
		}
		filters := false
		for _, p := range methods.Get.Parameters {
			filters = filters || p.Name == "filter"
		}
		if !filters {
			continue
		}
		path = strings.NewReplacer("{id}", "1", "{name}", "a").Replace(path)
		status, answer := ask(path, url.Values{"filter": {"banana=1"}})
		if status == 404 {
			continue // of something that is not there
		}
		lists++
		require.Equal(t, 400, status, "%s: %s", path, answer)
		found := columnsIn.FindStringSubmatch(answer)
		require.NotNil(t, found, "%s tells its columns: %s", path, answer)
		for _, column := range strings.Split(found[1], ", ") {
			for _, operator := range []string{"=", "!=", "~", "!~", "*=", "<", ">"} {
				for _, value := range []string{"", "x", "1", "-1", "1e400", "99999999999999999999", "2026-01-01", "2026-13-45", "yes", "no", "high", "'", `"`, "%", "_", "*", "a\x00b", "\x1b[31m", strings.Repeat("ä", 300), "zebra-of-the-test"} {
					status, answer := ask(path, url.Values{"filter": {column + operator + value}, "limit": {"3"}})
					if !assert.Contains(t, []int{200, 400, 422}, status, "%s %s%s%q: %s", path, column, operator, value, answer) {
						return
					}
					for _, inside := range []string{"strconv", "sqlite", "json:", "parsing"} {
						assert.NotContains(t, answer, inside, "%s %s%s%q", path, column, operator, value)
					}
					// As a word: three letters stand in one ledger's key of some five thousand, too.
					assert.NotRegexp(t, `\bSQL\b`, answer, "%s %s%s%q", path, column, operator, value)
				}
			}
			for _, sort := range []string{column, "-" + column} {
				status, answer := ask(path, url.Values{"sort": {sort}, "limit": {"1"}})
				assert.Contains(t, []int{200, 400}, status, "%s sort=%s: %s", path, sort, answer)
			}
		}
		for _, cursor := range []string{"x", "%", base64.RawURLEncoding.EncodeToString([]byte(`["a",1]`)), base64.RawURLEncoding.EncodeToString([]byte(`null`)), base64.RawURLEncoding.EncodeToString([]byte(`[[],{}]`)), strings.Repeat("A", 2000)} {
			status, answer := ask(path, url.Values{"cursor": {cursor}})
			assert.Contains(t, []int{400, 422}, status, "%s cursor=%.20s: %.200s", path, cursor, answer)
		}
		for _, search := range []string{"a\x00b", "'", "%", `"`, "*", "\u202e"} {
			status, answer := ask(path, url.Values{"search": {search}})
			assert.Contains(t, []int{200, 400, 422}, status, "%s search=%q: %s", path, search, answer)
		}
		for _, limit := range []string{"-1", "1001", "x", "99999999999999999999"} {
			status, answer := ask(path, url.Values{"limit": {limit}})
			assert.Contains(t, []int{400, 422}, status, "%s limit=%s: %s", path, limit, answer)
			assert.NotContains(t, answer, "strconv")
		}
	}
	assert.GreaterOrEqual(t, lists, 12, "all lists were asked")
	assert.NotContains(t, r.log.String(), `"level":"ERROR"`, "no request failed inside")
}
