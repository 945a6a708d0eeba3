package directory

import (
	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
)

// Some accounts of a directory of the windows schema are not service accounts, whatever
// runs as them, and a password that is set for them breaks more than it renews.

// guarded is the failure of changing a guarded account; nil for others.
func (s *session) guarded(entry *ldap.Entry, name string) *connect.Failure {
	if !s.windows() {
		return nil
	}
	refuse, _ := policy.Guard(entry)
	if refuse == "" {
		return nil
	}
	return s.target.Fail(connect.StageChange, connect.CodePolicy, "the password of "+name+" is not set: "+refuse, "take it out of custody", nil)
}

// rehearseGuard says so beforehand.
func (s *session) rehearseGuard(entry *ldap.Entry) []connect.Checked {
	if !s.windows() {
		return nil
	}
	check := connect.Checked{System: s.target.Name, What: "an account whose password may be set", Result: connect.CheckOK}
	refuse, ask := policy.Guard(entry)
	switch {
	case refuse != "":
		check.Result, check.Words, check.Next = connect.CheckFailed, refuse, "take it out of custody"
	case ask != "":
		check.Result, check.Words, check.Next = connect.CheckWarning, ask, "make sure that it is meant"
	}
	return []connect.Checked{check}
}
