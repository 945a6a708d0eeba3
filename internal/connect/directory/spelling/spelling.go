// Package spelling writes what is sent to a directory in the words of the command-line tools
// of LDAP and of LDIF (RFC 2849), never the values of passwords, and reads the steps of a job.
package spelling

import (
	"encoding/csv"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

var scopes = map[int]string{ldap.ScopeBaseObject: "base", ldap.ScopeSingleLevel: "one", ldap.ScopeWholeSubtree: "sub"}

// Search is a search.
func Search(r *ldap.SearchRequest) string {
	return fmt.Sprintf("search -b %q -s %s %q %s", r.BaseDN, scopes[r.Scope], r.Filter, strings.Join(r.Attributes, " "))
}

// plainAttributes are those whose values are shown; of all others it is said that there are some.
var plainAttributes = map[string]bool{"useraccountcontrol": true, "lockouttime": true, "pwdlastset": true, "member": true, "serviceprincipalname": true, "pwdaccountlockedtime": true, "pwdreset": true, "accountexpires": true, "pwdendtime": true}

// Modify is a change.
func Modify(r *ldap.ModifyRequest) string {
	var b strings.Builder
	fmt.Fprintf(&b, "dn: %s\nchangetype: modify\n", r.DN)
	for _, c := range r.Changes {
		name := c.Modification.Type
		fmt.Fprintf(&b, "%s: %s\n", map[uint]string{ldap.AddAttribute: "add", ldap.DeleteAttribute: "delete", ldap.ReplaceAttribute: "replace"}[c.Operation], name)
		for _, v := range c.Modification.Vals {
			if !plainAttributes[strings.ToLower(name)] {
				v = connect.Left
			}
			fmt.Fprintf(&b, "%s: %s\n", name, v)
		}
		b.WriteString("-\n")
	}
	return b.String()
}

// Step are the words of a step: fields with blanks between them, in double quotes where they
// have some themselves (RFC 4180 with another separator).
func Step(step string) []string {
	r := csv.NewReader(strings.NewReader(step))
	r.Comma = ' '
	words, err := r.Read()
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(words, func(w string) bool { return w == "" })
}
