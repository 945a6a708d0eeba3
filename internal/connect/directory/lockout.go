package directory

import (
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

// A directory locks an account after some wrong passwords within a window. After a
// password was changed, whatever was forgotten goes on trying the old one, and our own
// proofs that a value is refused are wrong passwords too: none of them may be the one
// that locks.

// lockout is when an account is locked by wrong passwords.
type lockout struct {
	after  int           // wrong passwords; 0 for never
	window time.Duration // within which they count; 0 for ever
	lasts  time.Duration // 0 until somebody unlocks
}

// counted are the attributes of an entry that tell of wrong passwords.
var counted = []string{"badPwdCount", "badPasswordTime", "msDS-ResultantPSO", "pwdFailureTime", "pwdPolicySubentry", keyVersion, changeNumber, "pwdLastSet", "pwdChangedTime"}

// keyVersion numbers the keys that the key distribution center has made of the password.
const keyVersion = "msDS-KeyVersionNumber"

// lockoutOf reads the policy in force for an entry. known is false where it cannot be
// read, or which one applies is not shown: then nothing is concluded.
func (s *session) lockoutOf(entry *ldap.Entry) (policy lockout, known bool, failure *connect.Failure) {
	if s.windows() {
		return s.windowsLockout(entry)
	}
	dn := entry.GetAttributeValue("pwdPolicySubentry")
	if dn == "" {
		return lockout{}, false, nil // the default one stands in the server's configuration
	}
	found, _, failure := s.base(dn, "pwdLockout", "pwdMaxFailure", "pwdFailureCountInterval", "pwdLockoutDuration")
	if failure != nil || found == nil {
		return lockout{}, false, failure
	}
	seconds := func(attribute string) time.Duration {
		n, _ := strconv.Atoi(found.GetAttributeValue(attribute))
		return time.Duration(n) * time.Second
	}
	policy = lockout{window: seconds("pwdFailureCountInterval"), lasts: seconds("pwdLockoutDuration")}
	if found.GetAttributeValue("pwdLockout") == "TRUE" { // draft-behera, sections 5.2.9 to 5.2.12
		policy.after, _ = strconv.Atoi(found.GetAttributeValue("pwdMaxFailure"))
	}
	return policy, true, nil
}

func (s *session) windowsLockout(entry *ldap.Entry) (lockout, bool, *connect.Failure) {
	dn, names := s.root.GetAttributeValue("defaultNamingContext"), [3]string{"lockoutThreshold", "lockOutObservationWindow", "lockoutDuration"}
	if fine := entry.GetAttributeValue("msDS-ResultantPSO"); fine != "" {
		dn, names = fine, [3]string{"msDS-LockoutThreshold", "msDS-LockoutObservationWindow", "msDS-LockoutDuration"}
	}
	found, _, failure := s.base(dn, names[:]...)
	if failure != nil || found == nil || found.GetAttributeValue(names[0]) == "" {
		return lockout{}, false, failure
	}
	after, _ := strconv.Atoi(found.GetAttributeValue(names[0]))
	return lockout{after: after, window: interval(found.GetAttributeValue(names[1])), lasts: interval(found.GetAttributeValue(names[2]))}, true, nil
}

// interval reads a time span of the windows schema: negative hundreds of nanoseconds,
// the lowest number for "until somebody ends it" ([MS-ADTS], section 3.1.1.3).
func interval(text string) time.Duration {
	ticks, err := strconv.ParseInt(text, 10, 64)
	if err != nil || ticks >= 0 || ticks == -1<<63 {
		return 0
	}
	return time.Duration(-ticks) * 100
}

// wrong is how many wrong passwords of an entry count now.
func (l lockout) wrong(entry *ldap.Entry, now time.Time) int {
	within := func(t time.Time) bool { return l.window == 0 || now.Before(t.Add(l.window)) }
	if last := fileTime(entry.GetAttributeValue("badPasswordTime")); !last.IsZero() {
		n, _ := strconv.Atoi(entry.GetAttributeValue("badPwdCount"))
		if within(last) {
			return n
		}
		return 0
	}
	n := 0
	for _, text := range entry.GetAttributeValues("pwdFailureTime") {
		if t := generalizedTime(text); !t.IsZero() && within(t) {
			n++
		}
	}
	return n
}

// trialsOf is what an entry tells of wrong passwords; nil for nothing.
func trialsOf(entry *ldap.Entry) *connect.Trials {
	trials := &connect.Trials{Last: fileTime(entry.GetAttributeValue("badPasswordTime"))}
	if count := entry.GetAttributeValue("badPwdCount"); count != "" {
		trials.Count, _ = strconv.Atoi(count)
		return trials
	}
	for _, text := range entry.GetAttributeValues("pwdFailureTime") {
		trials.Count++
		if t := generalizedTime(text); t.After(trials.Last) {
			trials.Last = t
		}
	}
	if trials.Count == 0 {
		return nil // there is none, or it may not be read
	}
	return trials
}

// String says it in words.
func (l lockout) String() string {
	if l.after == 0 {
		return "wrong passwords lock no account"
	}
	text := fmt.Sprintf("%d wrong passwords", l.after)
	if l.window > 0 {
		text += " within " + l.window.String()
	}
	if l.lasts > 0 {
		return text + " lock an account for " + l.lasts.String()
	}
	return text + " lock an account until somebody unlocks it"
}

// spared says why a password is not tried: it could be the one that locks the account.
// nil when it may be tried, also because nothing is known about locks.
func (s *session) spared(entry *ldap.Entry, name string) *connect.Failure {
	policy, known, failure := s.lockoutOf(entry)
	if failure != nil {
		return failure
	}
	wrong := policy.wrong(entry, s.now())
	if !known || policy.after == 0 || wrong != policy.after-1 {
		return nil // more of them have locked it already: trying says so, and locks nothing
	}
	return s.target.Fail(connect.StageSignIn, connect.CodeUnproven,
		fmt.Sprintf("not tried: %d wrong passwords were given for %s lately, and %s", wrong, name, policy),
		"something goes on with an old password: find it ('moss account show', the uses recorded of it), stop it, and try again after "+policy.window.String(), nil)
}

// rehearseLockout tells what wrong passwords do to an account, and that something gives
// them already. After the change whatever was forgotten gives the old one, again and
// again.
func (s *session) rehearseLockout(entry *ldap.Entry) connect.Checked {
	check := connect.Checked{System: s.target.Name, What: "not locked by who goes on with the old value", Result: connect.CheckOK}
	policy, known, failure := s.lockoutOf(entry)
	switch {
	case failure != nil:
		check.Result, check.Words, check.Next = connect.CheckFailed, failure.Words, failure.Next
		return check
	case !known:
		check.Result, check.Words, check.Next = connect.CheckUnchecked, "which policy applies is not shown: whether wrong passwords lock it is not known", "grant the steward the right to read the password policies"
		return check
	}
	check.Words = policy.String()
	if policy.after == 0 {
		return check
	}
	check.About = connect.AboutLockout
	const next = "find what gives it ('moss account show', the uses recorded of it) and stop it first: after the change it would lock the account for everybody"
	switch wrong := policy.wrong(entry, s.now()); {
	case wrong >= policy.after-1:
		check.Result, check.Next = connect.CheckFailed, next
		check.Words = fmt.Sprintf("%d wrong passwords were given lately; %s", wrong, policy)
	case wrong > 0:
		check.Result, check.Next = connect.CheckWarning, next
		check.Words = fmt.Sprintf("%d wrong passwords were given lately; %s", wrong, policy)
	}
	return check
}
