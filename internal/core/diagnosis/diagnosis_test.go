package diagnosis

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func healthy() Evidence {
	return Evidence{
		Now: now, Name: "Gate", System: "north1", State: "stopped", StartMode: "automatic", ByItself: true, RunsAs: `LARKMOOR\svc`, Identity: estate.IdentityNamed,
		Account: &Account{Name: "svc", System: "dir", Enabled: estate.Yes, Locked: estate.No, PasswordChanged: now.AddDate(0, -1, 0), PasswordExpires: now.AddDate(0, 2, 0), Custody: true, Verdict: "accepted"},
	}
}

func verdictOf(causes []Cause, code Code) Verdict {
	for _, c := range causes {
		if c.Code == code {
			return c.Verdict
		}
	}
	return ""
}

func TestExplain(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Evidence)
		code   Code
		want   Verdict
	}{
		"nothing known":            {func(*Evidence) {}, Dependency, RuledOut},
		"filtered":                 {func(e *Evidence) { e.ReachCode, e.ReachWords = Filtered, "no answer" }, Filtered, IsCause},
		"disabled":                 {func(e *Evidence) { e.Account.Enabled = estate.No }, Disabled, IsCause},
		"locked says the sign-in":  {func(e *Evidence) { e.Account.Locked, e.Account.Verdict = estate.Unknown, "locked" }, Locked, IsCause},
		"ended":                    {func(e *Evidence) { e.Account.AccountExpires = now.Add(-time.Hour) }, AccountExpired, IsCause},
		"expired by its date":      {func(e *Evidence) { e.Account.PasswordExpires, e.Account.Verdict = now.Add(-time.Hour), "" }, Expired, IsCause},
		"date passed but accepted": {func(e *Evidence) { e.Account.PasswordExpires = now.Add(-time.Hour) }, Expired, RuledOut},
		"record of a wrong one":    {func(e *Evidence) { e.Records = []Record{{Code: 7038, Hint: WrongPassword}} }, WrongPassword, IsCause},
		"an old record":            {func(e *Evidence) { e.Records = []Record{{Code: 7036, Start: true}, {Code: 7038, Hint: WrongPassword}} }, WrongPassword, NotKnown},
		"stored another":           {func(e *Evidence) { e.Stored = StoredOther }, WrongPassword, Likely},
		"stored the current":       {func(e *Evidence) { e.Stored = StoredCurrent }, WrongPassword, RuledOut},
		"stored, but refused":      {func(e *Evidence) { e.Stored, e.Account.Verdict = StoredCurrent, "wrong" }, WrongPassword, IsCause},
		"needs one that is down":   {func(e *Evidence) { e.Needs = []Need{{Name: "Rpc", Up: true}, {Name: "Store", State: "stopped"}} }, Dependency, IsCause},
		"needs those that run": {func(e *Evidence) {
			e.Needs = []Need{{Name: "Rpc", Up: true}}
			e.Records = []Record{{Hint: Dependency, Code: 7001}}
		}, Dependency, RuledOut},
		"switched off":            {func(e *Evidence) { e.StartMode, e.ByItself = "disabled", false }, SwitchedOff, IsCause},
		"started by hand":         {func(e *Evidence) { e.StartMode, e.ByItself = "manual", false }, SwitchedOff, Possible},
		"stopped by somebody":     {func(e *Evidence) { e.Records = []Record{{Code: 7035, Hint: StoppedBy, By: "ines"}} }, StoppedBy, IsCause},
		"stopped by nobody named": {func(e *Evidence) { e.Records = []Record{{Code: 7035, Hint: StoppedBy}} }, StoppedBy, Likely},
		"ended with a code":       {func(e *Evidence) { e.Result = "1067: its process ended unexpectedly" }, Program, Likely},
		"did not even begin":      {func(e *Evidence) { e.Result = "1069: the log-on failed" }, Program, RuledOut},
		"built in":                {func(e *Evidence) { e.Identity, e.Account = estate.IdentityBuiltIn, nil }, WrongPassword, RuledOut},
		"nobody known":            {func(e *Evidence) { e.Account, e.Reference = nil, "means nobody" }, NoAccount, Likely},
		"up, to be disabled":      {func(e *Evidence) { e.Up, e.Account.Enabled = true, estate.No }, Disabled, Possible},
		"up on an old one":        {func(e *Evidence) { e.Up, e.Started = true, now.AddDate(0, -2, 0) }, WrongPassword, Possible},
	} {
		e := healthy()
		c.change(&e)
		causes := Explain(e)
		assert.Equal(t, c.want, verdictOf(causes, c.code), name)
		require.Len(t, causes, len(order), "%s: every cause has its verdict", name)
		for i, cause := range causes {
			assert.NotEmpty(t, cause.Evidence, "%s: %s", name, cause.Code)
			assert.NotEmpty(t, cause.Title)
			if i > 0 {
				assert.LessOrEqual(t, rank[causes[i-1].Verdict], rank[cause.Verdict], "%s: the most certain come first", name)
			}
			if e.ReachCode != "" && cause.Code != e.ReachCode {
				assert.NotEqual(t, RuledOut, cause.Verdict, "%s: nothing is ruled out without looking", name)
			}
		}
	}
}

