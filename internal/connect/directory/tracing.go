package directory

import (
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
)

// What is sent to a directory is told to whoever wants to see it, in the words of the
// command-line tools of LDAP and of LDIF; never the values of passwords.

func (s *secured) told(text string, begun time.Time, err error) {
	o := connect.Ended("ldap", text, begun, err, func(err error) bool {
		return ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) || ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials) || ldap.IsErrorWithCode(err, ldap.LDAPResultUnwillingToPerform)
	})
	if said, is := err.(*ldap.Error); is { //nolint:errorlint // it is the library's own, not wrapped
		o.Exit = int(said.ResultCode)
	}
	s.trace.Tell(o)
}

var scopes = map[int]string{ldap.ScopeBaseObject: "base", ldap.ScopeSingleLevel: "one", ldap.ScopeWholeSubtree: "sub"}

func searchText(r *ldap.SearchRequest) string {
	return fmt.Sprintf("search -b %q -s %s %q %s", r.BaseDN, scopes[r.Scope], r.Filter, strings.Join(r.Attributes, " "))
}

// Search sends a search.
func (s *secured) Search(r *ldap.SearchRequest) (*ldap.SearchResult, error) {
	begun := time.Now()
	res, err := s.Conn.Search(r)
	if s.trace.On() {
		s.told(searchText(r), begun, err)
	}
	return res, err
}

// Modify sends a change.
func (s *secured) Modify(r *ldap.ModifyRequest) error {
	begun := time.Now()
	err := s.Conn.Modify(r)
	if s.trace.On() {
		s.told(modifyText(r), begun, err)
	}
	return err
}

// PasswordModify sends a change of a password (RFC 3062).
func (s *secured) PasswordModify(r *ldap.PasswordModifyRequest) (*ldap.PasswordModifyResult, error) {
	begun := time.Now()
	res, err := s.Conn.PasswordModify(r)
	if s.trace.On() {
		s.told(fmt.Sprintf("password of %q becomes %s", r.UserIdentity, connect.Left), begun, err)
	}
	return res, err
}

// Bind signs in.
func (s *secured) Bind(dn, password string) error {
	begun := time.Now()
	err := s.Conn.Bind(dn, password)
	if s.trace.On() {
		s.told(fmt.Sprintf("bind as %q", dn), begun, err)
	}
	return err
}

// plainAttributes are those whose values are shown; of all others it is said that there are some.
var plainAttributes = map[string]bool{"useraccountcontrol": true, "lockouttime": true, "pwdlastset": true, "member": true, "serviceprincipalname": true, "pwdaccountlockedtime": true, "pwdreset": true}

func modifyText(r *ldap.ModifyRequest) string {
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
