package directory

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
		got := trialsOf(entry(c.attributes))
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
	assert.True(t, at.Equal(setAt(windows(at))))
	assert.True(t, at.Equal(setAt(other("20261128023000Z"))))
	assert.True(t, setAt(windows(at.Add(-time.Nanosecond*100))).Before(setAt(windows(at))), "to the last tick")
	assert.True(t, setAt(entry(nil)).IsZero(), "one that does not tell is never later than one that does")
	assert.False(t, setAt(entry(nil)).Before(setAt(entry(nil))), "and where none tells, none is behind")
	assert.True(t, setAt(entry(map[string][]string{"pwdLastSet": {"0"}, "pwdChangedTime": {"20261128023000Z"}})).Equal(at))
}

// The rules of policies about changing a password.
func TestRulesOfPolicies(t *testing.T) {
	for name, c := range map[string]struct {
		attributes map[string][]string
		want       changeRules
	}{
		"none":     {nil, changeRules{dn: "CN=x"}},
		"all":      {map[string][]string{"pwdInHistory": {"5"}, "pwdMinAge": {"3600"}, "pwdSafeModify": {"TRUE"}}, changeRules{dn: "CN=x", history: 5, apart: time.Hour, safe: true}},
		"zeros":    {map[string][]string{"pwdInHistory": {"0"}, "pwdMinAge": {"0"}, "pwdSafeModify": {"FALSE"}}, changeRules{dn: "CN=x"}},
		"nonsense": {map[string][]string{"pwdInHistory": {"some"}, "pwdMinAge": {"-"}, "pwdSafeModify": {"yes"}}, changeRules{dn: "CN=x"}},
	} {
		assert.Equal(t, c.want, rulesOf(entry(c.attributes)), name)
	}
}
