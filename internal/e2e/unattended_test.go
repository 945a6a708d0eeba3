package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/lab"
)

// By itself, through the real binary and by its clock: a policy rotates in its window what
// it is for; frozen, nothing begins, and everybody sees it; many together, of which one
// does not pass.
func TestUnattended(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	soon := time.Now().UTC().Add(2 * time.Minute).Format("2006-01-02T15:04") // on a busy machine what follows takes its time
	u.moss(0, "label", "put", "larkmoor-directory/svc-tidefeed", "tonight", "--reason", "asked for")
	u.moss(0, "window", "add", "soon", "--rule", "FREQ=DAILY", "--begins", soon, "--for", "3h", "--zone", "UTC")
	u.moss(0, "window", "add", "nights", "--at", "22:00", "--for", "4h", "--zone", "Europe/Oslo")
	u.moss(0, "policy", "add", "tonight", "--label", "tonight", "--rule", "FREQ=DAILY", "--begins", soon, "--zone", "UTC", "--window", "soon", "--first-alone", "--yes")
	u.moss(0, "policy", "add", "monthly", "--every", "30d", "--window", "nights", "--precedence", "10", "--yes")
	assert.Contains(t, u.moss(0, "policy", "why", "svc-tidefeed"), "the policy tonight rotates it")
	assert.Contains(t, u.moss(0, "policy", "why", "larkmoor-directory/svc-berth"), "the policy monthly rotates it every 30 days")
	assert.Contains(t, u.moss(1, "window", "remove", "soon", "--yes"), `the policy "tonight" rotates in it`)
	assert.Contains(t, u.moss(2, "policy", "add", "other", "--every", "9d", "--precedence", "10", "--yes"), "the precedence 10 already")
	assert.Contains(t, u.moss(2, "policy", "add", "other", "--every", "9d", "--precedence", "5"), "--yes says it", "nobody was asked")

	// Nobody asks for it.
	require.Eventually(t, func() bool {
		return strings.Contains(u.moss(0, "rotate", "list", "--filter", "requested_by=service"), "policy tonight: its turn of")
	}, 5*time.Minute, time.Second)
	require.Eventually(t, func() bool {
		return strings.Contains(u.moss(0, "rotate", "list", "--filter", "credential=svc-tidefeed", "--filter", "result=done"), "finished")
	}, 2*time.Minute, time.Second)
	require.Eventually(t, func() bool {
		return strings.Contains(u.moss(0, "schedule", "list", "--filter", "credential=svc-tidefeed"), "planned")
	}, 2*time.Minute, time.Second, "its next turn is tomorrow")
	assert.Contains(t, u.moss(0, "report", "rotation", "1"), "each with its proof to the checkpoint")
	b.page("/schedule?view=calendar", "rotation", "schedule")
	b.open("/policies", "tonight")
	b.press("Change")
	b.see("Show what it does")
	b.accessible("policy form")

	u.moss(0, "freeze", "--reason", "the ticket system moves tonight")
	b.page("/schedule", "Everything is frozen by ines", "schedule-frozen-dark")
	u.moss(0, "rotate", "rehearse", "svc_tides")
	assert.Contains(t, u.moss(1, "rotate", "run", "svc_tides", "--reason", "all the same"), "everything is frozen by ines")
	assert.Contains(t, u.moss(1, "freeze", "--reason", "twice"), "everything is frozen by ines")
	u.moss(0, "thaw", "--reason", "it has moved")

	// svc-gangway has a service principal name for which nothing is found: it does not pass.
	assert.Contains(t, u.moss(2, "rotate", "run", "--reason", "x"), "name one credential, or choose many")
	u.file("names", "svc-gangway\nsvc_tides\nnobody\nsvc_tides\n")
	wrong := u.moss(2, "rotate", "run", "--file", u.File("names"), "--reason", "Odile left")
	assert.Contains(t, wrong, "line 3:")
	assert.Contains(t, wrong, "line 4: svc_tides is the same as line 2")
	u.file("names", "svc-gangway\nsvc_tides\n")
	assert.Contains(t, u.moss(3, "rotate", "run", "--file", u.File("names"), "--reason", "Odile left"), "1 of 2 rehearsals did not pass, so nothing was started")
	assert.Contains(t, u.moss(3, "batch", "start", "1", "--despite-failures"), "1 done")
	b.page("/batches/1", "Try again what failed", "batch")

	// Who may not: roles, and a batch in the name of another.
	u.file("viewer.pw", "seven-boats-before-dawn")
	u.moss(0, "user", "add", "vera", "--role", "viewer", "--password-file", u.File("viewer.pw"))
	status, raw := u.api(http.MethodPost, "/api/v1/sessions", "", `{"name":"vera","password":"seven-boats-before-dawn","token":true}`)
	require.Equal(t, 200, status, raw)
	var in struct{ Token string }
	require.NoError(t, json.Unmarshal([]byte(raw), &in))
	for _, c := range [][3]string{
		{http.MethodPut, "/freeze", `{"reason":"x"}`},
		{http.MethodPost, "/batches", `{"label":"tonight","reason":"x"}`},
		{http.MethodPost, "/batches/1/retry", `{}`},
		{http.MethodPut, "/policies/mine", `{"precedence":900,"every_days":1}`},
		{http.MethodPost, "/policies/mine/preview", `{"precedence":900,"every_days":1}`},
		{http.MethodPut, "/windows/mine", `{"rule":"FREQ=DAILY","begins":"2026-11-28T22:00","zone":"UTC","minutes":60}`},
		{http.MethodPut, "/orders/mine", `{"kind":"group","members":[{"place":"x"}]}`},
		{http.MethodDelete, "/policies/tonight?revision=1", ""},
		{http.MethodGet, "/rotations/1/report", ""},
		{http.MethodGet, "/rotations/1/report.html", ""},
	} {
		status, raw := u.api(c[0], "/api/v1"+c[1], in.Token, c[2])
		assert.Equal(t, 403, status, fmt.Sprint(c, raw))
	}
}

