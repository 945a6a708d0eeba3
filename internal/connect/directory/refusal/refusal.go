// Package refusal reads what a directory says when it refuses something.
package refusal

import (
	"errors"
	"regexp"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

// Failure turns an LDAP error into a Failure.
func Failure(t connect.Target, stage connect.Stage, err error, hide ...secret.Value) *connect.Failure {
	f := &connect.Failure{System: t.Name, Stage: stage, Code: connect.CodeFailed, Err: err}
	f.Words = secret.Scrub(strings.TrimRight(err.Error(), "\x00 "), hide...)
	var result *ldap.Error
	if !errors.As(err, &result) {
		f.Code, f.Unclear = connect.CodeProtocol, true
		return f
	}
	switch code := result.ResultCode; {
	case code == ldap.ErrorNetwork:
		f.Code, f.Unclear = connect.CodeUnreachable, true
		f.Next = "the connection was lost: check the directory and try again"
		if strings.Contains(f.Words, "timed out") {
			f.Code = connect.CodeTimeout
		}
	case code > ldap.ErrorNetwork:
		f.Code, f.Unclear = connect.CodeProtocol, true
		f.Next = "the directory's answer could not be understood"
	case code == ldap.LDAPResultBusy || code == ldap.LDAPResultUnavailable:
		f.Code, f.Next = connect.CodeUnreachable, "the directory does not take requests now"
	case code == ldap.LDAPResultInsufficientAccessRights:
		f.Code = connect.CodeNotPermitted
		f.Next = "grant the steward the right to do this"
	case code == ldap.LDAPResultNoSuchObject:
		f.Code = connect.CodeGone
	case code == ldap.LDAPResultConstraintViolation:
		f.Code = connect.CodePolicy
		f.Next = "the directory's password policy refused the value"
	case code == ldap.LDAPResultInvalidCredentials:
		f.Code = connect.CodeStewardRefused
	}
	return f
}

// refusals are why a directory of the windows schema refuses a bind with result 49,
// by the number of the error in its words ([MS-ERREF], section 2.2; in hexadecimal).
// Those without a verdict are said of the account, the hour, the machine or the way
// of signing in, and of the value they say nothing.
var refusals = map[string]struct{ verdict, meaning string }{
	"52e": {connect.VerdictWrong, "wrong password"},
	"525": {connect.VerdictWrong, "no such account"},
	"52f": {"", "a restriction of the account keeps it from signing in this way"},
	"530": {"", "the account may not sign in at this hour"},
	"531": {"", "the account may not sign in from this machine"},
	"532": {connect.VerdictExpired, "the password has expired"},
	"533": {connect.VerdictDisabled, "the account is disabled"},
	"534": {"", "the account was not granted this kind of sign-in"},
	"569": {"", "the account was not granted this kind of sign-in"},
	"701": {connect.VerdictEnded, "the account has expired"},
	"773": {connect.VerdictMustChange, "the password must be changed"},
	"775": {connect.VerdictLocked, "the account is locked"},
}

// errorNumber is the number of an error in the words of such a directory.
var errorNumber = regexp.MustCompile(`\bdata ([0-9a-f]{2,8})\b`)

// Refusal is what a directory said to a bind.
type Refusal struct {
	Code  string // of the verdict; "" when it says nothing of the value
	Words string
}

// OfBind reads why a bind was refused; nil when it was not answered as a
// refusal. A number that is not known is no word about the value, and neither is a
// server that is unwilling (result 53, RFC 4511, section 4.1.9) or wants another way of
// proof (48).
func OfBind(err error) *Refusal {
	var result *ldap.Error
	if !errors.As(err, &result) {
		return nil
	}
	text := strings.TrimRight(result.Error(), "\x00 ")
	switch result.ResultCode {
	case ldap.LDAPResultInvalidCredentials:
	case ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultInappropriateAuthentication:
		return &Refusal{Words: text}
	default:
		return nil
	}
	number := errorNumber.FindStringSubmatch(text)
	if number == nil {
		return &Refusal{Code: connect.VerdictWrong, Words: text}
	}
	known, found := refusals[number[1]]
	if !found {
		return &Refusal{Words: text}
	}
	return &Refusal{Code: known.verdict, Words: known.meaning + " (" + text + ")"}
}
