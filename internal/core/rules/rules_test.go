package rules

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 28, 20, 0, 0, 0, time.UTC)

func berth() *Facts {
	return NewFacts(Account{
		Name: "svc-berth", Type: "user", DN: "CN=svc-berth,OU=Service Accounts,DC=larkmoor,DC=example", Enabled: "yes", NeverExpires: true, Groups: []string{"Berthing", "Backup"},
		PasswordChanged: now.AddDate(0, -5, 0), Labels: []string{"reviewed"},
	}, System{Name: "dir", Kind: "directory", Environment: "production"}, []Dependent{{Kind: "service", Name: "Berth", System: "north1", Evidence: "configured"}, {Kind: "file", Place: "/etc/berth.env#P", System: "quay1", Evidence: "held"}}, now)
}

func TestConditions(t *testing.T) {
	for text, want := range map[string]any{
		`account.name.startsWith("svc-")`:                                            true,
		`account.name.matches("^svc-.*x$")`:                                          false,
		`account.dn.endsWith(",OU=Service Accounts,DC=larkmoor,DC=example")`:         true,
		`account.type == "user" && system.environment == "production"`:               true,
		`account.never_expires && !account.custody`:                                  true,
		`"Backup" in account.groups`:                                                 true,
		`account.groups.exists(g, g.startsWith("Opera"))`:                            false,
		`"reviewed" in account.labels`:                                               true,
		`now - account.password_changed > duration("2160h")`:                         true,
		`account.account_expires == timestamp(0)`:                                    true,
		`dependents.exists(d, d.kind == "service" && d.name.matches("^Ber"))`:        true,
		`dependents.all(d, d.system.startsWith("quay"))`:                             false,
		`size(dependents) == 2`:                                                      true,
		`dependents.filter(d, d.evidence == "held").size() == 1`:                     true,
		"account.name ==\n  account.nmae":                                            "line 2, character 10: undeclared reference to 'account.nmae' (did you mean 'account.name'?)",
		`account.name == 3`:                                                          "line 1, character 14: found no matching overload for '_==_' applied to '(string, int)'",
		`dependents.exists(d, d.owner == "x")`:                                       "line 1, character 23: undefined field 'owner'",
		`account.name`:                                                               "it gives a string; a condition gives true or false",
		`account.name.startsWith("svc-"`:                                             "line 1, character 31: Syntax error: missing ')' at '<EOF>'",
		``:                                                                           "it is empty",
		"   \n":                                                                      "it is empty",
		`account.name.matches("(")`:                                                  "error parsing regexp",
		strings.Repeat("x", MaxLength+1):                                             "4001 bytes long, at most 4000",
		`dependents.all(a, dependents.all(b, dependents.all(c, a.name == c.name)))`:  "it goes through lists 3 deep, at most 2",
		`[1,2].all(a, [1,2].all(b, [1,2].map(c, c + a).size() == b))`:                "3 deep",
		`account.labels.exists(l, {"a": [1].exists(x, [2].exists(y, x == y))}["a"])`: "3 deep",
		`has(account.name)`:                                                          "undeclared reference to 'account'",
	} {
		c, err := Compile(text)
		if words, wrong := want.(string); wrong {
			require.Error(t, err, text)
			assert.Contains(t, err.Error(), words, text)
			continue
		}
		require.NoError(t, err, text)
		got, err := c.Matches(t.Context(), berth())
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, strings.Contains(text, "dependents"), c.NeedsDependents(), text)
	}
}

// Every field of the published list can be asked, with the type that the list says.
func TestFieldsAreWhatTheListSays(t *testing.T) {
	like := map[string]string{"text": `%s == ""`, "yes-no": `%s == false`, "moment": `%s <= timestamp("2100-01-01T00:00:00Z")`, "list of texts": `size(%s) >= 0`}
	list := Fields()
	assert.Greater(t, len(list), 35)
	for _, f := range list {
		text := fmt.Sprintf(like[f.Type], f.Name)
		if name, of := strings.CutPrefix(f.Name, "dependents."); of {
			text = "dependents.all(d, " + fmt.Sprintf(like[f.Type], "d."+name) + ")"
		}
		c, err := Compile(text)
		require.NoError(t, err, text)
		_, err = c.Matches(t.Context(), NewFacts(Account{}, System{}, nil, now))
		require.NoError(t, err, text)
		assert.NotEmpty(t, f.What, f.Name)
	}
}

