package lab_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

func fixture(c connect.Connector, d *lab.DataStore) conformance.Fixture {
	return conformance.Fixture{Connector: c, Target: d.Target("db"), Account: "svc_berth1", Twin: "svc_berth2", Password: secret.New(lab.AccountPassword), DeadAddress: "127.0.0.250"}
}

func TestPostgreSQLConforms(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.71", 55431)
	d.Run(t, "CREATE ROLE berth_reader NOLOGIN; CREATE ROLE svc_berth2 LOGIN CREATEDB; GRANT berth_reader TO svc_berth2; ALTER ROLE svc_berth2 SET statement_timeout = '5s';\n"+
		"ALTER ROLE svc_berth1 SET role = 'berth_owner'; ALTER ROLE svc_berth1 SET search_path = \"$user\", bookings, public; ALTER ROLE svc_berth1 IN DATABASE bookings SET application_name = 'O''Hara''s \\ till'; ALTER ROLE svc_berth1 CONNECTION LIMIT 40")
	conformance.Run(t, fixture(postgres.Connector{}, d))
	assert.NotContains(t, d.Log(t), "Conformance-Passw0rd", "the clear value is not in the server's log")
	assert.Contains(t, d.Log(t), "SCRAM-SHA-256$4096:")
	// The two that took turns have the same of everything.
	const has = "SELECT string_agg(COALESCE(d.datname, '-') || ' ' || array_to_string(s.setconfig, ' '), '; ' ORDER BY 1) FROM pg_db_role_setting s LEFT JOIN pg_database d ON d.oid = s.setdatabase WHERE s.setrole = 'svc_berth%[1]d'::regrole" +
		" UNION ALL SELECT concat_ws(' ', rolinherit, rolcreatedb, rolconnlimit, rolvaliduntil) FROM pg_roles WHERE rolname = 'svc_berth%[1]d'" +
		" UNION ALL SELECT string_agg(roleid::regrole::text, ' ') FROM pg_auth_members WHERE member = 'svc_berth%[1]d'::regrole"
	first := d.Run(t, fmt.Sprintf(has, 1))
	assert.Contains(t, first, "search_path=\"$user\", bookings, public")
	assert.Equal(t, first, d.Run(t, fmt.Sprintf(has, 2)))
	// Superusers are out of reach for the narrow steward, and the rehearsal says so.
	accounts, _ := read(t, postgres.Connector{}, d)
	assert.Equal(t, []string{"berth_owner"}, accounts["svc_berth1"].Groups)
	boss := accounts["boss1"]
	err := connect.SetPassword(t.Context(), postgres.Connector{}, d.Target("db"), connect.AccountRef{StableID: boss.StableID, Name: boss.Name}, secret.New("Any-Passw0rd.1"))
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
	lines := postgres.Connector{}.Rehearse(t.Context(), d.Target("db"), []connect.Intention{{Change: &connect.AccountRef{StableID: boss.StableID, Name: boss.Name}}})
	assert.Equal(t, connect.CheckFailed, lines[1].Result)
	d.Run(t, "ALTER ROLE svc_berth1 VALID UNTIL '2020-01-01'")
	accounts, _ = read(t, postgres.Connector{}, d)
	assert.Equal(t, 2020, accounts["svc_berth1"].PasswordExpires.Year())
	verdict, err := postgres.Connector{}.Verify(t.Context(), d.Target("db"), connect.AccountRef{Name: "svc_berth1"}, secret.New(lab.AccountPassword))
	require.NoError(t, err)
	assert.False(t, verdict.Accepted)
	// Two roles that take turns, until one of them has something of its own.
	d.Run(t, "CREATE ROLE tide_reader; CREATE ROLE tide_a LOGIN IN ROLE tide_reader; CREATE ROLE tide_b LOGIN IN ROLE tide_reader")
	accounts, _ = read(t, postgres.Connector{}, d)
	assert.Equal(t, [2]string{"tide_b", ""}, [2]string{accounts["tide_a"].Pair, accounts["tide_a"].PairNot})
	d.Run(t, "CREATE TABLE tides (height int); GRANT SELECT ON tides TO tide_b")
	accounts, _ = read(t, postgres.Connector{}, d)
	assert.Contains(t, accounts["tide_a"].PairNot, "tide_b itself owns or was granted 1 objects")
	d.Run(t, "REVOKE pg_read_all_stats FROM mossmgr")
	_, coverage := read(t, postgres.Connector{}, d)
	assert.False(t, coverage.Complete[connect.ScopeSessions])
	assert.Contains(t, coverage.Why[connect.ScopeSessions], "pg_read_all_stats")
}

