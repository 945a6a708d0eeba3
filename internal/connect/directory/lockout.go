package directory

import (
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
)

// A directory locks an account after some wrong passwords within a window. After a
// password was changed, whatever was forgotten goes on trying the old one, and our own
// proofs that a value is refused are wrong passwords too: none of them may be the one
// that locks.

// counted are the attributes of an entry that tell of wrong passwords.
var counted = []string{"badPwdCount", "badPasswordTime", "msDS-ResultantPSO", "pwdFailureTime", "pwdPolicySubentry", keyVersion, policy.ChangeNumber, "pwdLastSet", "pwdChangedTime"}

// keyVersion numbers the keys that the key distribution center has made of the password.
const keyVersion = "msDS-KeyVersionNumber"

// lockoutOf reads the policy in force for an entry. known is false where it cannot be
// read, or which one applies is not shown: then nothing is concluded.
func (s *session) lockoutOf(entry *ldap.Entry) (rules policy.Lockout, known bool, failure *connect.Failure) {
	if s.windows() {
		return s.windowsLockout(entry)
	}
	dn := entry.GetAttributeValue("pwdPolicySubentry")
	if dn == "" {
		return policy.Lockout{}, false, nil // the default one stands in the server's configuration
	}
	found, _, failure := s.base(dn, "pwdLockout", "pwdMaxFailure", "pwdFailureCountInterval", "pwdLockoutDuration")
	if failure != nil || found == nil {
		return policy.Lockout{}, false, failure
	}
	seconds := func(attribute string) time.Duration {
		n, _ := strconv.Atoi(found.GetAttributeValue(attribute))
		return time.Duration(n) * time.Second
	}
	rules = policy.Lockout{Window: seconds("pwdFailureCountInterval"), Lasts: seconds("pwdLockoutDuration")}
	if found.GetAttributeValue("pwdLockout") == "TRUE" { // draft-behera, sections 5.2.9 to 5.2.12
		rules.After, _ = strconv.Atoi(found.GetAttributeValue("pwdMaxFailure"))
	}
	return rules, true, nil
}

func (s *session) windowsLockout(entry *ldap.Entry) (policy.Lockout, bool, *connect.Failure) {
	dn, names := s.root.GetAttributeValue("defaultNamingContext"), [3]string{"lockoutThreshold", "lockOutObservationWindow", "lockoutDuration"}
	if fine := entry.GetAttributeValue("msDS-ResultantPSO"); fine != "" {
		dn, names = fine, [3]string{"msDS-LockoutThreshold", "msDS-LockoutObservationWindow", "msDS-LockoutDuration"}
	}
	found, _, failure := s.base(dn, names[:]...)
	if failure != nil || found == nil || found.GetAttributeValue(names[0]) == "" {
		return policy.Lockout{}, false, failure
	}
	after, _ := strconv.Atoi(found.GetAttributeValue(names[0]))
	return policy.Lockout{After: after, Window: policy.Interval(found.GetAttributeValue(names[1])), Lasts: policy.Interval(found.GetAttributeValue(names[2]))}, true, nil
}

// spared says why a password is not tried: it could be the one that locks the account.
// nil when it may be tried, also because nothing is known about locks.
func (s *session) spared(entry *ldap.Entry, name string) *connect.Failure {
	rules, known, failure := s.lockoutOf(entry)
	if failure != nil {
		return failure
	}
	wrong := rules.Wrong(entry, s.now())
	if !known || rules.After == 0 || wrong != rules.After-1 {
		return nil // more of them have locked it already: trying says so, and locks nothing
	}
	return s.target.Fail(connect.StageSignIn, connect.CodeUnproven,
		fmt.Sprintf("not tried: %d wrong passwords were given for %s lately, and %s", wrong, name, rules),
		"something goes on with an old password: find it ('moss account show', the uses recorded of it), stop it, and try again after "+rules.Window.String(), nil)
}

// rehearseLockout tells what wrong passwords do to an account, and that something gives
// them already. After the change whatever was forgotten gives the old one, again and
// again.
func (s *session) rehearseLockout(entry *ldap.Entry) connect.Checked {
	check := connect.Checked{System: s.target.Name, What: "not locked by who goes on with the old value", Result: connect.CheckOK}
	rules, known, failure := s.lockoutOf(entry)
	switch {
	case failure != nil:
		check.Result, check.Words, check.Next = connect.CheckFailed, failure.Words, failure.Next
		return check
	case !known:
		check.Result, check.Words, check.Next = connect.CheckUnchecked, "which policy applies is not shown: whether wrong passwords lock it is not known", "grant the steward the right to read the password policies"
		return check
	}
	check.Words = rules.String()
	if rules.After == 0 {
		return check
	}
	check.About = connect.AboutLockout
	const next = "find what gives it ('moss account show', the uses recorded of it) and stop it first (--stop-first stops what is known): after the change it would lock the account for everybody"
	switch wrong := rules.Wrong(entry, s.now()); {
	case wrong >= rules.After-1:
		check.Result, check.Next = connect.CheckFailed, next
		check.Words = fmt.Sprintf("%d wrong passwords were given lately; %s", wrong, rules)
	case wrong > 0:
		check.Result, check.Next = connect.CheckWarning, next
		check.Words = fmt.Sprintf("%d wrong passwords were given lately; %s", wrong, rules)
	}
	return check
}