func clock() Clock { return Clock{Now: time.Now, Within: context.WithTimeout} }

// An exclusion always wins: over rules and over people. A rule that cannot be decided, or
// is none, matches nobody, and stops no other.
func TestSets(t *testing.T) {
	set := NewSet([]Rule{
		{1, "by name", "service", false, `account.name.startsWith("svc-")`},
		{2, "by place", "service", false, `dependents.exists(d, d.kind == "service")`},
		{3, "not in production", "rotate-90", true, `system.environment == "production"`},
		{4, "all", "rotate-90", false, `true`},
		{5, "none any more", "x", false, `account.gone`},
		{6, "undecided", "y", false, `1 / (size(dependents) - 2) == 1`},
	})
	assert.True(t, set.NeedsDependents())
	matched, err := set.Match(t.Context(), "svc-berth", berth(), clock())
	require.NoError(t, err)
	all := Decide([]string{"rotate-90", "reviewed"}, matched)
	assert.Equal(t, []Labelled{
		{Label: "reviewed", ByHand: true},
		{Label: "rotate-90", ByHand: true, Rules: []string{"all"}, Excluded: []string{"not in production"}},
		{Label: "service", Rules: []string{"by name", "by place"}},
	}, all)
	assert.Equal(t, []string{"reviewed", "service"}, On(all))
	assert.Contains(t, set.Failed[5].Words, "undeclared reference to 'account.gone'")
	assert.Empty(t, set.Failed[5].Account, "it is wrong for all")
	assert.Contains(t, set.Failed[6].Words, "division by zero")
	assert.Equal(t, "svc-berth", set.Failed[6].Account)
	_, err = set.Match(t.Context(), "svc-tide", berth(), clock())
	require.NoError(t, err)
	assert.Equal(t, 2, set.Failed[6].Accounts)
	assert.Equal(t, "svc-berth", set.Failed[6].Account, "the first is named")
	assert.Empty(t, On(Decide(nil, nil)))
}

// One rule that takes for ever costs its allowance, once, and the others go on.
func TestOneThatTakesForEver(t *testing.T) {
	many := make([]Dependent, 3000)
	for i := range many {
		many[i] = Dependent{Name: fmt.Sprint(i)}
	}
	facts := NewFacts(Account{Name: "a"}, System{}, many, now)
	set := NewSet([]Rule{{1, "slow", "x", false, `dependents.all(a, dependents.all(b, a.name != b.name || a.name == b.name))`}, {2, "quick", "y", false, `account.name == "a"`}})
	at, limits := now, 0
	c := Clock{
		Now: func() time.Time { at = at.Add(Allowance); return at },
		Within: func(ctx context.Context, d time.Duration) (context.Context, context.CancelFunc) {
			limits++
			assert.LessOrEqual(t, d, Allowance)
			ctx, cancel := context.WithCancel(ctx)
			cancel() // its time is over at once
			return ctx, func() {}
		},
	}
	for range 3 {
		matched, err := set.Match(t.Context(), "a", facts, c)
		require.NoError(t, err)
		assert.Equal(t, []string{"y"}, On(Decide(nil, matched)))
	}
	assert.Equal(t, 1, limits, "it is not tried again")
	assert.Contains(t, set.Failed[1].Words, "takes longer than 20s")

	over, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := NewSet([]Rule{{2, "quick", "y", false, `true`}}).Match(over, "a", facts, clock())
	require.ErrorIs(t, err, context.Canceled, "who stops it stops all")
}

// Lists within lists cost what they cost, and build nothing that no memory holds.
func TestListsWithinLists(t *testing.T) {
	of := func(n int) *Facts {
		many := make([]Dependent, n)
		for i := range many {
			many[i] = Dependent{Name: fmt.Sprint(i)}
		}
		return NewFacts(Account{Name: "a"}, System{}, many, now)
	}
	for _, text := range []string{`dependents.map(a, dependents.map(b, a.name + b.name)).size() >= 0`, `dependents.all(a, dependents.exists(b, a.name == b.name))`} {
		c, err := Compile(text)
		require.NoError(t, err)
		matches, err := c.Matches(t.Context(), of(100))
		require.NoError(t, err, text)
		assert.True(t, matches, text)
		_, err = c.Matches(t.Context(), of(5000))
		require.ErrorIs(t, err, ErrFailed, text)
		assert.Contains(t, err.Error(), "cost limit", text)
	}
	c, err := Compile(`dependents.exists(d, d.name == "199999")`)
	require.NoError(t, err)
	matches, err := c.Matches(t.Context(), of(200_000))
	require.NoError(t, err, "once through a list is bounded by the list")
	assert.True(t, matches)
}

