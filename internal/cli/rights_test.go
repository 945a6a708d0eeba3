package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// What moss right asks, and what it makes of the answers.
func TestRights(t *testing.T) {
	s := recorded(t)
	at := `"read":{"completed":"2026-11-29T09:00:00Z"}`
	s.answers["GET /api/v1/rights?filter=verb%3Drun&limit=500"] = answer{http.StatusOK, json.RawMessage(`{"items":[{"id":1,"system":"quay1","to":"crew","to_kind":"group","verb":"run","deny":true,"may":"not run","what":"/usr/bin/id","on":"the system","as":"root","text":"%crew ALL = !/usr/bin/id","source":"/etc/sudoers:3"}],"total":1}`)}
	s.answers["GET /api/v1/rights?limit=500&taken=true"] = answer{http.StatusOK, json.RawMessage(`{"items":[],"total":0}`)}
	s.answers["GET /api/v1/resolve?name=svc-tide"] = answer{http.StatusOK, json.RawMessage(`{"state":"resolved","candidates":[{"id":7,"name":"svc-tide"}]}`)}
	s.answers["GET /api/v1/resolve?name=svc-new"] = answer{http.StatusOK, json.RawMessage(`{"state":"resolved","candidates":[{"id":8,"name":"svc-new"}]}`)}
	s.answers["GET /api/v1/accounts/7/rights"] = answer{http.StatusOK, json.RawMessage(`{"account_id":7,"account":"svc-tide","system":"quay1",` + at + `,"groups":[{"name":"ops","kind":"group","through":"crew","path":[]}],"rights":[{"may":"run","what":"ALL","on":"the system","as":"root","through":"crew > ops","terms":["with a password"],"void":"another entry forbids it","source":"/etc/sudoers:4"}]}`)}
	s.answers["GET /api/v1/accounts/8/rights"] = answer{http.StatusOK, json.RawMessage(`{"account_id":8,"account":"svc-new","system":"quay9","groups":[],"rights":[],"read":{"never":true}}`)}
	s.answers["GET /api/v1/resolve?name=svc-terminal"] = answer{http.StatusOK, json.RawMessage(`{"state":"resolved","candidates":[{"id":9,"name":"svc-terminal"}]}`)}
	s.answers["GET /api/v1/accounts/9/rights"] = answer{http.StatusOK, json.RawMessage(`{"account_id":9,"account":"svc-terminal","system":"dir","groups":[],"rights":[],` + at + `,"elsewhere":[{"system":"skerry1","name":"LARKMOOR\\svc-terminal","groups":[],"rights":[{"system":"skerry1","verb":"sign in","may":"perhaps sign in","what":"as a service","on":"the system","unsure":"it could when KioskAgent started"}],"read":{"why":"user rights"}},{"system":"north1\u001b[2J","name":"svc","groups":[],"rights":[],"more":3,"read":{}}]}`)}
	who := `{"system":"quay1","holders":[{"name":"svc-tide","kind":"account","allowed":true,"rights":[{"through":"crew","text":"%crew ALL = ALL","source":"/etc/sudoers:3"}]},{"name":"odile","kind":"account","allowed":false,"unsure":"who is in +night cannot be seen","rights":[{"through":"","text":"+night ALL = ALL"}]}],"read":{"completed":"2026-11-29T09:00:00Z","why":"/etc/sudoers.d/b is not read"}}`
	s.answers["GET /api/v1/rights/who?as=&system=quay1&verb=run&what=%2Fusr%2Fbin%2Fid+-u"] = answer{http.StatusOK, json.RawMessage(who)}
	s.answers["GET /api/v1/rights/who?as=tide&principals=true&system=quay1&verb=run&what=ALL"] = answer{http.StatusOK, json.RawMessage(`{"system":"quay1","holders":[],` + at + `}`)}
	s.answers["GET /api/v1/rights/who?as=&object=table%3Afares&system=db&verb=select&what=price"] = answer{http.StatusOK, json.RawMessage(`{"system":"db","holders":[],` + at + `}`)}
	s.answers["GET /api/v1/rights/who?as=&system=quay1&verb=eat&what="] = answer{http.StatusBadRequest, json.RawMessage(`{"status":400,"detail":"nothing on quay1 has the verb \"eat\"; there is: run"}`)}
	s.answers["GET /api/v1/systems/quay1/preparation"] = answer{http.StatusOK, json.RawMessage(`[{"for":"sign-in","what":"the account","where":"as root on quay1","language":"sh","text":"useradd moss\npasswd moss\n"},{"for":"rights","what":"to read rules","where":"as root","language":"sudoers","text":"moss ALL=ALL\u001b[2J\n"}]`)}
	server := httptest.NewServer(s)
	defer server.Close()
	for _, c := range []struct {
		line  []string
		code  int
		print []string
		told  string
	}{
		{[]string{"right", "list", "--filter", "verb=run"}, api.ExitOK, []string{"not run", "crew", "/usr/bin/id", "/etc/sudoers:3"}, ""},
		{[]string{"right", "list", "--taken"}, api.ExitOK, []string{"Nothing is known."}, ""},
		{[]string{"right", "list", "--filter", "verb=run", "-o", "csv"}, api.ExitOK, []string{"quay1,crew,not run,/usr/bin/id"}, ""},
		{[]string{"right", "show", "svc-tide"}, api.ExitOK, []string{"LIES IN", "ops", "crew > ops", "with a password", "another entry forbids it"}, "read completely on 2026-11-29"},
		{[]string{"right", "show", "svc-new"}, api.ExitOK, []string{"svc-new is given nothing on quay9"}, "no survey has read the rights"},
		{[]string{"right", "show", "svc-terminal"}, api.ExitOK, []string{"svc-terminal is given nothing on dir", "On skerry1, as LARKMOOR\\svc-terminal:", "UNSURE", "it could when KioskAgent started", "On north1·[2J, as svc:"}, "3 more are not listed"},
		{[]string{"right", "show", "svc-terminal", "-o", "csv"}, api.ExitOK, []string{"skerry1,sign in,as a service"}, ""},
		{[]string{"right", "show", "svc-tide", "-o", "json"}, api.ExitOK, []string{`"void": "another entry forbids it"`}, ""},
		{[]string{"right", "who", "run", "/usr/bin/id -u", "--on", "quay1"}, api.ExitOK, []string{"svc-tide", "yes", "perhaps: who is in +night cannot be seen"}, "not all of it was read: /etc/sudoers.d/b is not read"},
		{[]string{"right", "who", "run", "ALL", "--on", "quay1", "--as", "tide", "--groups"}, api.ExitOK, []string{"Nobody, as far as it was read."}, ""},
		{[]string{"right", "who", "select", "table:fares", "--on", "db", "--what", "price"}, api.ExitOK, []string{"Nobody"}, ""},
		{[]string{"right", "who", "run", "/usr/bin/id -u", "--on", "quay1", "-o", "csv"}, api.ExitOK, []string{"odile,account,no,who is in +night cannot be seen"}, ""},
		{[]string{"right", "who", "eat", "--on", "quay1"}, api.ExitUsage, nil, "there is: run"},
		{[]string{"right", "who", "run"}, api.ExitUsage, nil, "on"},
		{[]string{"right", "who", "--on", "quay1"}, api.ExitUsage, nil, ""},
		{[]string{"right", "show"}, api.ExitUsage, nil, ""},
		{[]string{"system", "prepare", "quay1"}, api.ExitOK, []string{"# For sign-in: the account.\n# as root on quay1.\n\nuseradd moss\npasswd moss\n", "moss ALL=ALL·[2J\n"}, "then: moss system check quay1"},
		{[]string{"system", "prepare", "quay1", "--for", "read"}, api.ExitOK, []string{"Nothing has to be done for that."}, ""},
		{[]string{"system", "prepare", "quay1", "--for", "rights", "-o", "csv"}, api.ExitOK, []string{"rights,to read rules,as root,sudoers"}, ""},
		{[]string{"system", "prepare", "quay1", "--for", "cook"}, api.ExitUsage, nil, "sign-in, read, find, rights, rotate"},
	} {
		code, out, told := run(t, server.URL, "a-token", c.line...)
		assert.Equal(t, c.code, code, "%v: %s", c.line, told)
		for _, words := range c.print {
			assert.Contains(t, out, words, "%v", c.line)
		}
		assert.Contains(t, told, c.told, "%v", c.line)
	}
}

