package refusal

import (
	"errors"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
)

// What directories say to a bind, as they write it, and what follows for the value.
// Only a refusal that is about the value makes it wrong.
func TestWhatARefusedBindSays(t *testing.T) {
	windows := func(data string) string {
		return "80090308: LdapErr: DSID-0C090447, comment: AcceptSecurityContext error, data " + data + ", v3839\x00"
	}
	const proven, unproven = true, false
	for words, want := range map[string]struct {
		result uint16
		about  bool // of the value
		code   string
	}{
		windows("52e"):  {49, proven, connect.VerdictWrong},
		windows("525"):  {49, proven, connect.VerdictWrong},
		windows("52f"):  {49, unproven, ""}, // protected users, no NTLM
		windows("530"):  {49, unproven, ""}, // hours
		windows("531"):  {49, unproven, ""}, // machines
		windows("534"):  {49, unproven, ""},
		windows("569"):  {49, unproven, ""},
		windows("568"):  {49, unproven, ""}, // too many contexts: known to nobody here
		windows("52"):   {49, unproven, ""},
		windows("5200"): {49, unproven, ""}, // no beginning of another number
		windows("532"):  {49, proven, connect.VerdictExpired},
		windows("533"):  {49, proven, connect.VerdictDisabled},
		windows("701"):  {49, proven, connect.VerdictEnded},
		windows("773"):  {49, proven, connect.VerdictMustChange},
		windows("775"):  {49, proven, connect.VerdictLocked},
		// Others say no more than the result.
		"":                    {49, proven, connect.VerdictWrong},
		"Invalid credentials": {49, proven, connect.VerdictWrong},
		"Account inactivated. Contact system administrator.":    {53, unproven, ""},
		"unauthenticated bind (DN with no password) disallowed": {53, unproven, ""},
		"Inappropriate authentication":                          {48, unproven, ""},
	} {
		refused := OfBind(ldap.NewError(want.result, errors.New(words)))
		require.NotNil(t, refused, words)
		assert.Equal(t, want.about, refused.Code != "", words)
		assert.Equal(t, want.code, refused.Code, words)
		assert.NotContains(t, refused.Words, "\x00")
	}
	for _, result := range []uint16{ldap.LDAPResultBusy, ldap.LDAPResultUnavailable, ldap.ErrorNetwork, ldap.LDAPResultOther, ldap.LDAPResultConfidentialityRequired} {
		assert.Nil(t, OfBind(ldap.NewError(result, errors.New("later"))), "%d is no refusal", result)
	}
	assert.Nil(t, OfBind(errors.New("data 52e")), "not said by a directory")
}
