package access_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
)

func person(name string, roles ...string) access.Actor {
	return access.Actor{Name: name, Roles: roles}
}

// What each role may do besides reading, written down apart from the table.
func TestRoles(t *testing.T) {
	reading := func(action access.Action) bool {
		for _, word := range []string{"list-", "get-", "resolve-", "watch-", "search"} {
			if strings.HasPrefix(string(action), word) {
				return true
			}
		}
		return false
	}
	own := []access.Action{"add-token", "change-own-password", "keep-setting", "revoke-token", "end-session", "set-up", "sign-in", "sign-out"}
	may := map[string][]access.Action{
		"nobody": {},
		"viewer": {},
		"approver": {
			"approve", "freeze", "approve-host-key", "approve-listed-keys", "refuse-approval", "trust-endpoint",
		},
		"auditor": {"stop-trace", "preview-configuration", "export-ledger", "prove-ledger", "verify-ledger"},
		"operator": {
			"preview-configuration",
			"add-system", "cancel-survey", "change-system", "check-system", "confirm-absence", "decide-copy", "decide-rotation", "declare-use", "explain-dependent",
			"import-systems", "import-uses", "look-again", "note-credential", "override-rotation", "refuse-approval", "preview-rule", "preview-policy", "preview-window", "preview-charter", "draft-charter", "check-charter", "rehearse-amendment", "rehearse-ends", "start-amendment", "decide-amendment", "start-proof", "stop-proof", "run-probe", "check-managed", "rehearse-managed", "rehearse-permit", "rehearse-hosts", "rehearse-removal", "start-trace", "stop-trace", "freeze", "thaw", "add-batch", "start-batch", "stop-batch", "retry-batch", "rehearse", "rehearse-undo", "release-custody", "remove-check",
			"remove-common-option", "set-check", "set-common-option", "set-limit", "start-dependents", "start-rotation", "start-survey", "take-custody", "trust-endpoint",
			"verify-all-custody", "verify-custody", "withdraw-use", "retry-messages",
		},
		"administrator": {
			"preview-configuration", "apply-configuration",
			"add-system", "add-user", "change-system", "change-user", "check-system", "export-ledger", "import-systems", "drop-label", "freeze", "preview-policy", "preview-rule", "preview-window", "preview-charter", "draft-charter", "check-charter", "rehearse-amendment", "rehearse-ends", "start-amendment", "decide-amendment", "start-proof", "stop-proof", "run-probe", "check-managed", "rehearse-managed", "rehearse-permit", "rehearse-hosts", "rehearse-removal", "start-trace", "stop-trace", "save-charter", "remove-charter", "put-label", "add-tandem", "remove-tandem", "remove-order", "remove-policy", "remove-window", "save-order", "save-policy", "save-window", "thaw", "prove-ledger", "refuse-approval", "remove-rule", "save-rule",
			"remove-common-option", "remove-recipient", "remove-requirement", "save-requirement", "remove-steward", "remove-system", "retry-messages", "save-recipient", "save-steward", "test-recipient", "set-common-option", "trust-endpoint", "verify-ledger",
		},
	}
	for role, want := range may {
		var got []access.Action
		for _, action := range access.Actions() {
			if !reading(action) && !slices.Contains(own, action) && access.Decide(person("x", role), action, access.Object{}) == nil {
				got = append(got, action)
			}
		}
		assert.ElementsMatch(t, want, got, role)
	}
	for _, action := range own {
		assert.NoError(t, access.Decide(person("x"), action, access.Object{}), action)
	}
	for _, secret := range []access.Action{"list-users", "list-stewards", "list-ledger", "get-checkpoint"} {
		assert.ErrorIs(t, access.Decide(person("x", "viewer"), secret, access.Object{}), access.ErrDenied, secret)
	}
	for _, action := range access.Actions() {
		if reading(action) {
			assert.Equal(t, action == "get-status" || action == "get-me" || action == "get-settings" || action == "list-tokens" || action == "list-sessions", access.Decide(person("x"), action, access.Object{}) == nil, "%s without a role", action)
		}
	}
}

// The object decides as well as the role.
func TestDuties(t *testing.T) {
	asked := access.Object{Kind: "approval", Name: "4", AskedBy: "Ines"}
	require.ErrorIs(t, access.Decide(person("ines", access.Roles()...), access.Approve, asked), app.ErrRefused, "nobody approves what they asked for, in any spelling")
	require.NoError(t, access.Decide(person("ola", "approver"), access.Approve, asked))
	require.ErrorIs(t, access.Decide(person("ola", "operator"), access.Approve, asked), access.ErrDenied)
	require.NoError(t, access.Decide(person("ines", "operator"), access.RefuseApproval, asked), "one's own is withdrawn")
	require.ErrorIs(t, access.Decide(person("ben", "operator"), access.RefuseApproval, asked), access.ErrDenied)
	require.NoError(t, access.Decide(person("ola", "approver"), access.RefuseApproval, asked))
	token := access.Object{Kind: "token", Name: "7", Owner: "ines"}
	require.NoError(t, access.Decide(person("ines"), access.RevokeToken, token))
	require.ErrorIs(t, access.Decide(person("ben", "operator"), access.RevokeToken, token), access.ErrDenied)
	require.NoError(t, access.Decide(person("ben", "administrator"), access.RevokeToken, token))
	session := access.Object{Kind: "session", Name: "9f", Owner: "ines"}
	require.NoError(t, access.Decide(person("ines"), access.EndSession, session))
	require.ErrorIs(t, access.Decide(person("ben", "operator", "approver", "auditor"), access.EndSession, session), access.ErrDenied)
	require.NoError(t, access.Decide(person("ben", "administrator"), access.EndSession, session))
	require.ErrorIs(t, access.Decide(person(""), access.RevokeToken, access.Object{Kind: "token"}), access.ErrDenied, "nobody owns nothing")
}

// The product's own acts need no role; nobody else passes for it.
func TestService(t *testing.T) {
	require.NoError(t, access.Decide(access.Service(), access.StartSurvey, access.Object{}))
	require.NoError(t, access.Decide(access.Following(person("ben", "operator")), access.SaveSteward, access.Object{}))
	assert.Equal(t, "ben", access.Following(person("ben")).Name)
	assert.True(t, access.Service().IsService())
	assert.False(t, access.Following(person("ben")).IsService())
	for _, name := range []string{"service", "Service", ""} {
		require.ErrorIs(t, access.Decide(person(name), access.StartSurvey, access.Object{}), access.ErrDenied)
		assert.False(t, person(name).IsService())
	}
	require.ErrorIs(t, access.Decide(person("ines", access.Roles()...), "no-such-action", access.Object{}), access.ErrDenied)
	assert.False(t, access.Known("no-such-action"))
	assert.True(t, access.Public("sign-in"))
	assert.False(t, access.Public("sign-out"))
}
