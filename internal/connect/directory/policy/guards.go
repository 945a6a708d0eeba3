package policy

import (
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
)

// Some accounts of a directory of the windows schema are not service accounts, whatever
// runs as them, and a password that is set for them breaks more than it renews.

// Guarding are the attributes that tell them.
var Guarding = []string{"objectClass", "objectSid", "sAMAccountName", "userAccountControl", "adminCount", "msDS-SecondaryKrbTgtNumber"}

// smartCardOnly is a bit of userAccountControl ([MS-ADTS], section 2.2.16).
const smartCardOnly = 0x40000

// Guard says why the password of an entry is not set at all, or why a person should be
// asked first; "" and "" for others.
func Guard(entry *ldap.Entry) (refuse, ask string) {
	name := strings.ToLower(entry.GetAttributeValue("sAMAccountName"))
	sid := values.SIDText(entry.GetRawAttributeValue("objectSid"))
	domain := strings.HasPrefix(sid, "S-1-5-21-")
	control, _ := strconv.ParseInt(entry.GetAttributeValue("userAccountControl"), 10, 64)
	is := func(class string) bool {
		for _, c := range entry.GetAttributeValues("objectClass") {
			if strings.EqualFold(c, class) {
				return true
			}
		}
		return false
	}
	switch {
	case name == "krbtgt" || domain && strings.HasSuffix(sid, "-502") || entry.GetAttributeValue("msDS-SecondaryKrbTgtNumber") != "":
		return "every ticket of the domain is signed with its key: it is renewed twice, with a day between, by a procedure of its own", ""
	case is("msDS-GroupManagedServiceAccount") || is("msDS-ManagedServiceAccount") || is("msDS-DelegatedManagedServiceAccount"):
		return "the directory changes its password by itself, and the hosts that may use it fetch it there", ""
	case is("computer"):
		return "its password belongs to the machine itself, which would lose its place in the domain", ""
	case control&smartCardOnly != 0:
		return "it signs in with a smart card only: nothing could prove a password", ""
	case domain && strings.HasSuffix(sid, "-500"):
		return "", "it is the directory's own administrator, the last way in when everything else fails: make sure that the new value is reachable without this service"
	case entry.GetAttributeValue("adminCount") == "1":
		return "", "it is, or was, in a group that administers the directory (adminCount): the directory takes rights that were granted on it away again within the hour, and whoever has its value has the domain"
	}
	return "", ""
}
