package lab_test

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/least"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// statementOf makes a statement about fares, pay and crew, each with columns a and b.
func statementOf(r *rand.Rand, maria bool) string {
	tables := []string{"fares", "pay", "crew"}
	r.Shuffle(3, func(i, j int) { tables[i], tables[j] = tables[j], tables[i] })
	x, y, z := tables[0], tables[1], tables[2]
	if maria {
		x, y, z = "tides."+x, "tides."+y, "tides."+z
	}
	both := []string{
		fmt.Sprintf("SELECT a FROM %s", x),
		fmt.Sprintf("SELECT f.a, (SELECT count(*) FROM %s) FROM %s f", y, x),
		fmt.Sprintf("SELECT * FROM %s f JOIN %s g ON g.a = f.a LEFT JOIN (SELECT a FROM %s) h ON h.a = g.a", x, y, z),
		fmt.Sprintf("WITH late AS (SELECT a FROM %s) SELECT late.a FROM late, %s g WHERE g.a = late.a", x, y),
		fmt.Sprintf("SELECT extract(year FROM now()), a FROM %s WHERE a IN (SELECT b FROM %s)", x, y),
		fmt.Sprintf("INSERT INTO %s (a, b) VALUES (1, 2)", x),
		fmt.Sprintf("INSERT INTO %s (a, b) SELECT a, b FROM %s", x, y),
		fmt.Sprintf("INSERT INTO %s (a, b) VALUES (1, 2) RETURNING a", x),
		fmt.Sprintf("UPDATE %s SET b = 5", x),
		fmt.Sprintf("UPDATE %s SET b = b + 1", x),
		fmt.Sprintf("UPDATE %s SET b = 5 WHERE a = 1", x),
		fmt.Sprintf("DELETE FROM %s", x),
		fmt.Sprintf("DELETE FROM %s WHERE a IN (SELECT a FROM %s)", x, y),
		fmt.Sprintf("SELECT a FROM %s UNION SELECT b FROM %s", x, y),
	}
	if maria {
		both = append(both, fmt.Sprintf("REPLACE INTO %s (a, b) VALUES (1, 2)", x), fmt.Sprintf("INSERT INTO %s (a, b) VALUES (1, 2) ON DUPLICATE KEY UPDATE b = b + 1", x))
	} else {
		both = append(both, fmt.Sprintf("UPDATE %s SET b = 5 FROM %s WHERE %s.a = %s.a", x, y, y, x), fmt.Sprintf("DELETE FROM %s USING %s WHERE %s.a = %s.a", x, y, x, y),
			fmt.Sprintf("INSERT INTO %s (a, b) VALUES (1, 2) ON CONFLICT (a) DO UPDATE SET b = %s.b + 1", x, x), fmt.Sprintf("INSERT INTO %s (a, b) VALUES (1, 2) ON CONFLICT (a) DO NOTHING", x), fmt.Sprintf("SELECT a FROM %s FOR UPDATE", x))
	}
	return both[r.Intn(len(both))]
}

// What a statement takes is read from its text: on the real servers it works with that, and
// with one thing less it does not.
func TestSmallestGrants(t *testing.T) {
	pg := lab.PostgreSQL(t, "127.0.0.160", 55560)
	pg.Run(t, "CREATE ROLE scratch LOGIN PASSWORD '"+lab.AccountPassword+"';\n\\c bookings\nCREATE TABLE fares (a int PRIMARY KEY, b int); CREATE TABLE pay (a int PRIMARY KEY, b int); CREATE TABLE crew (a int PRIMARY KEY, b int);\n")
	maria := lab.MariaDB(t, "127.0.0.160", 33360)
	maria.Run(t, "CREATE DATABASE tides; CREATE TABLE tides.fares (a int PRIMARY KEY, b int); CREATE TABLE tides.pay (a int PRIMARY KEY, b int); CREATE TABLE tides.crew (a int PRIMARY KEY, b int); CREATE USER scratch@'%' IDENTIFIED BY '"+lab.AccountPassword+"';")
	login := connect.Steward{Account: "scratch", Password: secret.New(lab.AccountPassword)}
	inPg, inMaria := pg.Target("db"), maria.Target("maria")
	inPg.Options, inPg.Steward, inMaria.Steward = map[string]string{"database": "bookings"}, login, login
	extra := 0
	for seed := range int64(80) {
		r := rand.New(rand.NewSource(seed))
		isMaria := seed%2 == 1
		var c connect.Connector = postgres.Connector{}
		target, of, run := inPg, least.Operation{Protocol: "sql", Kind: "postgresql", Database: "bookings"}, func(text string) { pg.Run(t, "\\c bookings\n"+text) }
		to := "scratch"
		if isMaria {
			c, target, of, run = mariadb.Connector{}, inMaria, least.Operation{Protocol: "sql", Kind: "mariadb"}, func(text string) { maria.Run(t, text) }
			to = "scratch@'%'"
		}
		of.Text = statementOf(r, isMaria)
		items, unread := least.Read([]least.Operation{of})
		require.Empty(t, unread, of.Text)
		var grants []string
		for _, i := range items {
			name := strings.TrimPrefix(strings.TrimPrefix(i.To, "table:"), "bookings.")
			grants = append(grants, strings.ToUpper(i.Do)+" ON "+name)
		}
		both := func(word, preposition string, list ...string) {
			var text strings.Builder
			for _, g := range list {
				text.WriteString(word + " " + g + " " + preposition + " " + to + ";\n")
			}
			run(text.String())
		}
		both("GRANT", "TO", grants...)
		tried, err := c.Try(t.Context(), target, of.Text)
		require.NoError(t, err)
		require.True(t, tried.OK, "%s with %v: %s", of.Text, grants, tried.Words)
		for _, g := range grants {
			both("REVOKE", "FROM", g)
			tried, err := c.Try(t.Context(), target, of.Text)
			require.NoError(t, err)
			if tried.OK {
				extra++
				t.Logf("%s works without %s", of.Text, g)
			}
			both("GRANT", "TO", g)
		}
		both("REVOKE", "FROM", grants...)
	}
	assert.Zero(t, extra, "rights that were read and are not needed")
}

