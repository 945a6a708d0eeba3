package policy

import (
	"fmt"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
)

// Change is what a password policy says of changing a password now, and back
// again (draft-behera-ldap-password-policy, section 5.2). They hold for whoever is not
// the database's own administrator. In the windows schema none holds for a reset by an
// administrator.
type Change struct {
	DN      string
	History int           // passwords that are remembered
	Apart   time.Duration // between two changes
	Safe    bool          // the former password must be given with the new one
	Certain bool          // it is this policy that is in force
}

// ChangeOf reads them from a policy entry.
func ChangeOf(policy *ldap.Entry) Change {
	history, _ := strconv.Atoi(policy.GetAttributeValue("pwdInHistory"))
	seconds, _ := strconv.Atoi(policy.GetAttributeValue("pwdMinAge"))
	return Change{DN: policy.DN, History: history, Apart: time.Duration(seconds) * time.Second, Safe: policy.GetAttributeValue("pwdSafeModify") == "TRUE"}
}

// SetAt is when an entry's password was last set, as the server that was asked has it.
func SetAt(entry *ldap.Entry) time.Time {
	if t := values.FileTime(entry.GetAttributeValue("pwdLastSet")); !t.IsZero() {
		return t
	}
	return values.GeneralizedTime(entry.GetAttributeValue("pwdChangedTime"))
}

// ChangeNumber says which change to an entry a server has seen last, in an order that is
// the same on all of them (OpenLDAP, "The LDAP Sync Replication Engine"). It is finer than
// the second in which a password was set, and is there without any password policy.
const ChangeNumber = "entryCSN"

// HasComeAsFar: a server's entry is of the same change of the password as the first
// server's, or a later one. Where nothing shows it, why is said.
func HasComeAsFar(entry, first *ldap.Entry) (bool, string) {
	if is, should := entry.GetAttributeValue(ChangeNumber), first.GetAttributeValue(ChangeNumber); is != "" && should != "" {
		return is >= should, fmt.Sprintf("it has the entry as of the change %s, the first server as of %s", is, should)
	}
	switch is, should := SetAt(entry), SetAt(first); {
	case should.IsZero():
		return false, "the first server does not show when the password was set, so that a server that is behind could not be told from one with another password"
	case is.IsZero():
		return false, "it does not show when the password was set"
	default:
		return !is.Before(should), fmt.Sprintf("it has the password that was set at %s, the first server that of %s", is.UTC().Format(time.DateTime), should.UTC().Format(time.DateTime))
	}
}