// turning answers a check with what is still missing, one after the other.
type turning struct {
	http.Handler
	answers []string
	asked   int
}

func (h *turning) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write([]byte(h.answers[min(h.asked, len(h.answers)-1)]))
	h.asked++
}

// A check that looks until nothing is missing: what is the same is shown once, and a steward
// that is refused is not tried again.
func TestCheckUntilGreen(t *testing.T) {
	was := output.LeastWait
	output.LeastWait = time.Millisecond
	defer func() { output.LeastWait = was }()
	missing := `{"ok":false,"report":{"stages":[{"stage":"permitted","ok":false,"detail":"no right yet","code":"not-permitted"}]}}`
	green := `{"ok":true,"report":{"stages":[{"stage":"permitted","ok":true,"detail":"may read"}]}}`
	refused := `{"ok":false,"report":{"stages":[{"stage":"sign in","ok":false,"detail":"wrong password","code":"steward-refused"}]}}`
	for _, c := range []struct {
		answers     []string
		line        []string
		code, asked int
		shown       []string
	}{
		{[]string{missing, missing, green}, []string{"--until-green=1ms"}, api.ExitOK, 3, []string{"no right yet", "may read"}},
		{[]string{missing, green}, nil, api.ExitNegative, 1, []string{"no right yet"}},
		{[]string{missing, refused, green}, []string{"--until-green=1ms"}, api.ExitNegative, 2, []string{"no right yet", "wrong password"}},
		{[]string{green}, []string{"--until-green"}, api.ExitOK, 1, []string{"may read"}},
		{[]string{green}, []string{"--until-green", "-o", "json"}, api.ExitUsage, 0, nil},
	} {
		h := &turning{answers: c.answers}
		server := httptest.NewServer(h)
		code, out, told := run(t, server.URL, "a-token", append([]string{"system", "check", "quay1"}, c.line...)...)
		server.Close()
		assert.Equal(t, c.code, code, told)
		assert.Equal(t, c.asked, h.asked)
		for _, words := range c.shown {
			assert.Equal(t, 1, strings.Count(out, words), out)
		}
	}
}