// Who defines, changes or removes things needs what is read of the statements, and with one
// of that less they are refused.
func TestSmallestGrantsOfDefinitions(t *testing.T) {
	pg := lab.PostgreSQL(t, "127.0.0.162", 55562)
	pg.Run(t, "CREATE ROLE scratch LOGIN PASSWORD '"+lab.AccountPassword+"';\n\\c bookings\nCREATE TABLE fares (a int PRIMARY KEY, b int); CREATE SEQUENCE turns; CREATE VIEW late AS SELECT 1 AS a;\n")
	maria := lab.MariaDB(t, "127.0.0.162", 33362)
	maria.Run(t, "CREATE DATABASE tides; CREATE TABLE tides.fares (a int PRIMARY KEY, b int); CREATE USER scratch@'%' IDENTIFIED BY '"+lab.AccountPassword+"';")
	login := connect.Steward{Account: "scratch", Password: secret.New(lab.AccountPassword)}
	inPg, inMaria := pg.Target("db"), maria.Target("maria")
	inPg.Options, inPg.Steward, inMaria.Steward = map[string]string{"database": "bookings"}, login, login
	// How a right of a charter is given and taken there, as an administrator.
	change := func(isMaria, give bool, i charter.Item) string {
		kind, name, _ := strings.Cut(i.To, ":")
		word, to := map[bool]string{true: "GRANT ", false: "REVOKE "}[give], map[bool]string{true: " TO ", false: " FROM "}[give]
		switch {
		case isMaria && kind == "database":
			return word + strings.ToUpper(i.Do) + " ON " + name + ".*" + to + "scratch@'%';"
		case isMaria:
			return word + strings.ToUpper(i.Do) + " ON " + name + to + "scratch@'%';"
		case i.Do == "own":
			return "ALTER " + strings.ToUpper(kind) + " " + strings.TrimPrefix(name, "bookings.") + " OWNER TO " + map[bool]string{true: "scratch", false: "postgres"}[give] + ";"
		}
		return word + strings.ToUpper(i.Do) + " ON " + strings.ToUpper(kind) + " " + strings.TrimPrefix(name, "bookings.") + to + "scratch;"
	}
	tried := 0
	for _, c := range []struct {
		isMaria    bool
		text, undo string
	}{
		{false, "CREATE TABLE tolls (a int)", ""},
		{false, "CREATE VIEW early AS VALUES (1)", ""},
		{false, "CREATE SEQUENCE hours", ""},
		{false, "CREATE SCHEMA tides", ""},
		{false, "CREATE FUNCTION one() RETURNS int LANGUAGE sql AS 'VALUES (1)'", ""},
		{false, "CREATE INDEX fares_b ON fares (b)", ""},
		{false, "CREATE UNIQUE INDEX ON ONLY public.fares (b)", ""},
		{false, "ALTER TABLE fares ADD COLUMN c int", ""},
		{false, "ALTER SEQUENCE turns INCREMENT 2", ""},
		{false, "DROP TABLE fares", ""},
		{false, "DROP VIEW IF EXISTS late", ""},
		{false, "DROP SEQUENCE turns", ""},
		{true, "CREATE TABLE tides.tolls (a int)", "DROP TABLE IF EXISTS tides.tolls"},
		{true, "CREATE INDEX b ON tides.fares (b)", "ALTER TABLE tides.fares DROP INDEX IF EXISTS b"},
		{true, "ALTER TABLE tides.fares ADD COLUMN c int", "ALTER TABLE tides.fares DROP COLUMN IF EXISTS c"},
		{true, "DROP TABLE tides.fares", "CREATE TABLE IF NOT EXISTS tides.fares (a int PRIMARY KEY, b int)"},
		{true, "CREATE DATABASE hours", "DROP DATABASE IF EXISTS hours"},
		{true, "CREATE FUNCTION tides.one() RETURNS int RETURN 1", "DROP FUNCTION IF EXISTS tides.one"},
	} {
		var connector connect.Connector = postgres.Connector{}
		target, of, run := inPg, least.Operation{Protocol: "sql", Kind: "postgresql", Database: "bookings", Text: c.text}, func(text string) { pg.Run(t, "\\c bookings\n"+text) }
		if c.isMaria {
			connector, target, of, run = mariadb.Connector{}, inMaria, least.Operation{Protocol: "sql", Kind: "mariadb", Text: c.text}, func(text string) { maria.Run(t, text) }
		}
		items, unread := least.Read([]least.Operation{of})
		require.Empty(t, unread, c.text)
		require.NotEmpty(t, items, c.text)
		try := func() connect.Tried {
			out, err := connector.Try(t.Context(), target, c.text)
			require.NoError(t, err)
			if c.undo != "" {
				run(c.undo)
			}
			return out
		}
		for _, i := range items {
			run(change(c.isMaria, true, i))
		}
		done := try()
		require.True(t, done.OK, "%s with %v: %s", c.text, items, done.Words)
		for _, i := range items {
			run(change(c.isMaria, false, i))
			assert.False(t, try().OK, "%s works without %s", c.text, i.Words())
			run(change(c.isMaria, true, i))
			tried++
		}
		for _, i := range items {
			run(change(c.isMaria, false, i))
		}
	}
	assert.GreaterOrEqual(t, tried, 20)
}
