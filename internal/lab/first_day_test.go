package lab_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// On the first day nobody gives away a right to change anything. What can be read with
// none is read; what it would need next is told, and is never more than reading takes.
func TestTheFirstDay(t *testing.T) {
	pg, my, rd := lab.PostgreSQL(t, "127.0.0.52", 5432), lab.MariaDB(t, "127.0.0.53", 3306), lab.Redis(t, "127.0.0.54", 56354)
	ol, ad := lab.OpenLDAP(t, "127.0.0.55", 636, 0, 0), lab.Samba(t, "127.0.0.56")
	as := func(target connect.Target, account string) connect.Target {
		target.Steward = connect.Steward{Account: account, Password: secret.New(lab.AccountPassword)}
		return target
	}
	visit := func(c connect.Connector, target connect.Target) (int, connect.Coverage, error) {
		n := 0
		coverage, err := c.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error { n += len(b.Accounts); return nil })
		return n, coverage, err
	}
	for name, c := range map[string]struct {
		connector connect.Connector
		target    connect.Target
		complete  []string
		needs     string // of the first scope that was not read
		grant     func(*testing.T)
	}{
		"PostgreSQL": {postgres.Connector{}, as(pg.Target("pg"), "svc_berth1"), []string{connect.ScopeAccounts}, "GRANT pg_read_all_stats TO svc_berth1", func(t *testing.T) { pg.Run(t, "GRANT pg_read_all_stats TO svc_berth1;") }},
		"MariaDB": {mariadb.Connector{}, as(my.Target("my"), "svc_berth1"), nil, "GRANT SELECT ON mysql.global_priv TO this account, and PROCESS on *.* to see sessions", func(t *testing.T) {
			my.Run(t, "GRANT SELECT ON mysql.global_priv TO svc_berth1@'%'; GRANT PROCESS ON *.* TO svc_berth1@'%';")
		}},
		"Redis":    {redis.Connector{}, as(rd.Target("rd"), "svc_berth1"), nil, "ACL SETUSER svc_berth1 +acl|list +client|list +ping", func(t *testing.T) { rd.Run(t, "ACL SETUSER svc_berth1 +acl|list +client|list +ping") }},
		"OpenLDAP": {directory.Connector{}, as(ol.Target("ol"), ol.DN("svc-berth")), []string{connect.ScopeAccounts}, "", nil},
		"Samba":    {directory.Connector{}, as(ad.Target("ad"), ad.DN("svc-berth")), []string{connect.ScopeAccounts}, "", nil},
	} {
		t.Run(name, func(t *testing.T) {
			n, coverage, err := visit(c.connector, c.target)
			for _, scope := range c.complete {
				assert.True(t, coverage.Complete[scope], "%s: %s", scope, coverage.Why[scope])
			}
			assert.Equal(t, len(c.complete) > 0, err == nil, "%v", err)
			assert.Equal(t, len(c.complete) > 0, n > 0)
			if c.needs == "" {
				assert.True(t, c.connector.Check(t.Context(), c.target).OK())
				return
			}
			why := ""
			for _, words := range coverage.Why {
				why = words
			}
			assert.Contains(t, why, c.needs)
			c.grant(t) // just what it said
			n, coverage, err = visit(c.connector, c.target)
			require.NoError(t, err)
			assert.Positive(t, n)
			assert.Empty(t, coverage.Why)
			report := c.connector.Check(t.Context(), c.target)
			assert.True(t, report.OK(), "%+v", report.Stages)
		})
	}
}