func TestMariaDBConforms(t *testing.T) {
	d := lab.MariaDB(t, "127.0.0.72", 53361)
	permit := preparation(t, mariadb.Connector{}.Prepare(d.Target("db"), connect.Known{}), connect.ForEnd).Text
	d.Run(t, permit)
	conformance.Run(t, fixture(mariadb.Connector{}, d))
	d.Run(t, strings.NewReplacer("GRANT", "REVOKE", " TO ", " FROM ").Replace(permit))
	accounts, coverage := read(t, mariadb.Connector{}, d)
	assert.Equal(t, "svc_berth1@%", accounts["svc_berth1"].DN)
	assert.True(t, coverage.Complete[connect.ScopeSessions], coverage.Why)
	overlap(t, mariadb.Connector{}, d, accounts["svc_berth1"])
	root := accounts["root"]
	err := connect.SetPassword(t.Context(), mariadb.Connector{}, d.Target("db"), connect.AccountRef{StableID: root.StableID, Name: root.Name}, secret.New("Any-Passw0rd.1"))
	assert.Equal(t, connect.CodeNotPermitted, connect.CodeOf(err), err)
	assert.False(t, connect.IsUnclear(err))
}

func TestRedisConforms(t *testing.T) {
	d := lab.Redis(t, "127.0.0.73", 56379)
	conformance.Run(t, fixture(redis.Connector{}, d))
	accounts, _ := read(t, redis.Connector{}, d)
	overlap(t, redis.Connector{}, d, accounts["svc_berth1"])
	saved := d.Run(t, "ACL LOAD\nACL GETUSER svc_berth1")
	assert.True(t, strings.HasPrefix(saved, "OK"), saved)
	verdict, err := redis.Connector{}.Verify(t.Context(), d.Target("db"), connect.AccountRef{Name: "svc_berth1"}, secret.New(lab.AccountPassword))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, "the change is kept in the server's file")
}

func read(t *testing.T, v connect.Visitor, d *lab.DataStore) (map[string]estate.Account, connect.Coverage) {
	t.Helper()
	out := map[string]estate.Account{}
	coverage, err := v.Visit(t.Context(), d.Target("db"), connect.VisitRequest{}, func(b connect.Batch) error {
		for _, a := range b.Accounts {
			out[a.Name] = a
		}
		return nil
	})
	require.NoError(t, err)
	return out, coverage
}

// overlap: two values are accepted at once, then one.
func overlap(t *testing.T, c interface {
	connect.Accepter
	connect.Verifier
}, d *lab.DataStore, a estate.Account,
) {
	t.Helper()
	ref := connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
	can, why, err := c.Overlaps(t.Context(), d.Target("db"), connect.Point{Account: ref})
	require.NoError(t, err)
	require.True(t, can, why)
	old, next := secret.New(lab.AccountPassword), secret.New("Overlap-Passw0rd.2")
	accepted := func(value secret.Value) bool {
		verdict, err := c.Verify(t.Context(), d.Target("db"), ref, value)
		require.NoError(t, err)
		return verdict.Accepted
	}
	require.NoError(t, c.Accept(t.Context(), d.Target("db"), connect.Point{Account: ref}, connect.Values{Old: old, New: next}, connect.AcceptBoth))
	assert.True(t, accepted(old))
	assert.True(t, accepted(next))
	require.NoError(t, connect.SetPassword(t.Context(), c, d.Target("db"), ref, next))
	assert.False(t, accepted(old))
	assert.True(t, accepted(next))
	require.NoError(t, connect.SetPassword(t.Context(), c, d.Target("db"), ref, old))
}
