package policy

import (
	"strconv"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
)

func ticks(t time.Time) string { return strconv.FormatInt((t.Unix()+11644473600)*1e7, 10) }

// How many wrong passwords count now, as directories keep them.
func TestWrongPasswordsThatCount(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	general := func(ago time.Duration) string { return now.Add(-ago).Format("20060102150405Z") }
	for name, v := range map[string]struct {
		attributes map[string][]string
		window     time.Duration
		want       int
	}{
		"none":                         {nil, time.Hour, 0},
		"windows, just now":            {map[string][]string{"badPwdCount": {"4"}, "badPasswordTime": {ticks(now.Add(-time.Second))}}, time.Hour, 4},
		"windows, the window is over":  {map[string][]string{"badPwdCount": {"4"}, "badPasswordTime": {ticks(now.Add(-time.Hour))}}, time.Hour, 0},
		"windows, they count for ever": {map[string][]string{"badPwdCount": {"4"}, "badPasswordTime": {ticks(now.Add(-1000 * time.Hour))}}, 0, 4},
		"windows, never":               {map[string][]string{"badPwdCount": {"0"}, "badPasswordTime": {"0"}}, time.Hour, 0},
		"others, some of them":         {map[string][]string{"pwdFailureTime": {general(2 * time.Hour), general(time.Minute), general(2 * time.Minute)}}, time.Hour, 2},
		"others, for ever":             {map[string][]string{"pwdFailureTime": {general(2000 * time.Hour), general(time.Minute)}}, 0, 2},
		"others, parts of a second":    {map[string][]string{"pwdFailureTime": {now.Add(-time.Minute).Format("20060102150405.000000Z")}}, time.Hour, 1},
		"not understood":               {map[string][]string{"pwdFailureTime": {"yesterday"}, "badPasswordTime": {"x"}}, time.Hour, 0},
	} {
		assert.Equal(t, v.want, Lockout{After: 5, Window: v.window}.Wrong(ldap.NewEntry("cn=x", v.attributes), now), name)
	}
	assert.Equal(t, 30*time.Minute, Interval("-18000000000"))
	for _, text := range []string{"", "0", "x", "18000000000", "-9223372036854775808"} {
		assert.Zero(t, Interval(text), text)
	}
	assert.Equal(t, "wrong passwords lock no account", Lockout{}.String())
	assert.Equal(t, "5 wrong passwords within 30m0s lock an account for 1h0m0s", Lockout{5, 30 * time.Minute, time.Hour}.String())
	assert.Equal(t, "3 wrong passwords lock an account until somebody unlocks it", Lockout{After: 3}.String())
}
