package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A filter is judged by a model that knows only the API's answers: what a list
// shows without a filter, and the rules of README.md.

// columnKind is what a column says of itself when it is asked for nonsense.
func (u *user) columnKind(list, column string) string {
	status, answer := u.api("GET", list+"?filter="+url.QueryEscape(column+"=zebra of nowhere"), u.token(), "")
	switch {
	case status == 200:
		return "text"
	case strings.Contains(answer, "a moment as"):
		return "moment"
	case strings.Contains(answer, "yes or no"):
		return "flag"
	case strings.Contains(answer, "a number is expected"):
		return "number"
	case strings.Contains(answer, "it is one of"):
		return "word"
	}
	u.t.Fatalf("%s %s: %d %s", list, column, status, answer)
	return ""
}

// cell is what a list shows in a column, as text.
func cell(item map[string]any, column string) (string, bool) {
	switch v := item[column].(type) {
	case nil:
		return "", true // left out because it is empty
	case string:
		return v, true
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v], true
	case json.Number:
		return v.String(), true
	}
	return "", false
}

// holds is the model of one filter.
func holds(t *testing.T, kind, shown, operator, value string) bool {
	t.Helper()
	order := strings.Compare(strings.ToLower(shown), strings.ToLower(value))
	switch kind {
	case "flag":
		if shown == "" {
			shown = "no"
		}
		return (shown == value) == (operator == "=")
	case "number":
		if shown == "" {
			shown = "0"
		}
		a, err := strconv.ParseFloat(shown, 64)
		require.NoError(t, err)
		b, err := strconv.ParseFloat(value, 64)
		require.NoError(t, err)
		order = cmp.Compare(a, b)
	case "moment":
		return momentHolds(t, shown, operator, value)
	}
	switch operator {
	case "=":
		return order == 0
	case "!=":
		return order != 0
	case "<":
		return order < 0
	case ">":
		return order > 0
	case "<=":
		return order <= 0
	case ">=":
		return order >= 0
	}
	t.Fatalf("operator %s", operator)
	return false
}

func momentHolds(t *testing.T, shown, operator, value string) bool {
	t.Helper()
	if value == "" || shown == "" {
		if operator == "!=" {
			return shown != value
		}
		return operator == "=" && shown == value // never is neither before nor after
	}
	at, err := time.Parse(time.RFC3339Nano, shown)
	require.NoError(t, err)
	at = at.Truncate(time.Millisecond)
	from, err := time.Parse(time.RFC3339Nano, value)
	from = from.Truncate(time.Millisecond)
	to := from
	if err != nil { // a whole day
		from, err = time.Parse(time.DateOnly, value)
		require.NoError(t, err)
		to = from.AddDate(0, 0, 1).Add(-time.Nanosecond)
	}
	inside := !at.Before(from) && !at.After(to)
	switch operator {
	case "=":
		return inside
	case "!=":
		return !inside
	case "<":
		return at.Before(from)
	case ">":
		return at.After(to)
	case "<=":
		return !at.After(to)
	case ">=":
		return !at.Before(from)
	}
	return false
}

var nowhere = regexp.MustCompile(`columns: ([a-z_, ]+)\)`)

func (u *user) items(list string, query url.Values) ([]map[string]any, string) {
	u.t.Helper()
	query.Set("limit", "1000")
	status, answer := u.api("GET", list+"?"+query.Encode(), u.token(), "")
	require.Equal(u.t, 200, status, "%s?%s: %s", list, query.Encode(), answer)
	decoder := json.NewDecoder(strings.NewReader(answer))
	decoder.UseNumber()
	var page struct {
		Items []map[string]any
		Total int
		Next  string
	}
	require.NoError(u.t, decoder.Decode(&page))
	require.Empty(u.t, page.Next, "%s has more than a page", list)
	assert.Equal(u.t, len(page.Items), page.Total, "%s?%s", list, query.Encode())
	return page.Items, answer
}

