package directory

import (
	"fmt"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/spelling"
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

// Search sends a search.
func (s *secured) Search(r *ldap.SearchRequest) (*ldap.SearchResult, error) {
	begun := time.Now()
	res, err := s.Conn.Search(r)
	if s.trace.On() {
		s.told(spelling.Search(r), begun, err)
	}
	return res, err
}

// Modify sends a change.
func (s *secured) Modify(r *ldap.ModifyRequest) error {
	begun := time.Now()
	err := s.Conn.Modify(r)
	if s.trace.On() {
		s.told(spelling.Modify(r), begun, err)
	}
	return err
}

// Del deletes an entry.
func (s *secured) Del(r *ldap.DelRequest) error {
	begun := time.Now()
	err := s.Conn.Del(r)
	if s.trace.On() {
		s.told("dn: "+r.DN+"\nchangetype: delete\n", begun, err)
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
