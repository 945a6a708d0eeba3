package policy

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

func entry(attributes map[string][]string) *ldap.Entry { return ldap.NewEntry("CN=x", attributes) }

// What entries tell of wrong passwords, of either schema; and what is nothing.
func TestTrialsOfEntries(t *testing.T) {
	at := time.Date(2026, 11, 28, 2, 30, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		attributes map[string][]string
		want       *connect.Trials
	}{
		"windows":           {map[string][]string{"badPwdCount": {"3"}, "badPasswordTime": {ticks(at)}}, &connect.Trials{Count: 3, Last: at}},
		"windows, never":    {map[string][]string{"badPwdCount": {"0"}, "badPasswordTime": {"0"}}, &connect.Trials{}},
		"windows, reset":    {map[string][]string{"badPwdCount": {"0"}, "badPasswordTime": {ticks(at)}}, &connect.Trials{Last: at}},
		"ppolicy":           {map[string][]string{"pwdFailureTime": {"20261128022900Z", "20261128023000.000000Z", "20261128022800Z"}}, &connect.Trials{Count: 3, Last: at}},
		"nothing is told":   {map[string][]string{"cn": {"x"}}, nil},
		"windows, nonsense": {map[string][]string{"badPwdCount": {"many"}, "badPasswordTime": {"yesterday"}}, &connect.Trials{}},
	} {
		got := TrialsOf(entry(c.attributes))
		if c.want == nil {
			assert.Nil(t, got, name)
			continue
		}
		if assert.NotNil(t, got, name) {
			assert.Equal(t, c.want.Count, got.Count, name)
			assert.True(t, c.want.Last.Equal(got.Last), "%s: %v", name, got.Last)
		}
	}
}

// A server has come as far as another when it tells the same, or a later, time.
func TestWhenAPasswordWasSet(t *testing.T) {
	at := time.Date(2026, 11, 28, 2, 30, 0, 0, time.UTC)
	windows := func(t time.Time) *ldap.Entry { return entry(map[string][]string{"pwdLastSet": {ticks(t)}}) }
	other := func(text string) *ldap.Entry { return entry(map[string][]string{"pwdChangedTime": {text}}) }
	assert.True(t, at.Equal(SetAt(windows(at))))
	assert.True(t, at.Equal(SetAt(other("20261128023000Z"))))
	assert.True(t, SetAt(windows(at.Add(-time.Nanosecond*100))).Before(SetAt(windows(at))), "to the last tick")
	assert.True(t, SetAt(entry(nil)).IsZero(), "one that does not tell is never later than one that does")
	assert.False(t, SetAt(entry(nil)).Before(SetAt(entry(nil))), "and where none tells, none is behind")
	assert.True(t, SetAt(entry(map[string][]string{"pwdLastSet": {"0"}, "pwdChangedTime": {"20261128023000Z"}})).Equal(at))
}

// Which servers have come as far, by the number of the change where there is one: it is
// finer than the second, and there without a policy. What shows nothing is not asked.
func TestHasComeAsFar(t *testing.T) {
	csn := func(text string) map[string][]string { return map[string][]string{"entryCSN": {text}} }
	set := func(text string) map[string][]string { return map[string][]string{"pwdChangedTime": {text}} }
	both := func(number, at string) map[string][]string {
		return map[string][]string{"entryCSN": {number}, "pwdChangedTime": {at}}
	}
	const early, late = "20261128023000.000001Z#000000#000#000000", "20261128023000.000002Z#000000#000#000000"
	for name, c := range map[string]struct {
		is, should map[string][]string
		far        bool
		words      string
	}{
		"the same change":                {csn(early), csn(early), true, ""},
		"a microsecond behind":           {both(early, "20261128023000Z"), both(late, "20261128023000Z"), false, "as of the change " + early},
		"later":                          {csn(late), csn(early), true, ""},
		"only times, the same":           {set("20261128023000Z"), both(late, "20261128023000Z"), true, ""},
		"only times, earlier":            {set("20261128022959Z"), set("20261128023000Z"), false, "set at 2026-11-28 02:29:59, the first server that of 2026-11-28 02:30:00"},
		"it shows nothing":               {nil, set("20261128023000Z"), false, "it does not show"},
		"the first server shows nothing": {set("20261128023000Z"), nil, false, "the first server does not show"},
		"nobody shows anything":          {nil, nil, false, "the first server does not show"},
	} {
		far, words := HasComeAsFar(entry(c.is), entry(c.should))
		assert.Equal(t, c.far, far, name)
		if !c.far {
			assert.Contains(t, words, c.words, name)
		}
	}
}

// The rules of policies about changing a password.
func TestRulesOfPolicies(t *testing.T) {
	for name, c := range map[string]struct {
		attributes map[string][]string
		want       Change
	}{
		"none":     {nil, Change{DN: "CN=x"}},
		"all":      {map[string][]string{"pwdInHistory": {"5"}, "pwdMinAge": {"3600"}, "pwdSafeModify": {"TRUE"}}, Change{DN: "CN=x", History: 5, Apart: time.Hour, Safe: true}},
		"zeros":    {map[string][]string{"pwdInHistory": {"0"}, "pwdMinAge": {"0"}, "pwdSafeModify": {"FALSE"}}, Change{DN: "CN=x"}},
		"nonsense": {map[string][]string{"pwdInHistory": {"some"}, "pwdMinAge": {"-"}, "pwdSafeModify": {"yes"}}, Change{DN: "CN=x"}},
	} {
		assert.Equal(t, c.want, ChangeOf(entry(c.attributes)), name)
	}
}