// Whatever the evidence is: every cause is weighed once, what is possible has a next
// step that a person can read, nothing is ruled out without a word, and what is up
// has no cause to be down.
func TestAnyEvidence(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 41))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	tristate := func() estate.Tristate {
		return []estate.Tristate{estate.Yes, estate.No, estate.Unknown}[r.IntN(3)]
	}
	moment := func() time.Time {
		return []time.Time{{}, now.AddDate(0, 0, -3), now.AddDate(0, 0, 3), now}[r.IntN(4)]
	}
	for range 20_000 {
		e := Evidence{
			Now: now, Name: "Gate", System: "north1", State: pick("stopped", "failed", "inactive", "active"), StartMode: pick("", "automatic", "manual", "disabled"), ByItself: r.IntN(2) == 0, Up: r.IntN(3) == 0,
			RunsAs: pick("", `LARKMOOR\svc`), Identity: estate.Identity(pick("", "named", "managed", "virtual", "built-in")), Reference: pick("", "means nobody"), Result: pick("", "1069: x", "1067: y", "exit-code"),
			Stored: Stored(pick("", "current", "other")), Started: moment(),
		}
		if r.IntN(6) == 0 {
			e.ReachCode, e.ReachWords, e.ReachNext = []Code{Unreachable, Refused, Filtered}[r.IntN(3)], "no answer", "is it up?"
		}
		for range r.IntN(4) {
			e.Records = append(e.Records, Record{Time: now, Code: r.IntN(3) * 3500, Words: pick("a", "b"), Hint: append(order[3:], "")[r.IntN(len(order)-2)], Of: pick("", "Rpc"), By: pick("", "ines"), Start: r.IntN(5) == 0})
		}
		for range r.IntN(3) {
			e.Needs = append(e.Needs, Need{Name: pick("Rpc", "Store"), Up: r.IntN(2) == 0, State: pick("stopped", "running"), Result: pick("", "1069")})
		}
		if r.IntN(4) > 0 {
			e.Account = &Account{
				Name: "svc", System: "dir", Gone: r.IntN(5) == 0, Enabled: tristate(), Locked: tristate(), MustChange: r.IntN(3) == 0, AccountExpires: moment(), PasswordExpires: moment(), PasswordChanged: moment(), Custody: r.IntN(2) == 0,
				Verdict: pick("", "accepted", "wrong", "expired", "locked", "disabled", "must-change", "account-expired"), Words: "words",
			}
		}
		causes := Explain(e)
		require.Len(t, causes, len(order))
		seen := map[Code]bool{}
		for _, c := range causes {
			require.False(t, seen[c.Code])
			seen[c.Code] = true
			require.NotEmpty(t, c.Evidence, "%+v", e)
			for _, words := range append(append([]string{}, c.Evidence...), c.Next) {
				require.NotContains(t, words, "  ", "%s: %+v", c.Code, e)
				require.NotContains(t, words, "%!", "%s: %+v", c.Code, e)
			}
			if c.Verdict == RuledOut {
				require.NotContains(t, c.Evidence, "nothing speaks for or against it")
			}
			if rank[c.Verdict] <= rank[Possible] {
				require.NotEmpty(t, c.Next, "%s %s: %+v", c.Code, c.Verdict, e)
			}
			if e.Up && e.ReachCode == "" {
				require.NotEqual(t, IsCause, c.Verdict, "%s of what is up: %+v", c.Code, e)
			}
			if c.Code == Dependency && c.Verdict == IsCause {
				require.NotEmpty(t, c.First+c.Next)
				require.NotContains(t, c.Evidence, "it needs nothing else to start", "%+v", e)
			}
		}
	}
}
