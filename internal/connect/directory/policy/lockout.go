// Package policy judges entries of directories by what policies say: when wrong passwords
// lock an account and whether they have, what a change of a password must obey, how far
// a server has come with one, and whose password is not set at all. It asks nothing.
package policy

import (
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
)

// Lockout is when an account is locked by wrong passwords.
type Lockout struct {
	After  int           // wrong passwords; 0 for never
	Window time.Duration // within which they count; 0 for ever
	Lasts  time.Duration // 0 until somebody unlocks
}

// Interval reads a time span of the windows schema: negative hundreds of nanoseconds,
// the lowest number for "until somebody ends it" ([MS-ADTS], section 3.1.1.3).
func Interval(text string) time.Duration {
	ticks, err := strconv.ParseInt(text, 10, 64)
	if err != nil || ticks >= 0 || ticks == -1<<63 {
		return 0
	}
	return time.Duration(-ticks) * 100
}

// Wrong is how many wrong passwords of an entry count now.
func (l Lockout) Wrong(entry *ldap.Entry, now time.Time) int {
	within := func(t time.Time) bool { return l.Window == 0 || now.Before(t.Add(l.Window)) }
	if last := values.FileTime(entry.GetAttributeValue("badPasswordTime")); !last.IsZero() {
		n, _ := strconv.Atoi(entry.GetAttributeValue("badPwdCount"))
		if within(last) {
			return n
		}
		return 0
	}
	n := 0
	for _, text := range entry.GetAttributeValues("pwdFailureTime") {
		if t := values.GeneralizedTime(text); !t.IsZero() && within(t) {
			n++
		}
	}
	return n
}

// TrialsOf is what an entry tells of wrong passwords; nil for nothing.
func TrialsOf(entry *ldap.Entry) *connect.Trials {
	trials := &connect.Trials{Last: values.FileTime(entry.GetAttributeValue("badPasswordTime"))}
	if count := entry.GetAttributeValue("badPwdCount"); count != "" {
		trials.Count, _ = strconv.Atoi(count)
		return trials
	}
	for _, text := range entry.GetAttributeValues("pwdFailureTime") {
		trials.Count++
		if t := values.GeneralizedTime(text); t.After(trials.Last) {
			trials.Last = t
		}
	}
	if trials.Count == 0 {
		return nil // there is none, or it may not be read
	}
	return trials
}

// String says it in words.
func (l Lockout) String() string {
	if l.After == 0 {
		return "wrong passwords lock no account"
	}
	text := fmt.Sprintf("%d wrong passwords", l.After)
	if l.Window > 0 {
		text += " within " + l.Window.String()
	}
	if l.Lasts > 0 {
		return text + " lock an account for " + l.Lasts.String()
	}
	return text + " lock an account until somebody unlocks it"
}
