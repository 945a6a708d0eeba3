package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Labels by rules: what a rule would do is seen before it is kept, an exclusion wins over
// rules and people, surveys apply them again, and a rule that cannot be decided is told.
func TestLabelsByRules(t *testing.T) {
	t.Parallel()
	_, u := startDemo(t)
	labelled := func(label string) (names []string) {
		status, raw := u.api(http.MethodGet, "/api/v1/accounts?limit=1000&sort=name&label="+label, u.token(), "")
		require.Equal(t, 200, status, raw)
		var page struct {
			Items []struct{ Name, System string }
		}
		require.NoError(t, json.Unmarshal([]byte(raw), &page))
		for _, v := range page.Items {
			names = append(names, v.Name+" on "+v.System)
		}
		return names
	}
	out := u.moss(0, "rule", "preview", "kept", "--label", "kept", "--when", `account.custody && system.kind == "directory"`)
	assert.Contains(t, out, "Accounts that it matches: 6; that it stops matching: 0. Labels gained: 6, lost: 0.")
	assert.Empty(t, labelled("kept"), "a preview keeps nothing")
	assert.Contains(t, u.moss(2, "rule", "add", "kept", "--label", "kept", "--when", "true"), "--yes says it", "nobody was asked")
	u.moss(0, "rule", "add", "kept", "--label", "kept", "--when", `account.custody && system.kind == "directory"`, "--yes")
	assert.Len(t, labelled("kept"), 6)
	assert.Contains(t, u.moss(1, "rule", "add", "kept", "--label", "x", "--when", "true", "--yes"), "there is a rule")
	assert.Contains(t, u.moss(2, "rule", "add", "wrong", "--label", "x", "--when", "account.nmae == 'x'", "--yes"), "did you mean 'account.name'")

	// By hand beside it; an exclusion wins over both.
	u.moss(0, "label", "put", "larkmoor-directory/svc-berth", "quiet", "--reason", "asked for")
	u.moss(0, "rule", "add", "not-berth", "--label", "quiet", "--exclude", "--when", `account.name == "svc-berth"`, "--yes")
	assert.Empty(t, labelled("quiet"))
	assert.Contains(t, u.moss(0, "label", "put", "larkmoor-directory/svc-berth", "quiet", "--reason", "once more"), "the rule not-berth keeps it away")
	u.moss(0, "rule", "remove", "not-berth", "--yes")
	assert.Equal(t, []string{"svc-berth on larkmoor-directory"}, labelled("quiet"), "what people said comes back")
	u.moss(0, "label", "drop", "larkmoor-directory/svc-berth", "quiet", "--reason", "tried")
	assert.Contains(t, u.moss(1, "label", "drop", "larkmoor-directory/svc-berth", "kept", "--reason", "tried"), "nobody gave it by hand")

	// Another label of a rule moves what it gave.
	u.moss(0, "rule", "change", "kept", "--label", "guarded", "--yes")
	assert.Empty(t, labelled("kept"))
	assert.Len(t, labelled("guarded"), 6)

	// A survey applies them again.
	u.moss(0, "custody", "release", "larkmoor-directory/svc-berth", "--reason", "tried")
	u.moss(0, "survey", "run", "larkmoor-directory")
	assert.Len(t, labelled("guarded"), 5)
	assert.Contains(t, u.moss(0, "change", "list", "--filter", "name=svc-berth", "--filter", "fields~labels", "--limit", "1"), "now without guarded")

	u.moss(0, "rule", "add", "undecided", "--label", "x", "--when", `1 / (size(dependents) - 2) == 1`, "--yes")
	assert.Contains(t, u.moss(0, "finding", "list", "--filter", "kind=rule-failed"), "could not be decided for")

	// Nothing is saved that was not shown, whoever asks for it.
	body := func(condition, mark string) string {
		raw, err := json.Marshal(map[string]any{"name": "sly", "label": "sly", "condition": condition, "mark": mark})
		require.NoError(t, err)
		return string(raw)
	}
	ask := func(method, path, text string) (int, string) { return u.api(method, "/api/v1"+path, u.token(), text) }
	status, raw := ask(http.MethodPut, "/rules/sly", body("true", ""))
	assert.Equal(t, 409, status, raw)
	status, raw = ask(http.MethodPost, "/rules/preview", `{"name":"sly","label":"sly","condition":"account.never_expires"}`)
	require.Equal(t, 200, status, raw)
	var shown struct{ Mark string }
	require.NoError(t, json.Unmarshal([]byte(raw), &shown))
	status, raw = ask(http.MethodPut, "/rules/sly", body("true", shown.Mark))
	assert.Equal(t, 409, status, "another condition than was shown: %s", raw)
	u.moss(0, "label", "put", "larkmoor-directory/svc-tidefeed", "sly", "--reason", "meanwhile")
	status, raw = ask(http.MethodPut, "/rules/sly", body("account.never_expires", shown.Mark))
	require.Equal(t, 200, status, "what it does is the same as was shown: %s", raw)
	for _, role := range []string{"viewer", "operator"} {
		u.file(role+".pw", "seven-boats-before-dawn")
		u.moss(0, "user", "add", role, "--role", role, "--password-file", u.File(role+".pw"))
		status, raw = u.api(http.MethodPost, "/api/v1/sessions", "", fmt.Sprintf(`{"name":%q,"password":"seven-boats-before-dawn","token":true}`, role))
		require.Equal(t, 200, status, raw)
		var in struct{ Token string }
		require.NoError(t, json.Unmarshal([]byte(raw), &in))
		for _, path := range []string{"/rules/sly", "/rules/sly?mark=" + shown.Mark} {
			method := map[bool]string{true: http.MethodPut, false: http.MethodDelete}[path == "/rules/sly"]
			text := map[string]string{http.MethodPut: body("true", shown.Mark)}[method]
			status, raw = u.api(method, "/api/v1"+path, in.Token, text)
			assert.Equal(t, 403, status, "%s %s as %s: %s", method, path, role, raw)
		}
		status, _ = u.api(http.MethodPut, "/api/v1/accounts/1/labels/x", in.Token, `{"reason":"x"}`)
		assert.Equal(t, 403, status, role)
	}
}