func TestNamesOfLabelsAndRules(t *testing.T) {
	for label, good := range map[string]bool{"rotate-90": true, "tier.0": true, "a": true, "": false, "Rotate": false, "-a": false, "a b": false, "ä": false, strings.Repeat("a", 63): true, strings.Repeat("a", 64): false} {
		assert.Equal(t, good, CheckLabel(label) == nil, label)
	}
	require.NoError(t, Rule{Name: "by-name", Label: "x", When: "true"}.Check())
	for _, r := range []Rule{{Name: "", Label: "x", When: "true"}, {Name: "a b", Label: "x", When: "true"}, {Name: "a\nb", Label: "x", When: "true"}, {Name: "a", Label: "X", When: "true"}, {Name: "a", Label: "x", When: "1"}} {
		assert.Error(t, r.Check(), r)
	}
}

// Whatever is written as a condition is refused or decided, and nothing else happens.
func FuzzCompile(f *testing.F) {
	for _, text := range []string{`account.name.startsWith("svc-")`, `dependents.exists(d, d.kind == "x")`, `[1,2].map(x, x)`, `"\u0000"`, `account.name.matches("(")`, `{"a": 1}.a == 1`, `rules.Dependent{kind: "x"}.kind == "y"`, `timestamp("x") < now`, `b"\xff" == b""`} {
		f.Add(text)
	}
	facts := berth()
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Compile(text)
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		if _, err := c.Matches(ctx, facts); err != nil {
			require.ErrorIs(t, err, ErrFailed)
		}
	})
}

// BenchmarkRules is what 200 rules cost an account; the issue asks for 10,000 accounts in 2 s.
func BenchmarkRules(b *testing.B) {
	var list []Rule
	for i := range 200 {
		when := fmt.Sprintf(`account.name.startsWith("svc-%d") && system.environment == "production"`, i)
		switch i % 4 {
		case 1:
			when = fmt.Sprintf(`account.dn.matches("(?i),OU=Team %d,") || "Group %d" in account.groups`, i, i)
		case 2:
			when = fmt.Sprintf(`now - account.password_changed > duration("%dh") && !account.custody`, 1000+i)
		case 3:
			when = fmt.Sprintf(`dependents.exists(d, d.kind == "service" && d.name == "Berth%d")`, i)
		}
		list = append(list, Rule{int64(i), fmt.Sprint(i), fmt.Sprintf("label-%d", i%40), i%10 == 0, when})
	}
	set := NewSet(list)
	for b.Loop() {
		if _, err := set.Match(b.Context(), "svc-berth", berth(), clock()); err != nil {
			b.Fatal(err)
		}
	}
}

// A condition that may take long can be stopped on its way: long lists, lists within lists
// and lists that it makes itself. Others are let run to their end, which costs less.
func TestWhatCanBeStopped(t *testing.T) {
	groups := func(n int) *Facts {
		return NewFacts(Account{Groups: make([]string, n)}, System{}, make([]Dependent, 3), now)
	}
	for _, c := range []struct {
		when   string
		groups int
		want   bool
	}{
		{`account.name == "a"`, 100, false},
		{`account.groups.exists(g, g == "x")`, short, false},
		{`account.groups.exists(g, g == "x")`, short + 1, true},
		{`account.groups.exists(g, dependents.exists(d, d.name == g))`, 1, true},
		{`[1, 2, 3].exists(n, n == 4)`, 1, true},
		{`account.groups.map(g, g + "x").size() > 2`, 1, true},
		{`"x" in account.groups`, 100, false},
	} {
		condition, err := Compile(c.when)
		require.NoError(t, err)
		assert.Equal(t, c.want, condition.stoppable(groups(c.groups)), c.when)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	condition, err := Compile(`account.groups.exists(g, g == "x")`)
	require.NoError(t, err)
	_, err = condition.Matches(over, groups(5000))
	require.ErrorIs(t, err, context.Canceled)
}
