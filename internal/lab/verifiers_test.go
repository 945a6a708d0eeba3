package lab_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A role whose verifier is md5 has clients that may know nothing else. That it becomes
// SCRAM is told before; where the system is set to keep it, it stays.
func TestVerifiersOfOldRoles(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.88", 5432)
	d.AllowMD5(t)
	d.Run(t, "SET password_encryption='md5'; CREATE ROLE svc_old LOGIN PASSWORD '"+lab.AccountPassword+"'; GRANT berth_owner TO svc_old;")
	kept := func(role string) string {
		return strings.TrimSpace(d.Run(t, "SELECT left(rolpassword, 3) FROM pg_authid WHERE rolname = '"+role+"';"))
	}
	require.Equal(t, "md5", kept("svc_old"))
	require.Equal(t, "SCR", kept("svc_berth1"))
	target := d.Target("bookings")
	refs := map[string]connect.AccountRef{}
	_, err := postgres.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			refs[a.Name] = connect.AccountRef{StableID: a.StableID, Name: a.Name}
		}
		return nil
	})
	require.NoError(t, err)
	old, next := secret.New(lab.AccountPassword), secret.New("Another-Passw0rd-2")
	tells := func(option, role string, current secret.Value) string {
		target.Options = map[string]string{postgres.OptionVerifier: option}
		ref := refs[role]
		lines := postgres.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{Change: &ref, Current: current}})
		if i := slices.IndexFunc(lines, func(c connect.Checked) bool { return strings.HasPrefix(c.What, "clients of") }); i >= 0 {
			return lines[i].Result
		}
		return ""
	}
	assert.Equal(t, connect.CheckWarning, tells("scram", "svc_old", old))
	assert.Equal(t, connect.CheckOK, tells("keep", "svc_old", old))
	assert.Empty(t, tells("scram", "svc_berth1", old))
	assert.Empty(t, tells("keep", "svc_berth1", old))
	assert.Equal(t, connect.CheckUnchecked, tells("scram", "svc_old", next), "a wrong password says nothing")
	assert.Equal(t, connect.CheckFailed, tells("keep", "svc_old", next))

	set := func(option, role string, to connect.Accepted) error {
		target.Options = map[string]string{postgres.OptionVerifier: option}
		return postgres.Connector{}.Accept(t.Context(), target, connect.Point{Account: refs[role]}, connect.Values{Old: old, New: next}, to)
	}
	accepted := func(role string, value secret.Value) bool {
		v, err := postgres.Connector{}.Verify(t.Context(), target, refs[role], value)
		require.NoError(t, err)
		return v.Accepted
	}
	require.NoError(t, set("keep", "svc_old", connect.AcceptNew))
	assert.Equal(t, "md5", kept("svc_old"))
	assert.True(t, accepted("svc_old", next))
	assert.False(t, accepted("svc_old", old))
	require.NoError(t, set("keep", "svc_old", connect.AcceptOld))
	assert.Equal(t, "md5", kept("svc_old"))
	assert.True(t, accepted("svc_old", old))
	require.NoError(t, set("keep", "svc_berth1", connect.AcceptNew))
	assert.Equal(t, "SCR", kept("svc_berth1"), "what is new is not made old")
	require.NoError(t, set("scram", "svc_old", connect.AcceptNew))
	assert.Equal(t, "SCR", kept("svc_old"))
	assert.True(t, accepted("svc_old", next))
	assert.Equal(t, estate.KindPostgreSQL, target.Kind)
	// Not known is not guessed: nothing is changed.
	d.Run(t, "SET password_encryption='md5'; ALTER ROLE svc_old PASSWORD 'somebody-elses-1';")
	require.ErrorContains(t, set("keep", "svc_old", connect.AcceptNew), "nothing was changed")
}
