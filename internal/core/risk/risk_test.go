package risk

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
)

var now = time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)

func right(verb, kind, name string) privilege.Right {
	return privilege.Right{Verb: verb, Objects: []privilege.Object{{Kind: kind, Name: name}}, Path: []privilege.Link{{Name: "svc"}}}
}

func TestScores(t *testing.T) {
	young := estate.Account{PasswordChanged: now.AddDate(0, 0, -10), Owner: "Data team", Enabled: estate.Yes}
	old := estate.Account{PasswordChanged: now.AddDate(-6, 0, 0), NeverExpire: true, Enabled: estate.Yes}
	all := right(privilege.VerbRun, "host", "quay1")
	all.What, all.As = "ALL", "root"
	many := right("reset password", "account", "a")
	for range 99 {
		many.Objects = append(many.Objects, privilege.Object{Kind: "account", Name: "b"})
	}
	for name, c := range map[string]struct {
		facts           Facts
		power, weakness int
	}{
		"nothing":              {Facts{Account: young}, 0, 0},
		"old, and can nothing": {Facts{Account: old, NoOwner: true}, 0, 60},
		"root, and young":      {Facts{Kind: estate.KindUnixHost, Account: young, Rights: []privilege.Right{all}}, 60, 0},
		"root, old, reused":    {Facts{Kind: estate.KindUnixHost, Account: old, Rights: []privilege.Right{all}, Findings: []string{"reused-password", "reused-password"}, NoOwner: true}, 60, 90},
		"docker":               {Facts{Kind: estate.KindUnixHost, Account: young, Groups: []string{"users", "docker"}}, 50, 0},
		"one password":         {Facts{Kind: estate.KindDirectory, Account: young, Rights: []privilege.Right{right("reset password", "account", "a")}}, 30, 0},
		"a hundred":            {Facts{Kind: estate.KindDirectory, Account: young, Rights: []privilege.Right{many}}, 70, 0},
		"all secrets":          {Facts{Kind: estate.KindDirectory, Account: young, Rights: []privilege.Right{right("replicate secrets", "domain", "dc")}, Hosts: 7}, 100, 0},
		"a domain":             {Facts{Kind: estate.KindDirectory, Account: young, Rights: []privilege.Right{right(privilege.VerbEverything, "domain", "dc")}}, 100, 0},
		"a table":              {Facts{Kind: estate.KindPostgreSQL, Account: young, Rights: []privilege.Right{right(privilege.VerbEverything, "table", "t")}}, 0, 0},
		"a superuser":          {Facts{Kind: estate.KindPostgreSQL, Account: young, Rights: []privilege.Right{right(privilege.VerbEverything, privilege.ObjectSystem, "db")}}, 70, 0},
		"not sure":             {Facts{Kind: estate.KindUnixHost, Account: young, Rights: []privilege.Right{{Verb: privilege.VerbRun, What: "ALL", Unsure: "a netgroup"}}}, 0, 0},
		"disabled":             {Facts{Kind: estate.KindPostgreSQL, Account: estate.Account{Enabled: estate.No, NeverExpire: true}, Rights: []privilege.Right{right(privilege.VerbEverything, privilege.ObjectSystem, "db")}}, 70, 2},
		"a program of a host":  {Facts{Kind: estate.KindUnixHost, Account: estate.Account{Enabled: estate.No, NeverExpire: true}, Rights: []privilege.Right{all}, Hosts: 1}, 68, 15},
		"other root":           {Facts{Kind: estate.KindUnixHost, Account: young, Rights: []privilege.Right{{Verb: privilege.VerbRun, What: "ALL", As: "nobody"}}}, 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			c.facts.Now = now
			got := Of(c.facts)
			assert.Equal(t, []int{c.power, c.weakness}, []int{got.Power, got.Weakness}, "%+v", got.Parts)
			assert.Equal(t, (c.power*c.weakness+50)/100, got.Score)
		})
	}
}

// A score is the sum of its parts, is never lower for more, and is the same in any order.
func TestScoresExplainThemselves(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for range 500 {
		f := Facts{Kind: estate.Kind(pick("unix-host", "directory", "postgresql")), Now: now, Hosts: r.IntN(40), NoOwner: r.IntN(2) == 0, Account: estate.Account{NeverExpire: r.IntN(2) == 0, PasswordChanged: now.AddDate(0, 0, -r.IntN(3000))}}
		for range r.IntN(6) {
			f.Rights = append(f.Rights, right(pick("everything", "reset password", "select", "write members", "run"), pick("account", "domain", "table"), pick("a", "*")))
			f.Findings = append(f.Findings, pick("reused-password", "exposed-key", "nothing-known"))
		}
		s := Of(f)
		sums := map[string]int{}
		for _, p := range s.Parts {
			sums[p.Side] += p.Points
			assert.Positive(t, p.Points)
			assert.NotEmpty(t, p.What)
		}
		require.Equal(t, min(sums[Power], 100), s.Power)
		require.Equal(t, min(sums[Weakness], 100), s.Weakness)
		more := f
		more.Rights = append(append([]privilege.Right{}, f.Rights...), right("reset password", "account", "z"))
		require.GreaterOrEqual(t, Of(more).Score, s.Score)
		r.Shuffle(len(f.Rights), func(i, j int) { f.Rights[i], f.Rights[j] = f.Rights[j], f.Rights[i] })
		again := Of(f)
		require.Equal(t, []int{s.Power, s.Weakness, s.Score}, []int{again.Power, again.Weakness, again.Score})
	}
}