// TestFiltersAgainstAModel asks every list for every column by values that it
// shows, and by others.
func TestFiltersAgainstAModel(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	u.file("berth.pw", "Harbour-Lamp-41")
	u.moss(0, "custody", "take", "larkmoor-directory/svc-berth", "--password-file", d.File("berth.pw"))
	u.moss(0, "rotate", "rehearse", "larkmoor-directory/svc-berth")
	u.moss(0, "rotate", "run", "larkmoor-directory/svc-berth", "--reason", "for the lists")
	u.moss(0, "token", "add", "for the lists")
	// What the rotation changed is read again: lists stand still when that is over.
	require.Eventually(t, func() bool {
		running, _ := u.items("/api/v1/surveys", url.Values{"filter": {"state=running"}})
		return len(running) == 0
	}, time.Minute, 50*time.Millisecond)
	u.moss(2, "system", "add", "nothing", "--kind", "none")

	var api struct {
		Paths map[string]struct {
			Get *struct{ Parameters []struct{ Name string } }
		}
	}
	_, description := u.api("GET", "/api/v1/openapi.json", u.token(), "")
	require.NoError(t, json.Unmarshal([]byte(description), &api))
	lists, compared, unseen := 0, 0, map[string]bool{}
	for list, methods := range api.Paths {
		if methods.Get == nil || !slices.ContainsFunc(methods.Get.Parameters, func(p struct{ Name string }) bool { return p.Name == "filter" }) {
			continue
		}
		list = strings.NewReplacer("{id}", "1", "{name}", "quay1").Replace(list)
		status, answer := u.api("GET", list+"?filter=banana%3D1", u.token(), "")
		if status == 404 {
			continue
		}
		columns := nowhere.FindStringSubmatch(answer)
		require.NotNil(t, columns, "%s: %s", list, answer)
		lists++
		all, _ := u.items(list, url.Values{})
		for _, column := range strings.Split(columns[1], ", ") {
			if len(all) == 0 {
				continue
			}
			if _, readable := cell(all[0], column); !readable || !slices.ContainsFunc(all, func(item map[string]any) bool { return item[column] != nil }) {
				unseen[path.Base(list)+"."+column] = true
				continue // shown in another form, or nowhere
			}
			kind := u.columnKind(list, column)
			for _, value := range valuesOf(all, column, kind) {
				for _, operator := range operatorsOf(kind) {
					if kind == "moment" && value == "" && operator != "=" && operator != "!=" {
						continue
					}
					filter := column + operator + value
					got, _ := u.items(list, url.Values{"filter": {filter}})
					var want []map[string]any
					for _, item := range all {
						shown, _ := cell(item, column)
						if matches(t, kind, shown, operator, value) {
							want = append(want, item)
						}
					}
					if !assert.Equal(t, ids(want), ids(got), "%s: %s (%s)", list, filter, kind) {
						return
					}
					compared++
				}
			}
		}
	}
	t.Logf("%d lists, %d filters; columns that are not shown as they are: %v", lists, compared, unseen)
	assert.GreaterOrEqual(t, lists, 14)
	assert.Greater(t, compared, 1500)
}

func operatorsOf(kind string) []string {
	switch kind {
	case "flag", "word":
		return []string{"=", "!="}
	case "text":
		return []string{"=", "!=", "<", ">", "<=", ">=", "~", "!~", "*="}
	}
	return []string{"=", "!=", "<", ">", "<=", ">="}
}

// matches adds to holds the operators of parts and patterns.
func matches(t *testing.T, kind, shown, operator, value string) bool {
	t.Helper()
	switch operator {
	case "~":
		return strings.Contains(strings.ToLower(shown), strings.ToLower(value))
	case "!~":
		return !strings.Contains(strings.ToLower(shown), strings.ToLower(value))
	case "*=":
		pattern := regexp.QuoteMeta(strings.ToLower(value))
		pattern = strings.NewReplacer(`\*`, "(?s:.*)", `\?`, "(?s:.)").Replace(pattern)
		return regexp.MustCompile("^" + pattern + "$").MatchString(strings.ToLower(shown))
	}
	return holds(t, kind, shown, operator, value)
}

// valuesOf are some that the list shows, and others near them.
func valuesOf(all []map[string]any, column, kind string) []string {
	var out []string
	add := func(values ...string) {
		for _, v := range values {
			if !slices.Contains(out, v) && strings.TrimSpace(v) == v {
				out = append(out, v)
			}
		}
	}
	for _, item := range all {
		shown, ok := cell(item, column)
		if !ok || len(out) >= 6 || strings.ContainsAny(shown, "\n\t") {
			continue
		}
		switch {
		case kind == "moment" && shown != "":
			add(shown, shown[:len("2026-03-01")])
		case kind == "number" && shown != "" || kind == "word":
			add(shown)
		case kind == "text":
			add(shown, strings.ToUpper(shown))
			if ascii(shown) && len(shown) > 4 {
				add(strings.TrimSpace(shown[1:4]), shown[:2]+"*"+shown[len(shown)-1:])
			}
		}
	}
	switch kind {
	case "flag":
		add("yes", "no")
	case "number":
		add("-1", "2.5", "1000000")
	case "moment":
		add("", "2026-01-01", "2031-12-31T23:00:00Z")
	case "text":
		add("", "zebra", "%", "_", "[a-z]*")
	}
	return out
}

func ascii(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return r > '~' }) < 0
}

// ids are what tells items apart, in order.
func ids(items []map[string]any) []string {
	out := []string{}
	for _, item := range items {
		raw, _ := json.Marshal(item)
		if id := item["id"]; id != nil {
			raw = fmt.Append(nil, id)
		}
		out = append(out, string(raw))
	}
	return out
}