// Two people through the real binary: one asks, cannot approve it, the other one grants it
// and it begins; lifting what needs two takes two.
func TestTwoPeople(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	u.moss(0, "user", "add", "ola", "--role", "approver", "--password-file", u.file("ola.pw", "tide-and-fog-over-quay-9"))
	u.moss(0, "label", "put", "larkmoor-directory/svc-tidefeed", "quay", "--reason", "asked for")
	assert.Contains(t, u.moss(2, "requirement", "add", "none"), "say for which rotations")
	u.moss(0, "requirement", "add", "quay", "--label", "quay", "--hours", "8")
	assert.Contains(t, u.moss(0, "rotate", "rehearse", "svc-tidefeed"), "a second person is needed, for quay (label quay)")
	assert.Contains(t, u.moss(0, "rotate", "run", "svc-tidefeed", "--reason", "leaked"), "moss approval grant 1")
	assert.Contains(t, u.moss(1, "approval", "grant", "1", "--yes"), "somebody else approves it")
	assert.Contains(t, u.moss(0, "requirement", "remove", "quay", "--yes"), "moss approval grant 2")
	assert.Contains(t, u.moss(0, "requirement", "list"), "quay")
	b.open("/requirements", "label quay")
	b.accessible("requirements")
	b.open("/approvals", "rotate svc-tidefeed")

	// What was decided, as text: the same again, and what somebody changed by hand since.
	u.moss(0, "config", "export", "--file", u.File("decided.yaml"))
	assert.Contains(t, u.moss(0, "config", "diff", u.File("decided.yaml")), "The service has what the file says.")
	u.moss(0, "requirement", "add", "wide", "--restarts", "500")
	assert.Contains(t, u.moss(3, "config", "diff", u.File("decided.yaml")), "only in the service")
	assert.Contains(t, u.moss(2, "config", "diff", u.file("odd.yaml", "format: moss-configuration-1\nwindows:\n  nights: {minuts: 3}\n")), "minuts is none of its fields")

	// Applied, all of it waits for a second person, for it takes a requirement away.
	assert.Contains(t, u.moss(3, "config", "apply", u.File("decided.yaml"), "--preview"), "A second person is needed, once there is one, for all of it")
	assert.Contains(t, u.moss(0, "config", "apply", u.File("decided.yaml"), "--yes", "--reason", "merge 41"), "moss approval grant 3")
	assert.Contains(t, u.moss(0, "requirement", "list"), "wide")

	ola := *u
	process := *u.Process
	process.Folder = t.TempDir()
	ola.Process = &process
	ola.moss(0, "login", "--server", d.URL, "--name", "ola", "--password-file", u.File("ola.pw"))
	assert.Contains(t, ola.moss(0, "approval", "grant", "3", "--yes"), "applied: 1 changes")
	assert.NotContains(t, u.moss(0, "requirement", "list"), "wide")
	assert.Contains(t, u.moss(0, "config", "apply", u.File("decided.yaml"), "--yes"), "there is nothing to apply")
	foreignSchema(t, u)
	assert.Contains(t, ola.moss(0, "approval", "grant", "1", "--yes"), "started as rotation 1")
	require.Eventually(t, func() bool { return strings.Contains(u.moss(0, "rotate", "list"), "done") }, time.Minute, 200*time.Millisecond)
	assert.Contains(t, u.moss(0, "rotate", "show", "1", "-o", "json"), "approved by ola, approval 1")
	ola.moss(0, "approval", "refuse", "2", "--reason", "it stays")
	assert.Contains(t, u.moss(0, "requirement", "list"), "quay")
	u.moss(0, "rotate", "rehearse", "svc-tidefeed")
	assert.Contains(t, u.moss(0, "rotate", "run", "svc-tidefeed", "--reason", "leaked again", "--emergency", "seen on a public page"), "done")
	assert.Contains(t, u.moss(0, "report", "rotation", "2", "-o", "json"), "in an emergency, without a second person: seen on a public page")
}

// foreignSchema has a validator that others wrote hold what we write against our schema.
func foreignSchema(t *testing.T, u *user) {
	t.Helper()
	if err := exec.CommandContext(t.Context(), "python3", "-c", "import jsonschema, yaml").Run(); err != nil {
		lab.LeaveOut(t, "python3 with jsonschema is not here: 'make lab' gets it")
		return
	}
	schema := u.file("schema.json", u.moss(0, "config", "schema"))
	wrong := u.file("wrong.yaml", "format: moss-configuration-1\nwindows:\n  nights: {rule: FREQ=DAILY, begins: 2026-01-01T22:00, zone: UTC, minutes: 2}\n")
	out, err := exec.CommandContext(t.Context(), "python3", "-c", `import json, sys, yaml, jsonschema
schema = json.load(open(sys.argv[1]))
jsonschema.Draft202012Validator.check_schema(schema)
v = jsonschema.Draft202012Validator(schema)
print(len(list(v.iter_errors(yaml.safe_load(open(sys.argv[2]))))), [e.json_path for e in v.iter_errors(yaml.safe_load(open(sys.argv[3])))])`, schema, u.File("decided.yaml"), wrong).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "0 ['$.windows.nights.minutes']\n", string(out))
}