// The page says what counts, with the points.
func TestTheFormulaIsDocumented(t *testing.T) {
	raw, err := os.ReadFile("../../../docs/risk.md")
	require.NoError(t, err)
	page := string(raw)
	for verb, v := range verbs {
		assert.Regexp(t, `(?m)^\| .*\b`+verb+`\b.* \| `+strconv.Itoa(v.points)+`\b`, page)
	}
	for _, v := range found {
		assert.Contains(t, page, "| "+v.words+" | "+strconv.Itoa(v.points)+" |")
	}
	for _, verb := range steps {
		assert.Contains(t, page, strings.TrimSuffix(verb, " of its own"), "a right by which one comes to administrator")
	}
	for kind, points := range whole {
		assert.Contains(t, page, "| everything on a system: "+string(kind)+" | "+strconv.Itoa(points)+" |")
	}
}

// Hosts that an account does not belong to count by what it may do there, or comes to.
func TestHostsOver(t *testing.T) {
	everything := right(privilege.VerbEverything, privilege.ObjectSystem, "north1")
	change := right("change", "service", "Berth Store")
	debug := right("debug programs", privilege.ObjectSystem, "north1")
	unsure := everything
	unsure.Unsure = "perhaps"
	for name, c := range map[string]struct {
		rights []privilege.Right
		want   Over
		power  bool
	}{
		"nothing":                  {nil, Over{}, false},
		"starts a service":         {[]privilege.Right{right("start", "service", "Berth Store")}, Over{}, false},
		"changes a service":        {[]privilege.Right{change}, Over{"north1", "may change on service Berth Store"}, true},
		"all of a service":         {[]privilege.Right{right(privilege.VerbEverything, "service", "Berth Store")}, Over{"north1", "may do everything on service Berth Store"}, true},
		"debugs":                   {[]privilege.Right{debug, change}, Over{"north1", "may debug programs"}, true},
		"administers":              {[]privilege.Right{debug, everything}, Over{"north1", ""}, true},
		"perhaps, and not":         {[]privilege.Right{unsure, {Verb: "debug programs", Deny: true}}, Over{}, false},
		"changes something else":   {[]privilege.Right{right("change permissions", "account", "a")}, Over{}, false},
		"signs in, and shuts down": {[]privilege.Right{right(privilege.VerbSignIn, privilege.ObjectSystem, "n"), right("shut down", privilege.ObjectSystem, "n")}, Over{}, false},
	} {
		got, power := HostOf("north1", c.rights)
		assert.Equal(t, c.power, power, name)
		assert.Equal(t, c.want, got, name)
	}
	many := make([]Over, 100)
	for i := range many {
		many[i] = Over{Host: fmt.Sprint("h", i)}
	}
	for name, c := range map[string]struct {
		facts Facts
		power int
		words string
	}{
		"one":               {Facts{Kind: estate.KindDirectory, Over: many[:1]}, 60, "may do everything on one host, h0"},
		"ten":               {Facts{Kind: estate.KindDirectory, Over: many[:10]}, 80, "h0 and others"},
		"a hundred":         {Facts{Kind: estate.KindDirectory, Over: many}, 100, "100 hosts"},
		"by a step":         {Facts{Kind: estate.KindDirectory, Over: []Over{{"north1", "may debug programs"}}}, 50, "comes to administrator in one step on one host, may debug programs on north1"},
		"both":              {Facts{Kind: estate.KindDirectory, Over: []Over{{"north1", "may debug programs"}, {"skerry1", ""}}}, 100, "skerry1"},
		"of the host":       {Facts{Kind: estate.KindWindowsHost, Rights: []privilege.Right{debug}}, 50, "may debug programs"},
		"administers it":    {Facts{Kind: estate.KindWindowsHost, Rights: []privilege.Right{debug, everything}}, 60, "may do everything there"},
		"of another system": {Facts{Kind: estate.KindPostgreSQL, Rights: []privilege.Right{debug}}, 0, ""},
	} {
		c.facts.Account = estate.Account{Enabled: estate.Yes}
		s := Of(c.facts)
		assert.Equal(t, c.power, s.Power, "%s: %+v", name, s.Parts)
		assert.Contains(t, s.Words(), c.words, name)
	}
}
