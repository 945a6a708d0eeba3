package lab_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/lab"
)

// modelOf reads the rights of a system and makes a model of them.
func modelOf(t *testing.T, c connect.Connector, target connect.Target, matches privilege.Matcher) (*privilege.Model, connect.RightsCoverage) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var all connect.Rights
	var problems []connect.Unread
	coverage, err := c.Rights(ctx, target, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
		require.NotNil(t, b.Rights)
		all.Principals = append(all.Principals, b.Rights.Principals...)
		all.Memberships = append(all.Memberships, b.Rights.Memberships...)
		all.Lists = append(all.Lists, b.Rights.Lists...)
		problems = append(problems, b.Problems...)
		return nil
	})
	require.NoError(t, err)
	for _, p := range problems {
		t.Logf("not read: %+v", p)
	}
	return privilege.NewModel(privilege.NewGraph(all.Principals, all.Memberships), all.Lists, matches), coverage
}

// atOnce reports whether a decision needs no step such as SET ROLE first.
func atOnce(d privilege.Decision) bool {
	return d.Allowed && slices.ContainsFunc(d.By, func(r privilege.Right) bool {
		return !slices.ContainsFunc(r.Terms, func(term string) bool {
			return strings.HasPrefix(term, "after SET ROLE") || strings.HasPrefix(term, "only in ")
		})
	})
}

func pick[T any](r *rand.Rand, of []T) T { return of[r.IntN(len(of))] }

// TestPostgreSQLGrants makes 500 grants at random, roles in roles, with and without
// inheritance, and compares what we say of each role, object and right with what the
// server's own functions do.
func TestPostgreSQLGrants(t *testing.T) {
	d := lab.PostgreSQL(t, "127.0.0.151", 55551)
	r := rand.New(rand.NewPCG(15, 500))
	var script strings.Builder
	roles := []string{"PUBLIC", "svc_berth1", "berth_owner", "boss1", "pg_read_all_data", "pg_write_all_data"}
	for i := range 24 {
		name := fmt.Sprintf("role%d", i)
		roles = append(roles, name)
		fmt.Fprintf(&script, "CREATE ROLE %s %s %s %s;\n", name, pick(r, []string{"LOGIN", "NOLOGIN"}), pick(r, []string{"INHERIT", "INHERIT", "NOINHERIT"}), pick(r, []string{"", "", "", "", "", "SUPERUSER", "CREATEDB", "CREATEROLE", "REPLICATION BYPASSRLS"}))
	}
	for range 30 { // a role never lies in itself: the server refuses it
		of, to := r.IntN(len(roles)-1)+1, r.IntN(24)+6
		if of < to && to >= 6 {
			fmt.Fprintf(&script, "GRANT %s TO %s%s;\n", roles[of], roles[to], pick(r, []string{"", "", " WITH ADMIN OPTION"}))
		}
	}
	tables, verbsOf := []string{}, map[string][]string{"TABLE": {"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"}, "SEQUENCE": {"USAGE", "SELECT", "UPDATE"}, "SCHEMA": {"USAGE", "CREATE"}, "FUNCTION": {"EXECUTE"}}
	objects := map[string][]string{}
	for s := range 3 {
		schema := fmt.Sprintf("s%d", s)
		fmt.Fprintf(&script, "CREATE SCHEMA %s AUTHORIZATION %s;\n", schema, roles[1+r.IntN(3)])
		objects["SCHEMA"] = append(objects["SCHEMA"], schema)
		for i := range 5 {
			name := fmt.Sprintf("%s.t%d", schema, i)
			fmt.Fprintf(&script, "CREATE TABLE %s (a int, b text, \"odd column\" int); CREATE SEQUENCE %s.q%d; CREATE FUNCTION %s.f%d(x int, y text) RETURNS int LANGUAGE sql AS 'SELECT 1' %s;\n", name, schema, i, schema, i, pick(r, []string{"", "SECURITY DEFINER"}))
			if r.IntN(3) == 0 {
				fmt.Fprintf(&script, "ALTER TABLE %s OWNER TO %s;\n", name, pick(r, roles[6:]))
			}
			tables = append(tables, name)
			objects["SEQUENCE"] = append(objects["SEQUENCE"], fmt.Sprintf("%s.q%d", schema, i))
			objects["FUNCTION"] = append(objects["FUNCTION"], fmt.Sprintf("%s.f%d(x integer, y text)", schema, i))
		}
	}
	fmt.Fprintf(&script, "CREATE VIEW s0.v AS SELECT 1 AS a;\n")
	objects["TABLE"] = append(tables, "s0.v")
	for n := 0; n < 500; n++ {
		kind := pick(r, []string{"TABLE", "TABLE", "TABLE", "SEQUENCE", "SCHEMA", "FUNCTION"})
		verb, object, to := pick(r, verbsOf[kind]), pick(r, objects[kind]), pick(r, roles)
		if n%20 == 19 {
			fmt.Fprintf(&script, "REVOKE ALL ON %s %s FROM %s;\n", kind, object, to)
			continue
		}
		if kind == "TABLE" && object != "s0.v" && slices.Contains([]string{"SELECT", "INSERT", "UPDATE", "REFERENCES"}, verb) && r.IntN(5) == 0 {
			verb += pick(r, []string{" (a)", " (b)", ` ("odd column")`})
		} else if r.IntN(12) == 0 {
			verb = "ALL"
		}
		end := ""
		if to != "PUBLIC" && r.IntN(6) == 0 {
			end = " WITH GRANT OPTION"
		}
		fmt.Fprintf(&script, "GRANT %s ON %s %s TO %s%s;\n", verb, kind, object, to, end)
	}
	script.WriteString("ALTER DEFAULT PRIVILEGES FOR ROLE role1 IN SCHEMA s1 GRANT SELECT ON TABLES TO role2;\n")
	d.Run(t, "\\c bookings\n"+script.String())
	model, coverage := modelOf(t, postgres.Connector{}, d.Target("db"), nil)
	assert.True(t, coverage.Complete, coverage.Why)

	ask := "SELECT r.rolname, k, n, v, c, CASE k WHEN 'table' THEN CASE c WHEN '' THEN has_table_privilege(r.oid, n, v) ELSE has_column_privilege(r.oid, n, c, v) END WHEN 'sequence' THEN has_sequence_privilege(r.oid, n, v) WHEN 'schema' THEN has_schema_privilege(r.oid, n, v) WHEN 'function' THEN has_function_privilege(r.oid, n, v) ELSE has_database_privilege(r.oid, n, v) END FROM pg_roles r, (VALUES "
	var values []string
	add := func(kind, name, verb, column string) {
		values = append(values, fmt.Sprintf("('%s','%s','%s','%s')", kind, name, verb, column))
	}
	for kind, names := range objects {
		for _, name := range names {
			for _, verb := range verbsOf[kind] {
				add(strings.ToLower(kind), name, verb, "")
				if kind == "TABLE" && slices.Contains([]string{"SELECT", "INSERT", "UPDATE", "REFERENCES"}, verb) && name != "s0.v" {
					add("table", name, verb, "b")
					add("table", name, verb, "odd column")
				}
			}
		}
	}
	for _, verb := range []string{"CONNECT", "CREATE", "TEMPORARY"} {
		add("database", "bookings", verb, "")
	}
	// Functions are asked for by the types of their arguments alone.
	answers := d.Run(t, "\\c bookings\n\\f '|'\n"+strings.ReplaceAll(ask+strings.Join(values, ",")+") AS q(k, n, v, c) WHERE r.rolname NOT LIKE 'pg%'", "(x integer, y text)", "(integer, text)"))
	ids := map[string]string{}
	for _, p := range principalsOf(model) {
		ids[p.Name] = p.ID
	}
	compared, yes, different := 0, 0, 0
	for line := range strings.Lines(answers) {
		f := strings.Split(strings.TrimSpace(line), "|")
		if len(f) != 6 {
			continue
		}
		kind, name := f[1], "bookings."+strings.ReplaceAll(f[2], "(integer, text)", "(x integer, y text)")
		switch {
		case f[2] == "s0.v":
			kind = "view"
		case kind == "database":
			name = f[2]
		}
		q := privilege.Question{Verb: strings.ToLower(f[3]), Object: privilege.Object{Kind: kind, Name: name}, What: f[4]}
		if f[4] == "" {
			q.What = "\x00the whole" // a right to a column is none to the table
		}
		decision := model.Decide(ids[f[0]], q)
		compared++
		if f[5] == "t" {
			yes++
		}
		if atOnce(decision) != (f[5] == "t") {
			if different++; different < 12 {
				t.Errorf("%s %s on %s %s %q: the server says %s, we %+v", f[0], f[3], kind, name, f[4], f[5], decision)
			}
		}
	}
	t.Logf("%d answers compared, %d of them yes, %d differ", compared, yes, different)
	assert.Greater(t, compared, 4000)
	assert.Greater(t, yes, 500)

	// What stands for members of a role without inheritance is told with the step.
	d.Run(t, "CREATE ROLE holder; CREATE ROLE stepper LOGIN NOINHERIT IN ROLE holder; GRANT CONNECT ON DATABASE postgres TO holder; REVOKE CONNECT ON DATABASE postgres FROM PUBLIC; GRANT CONNECT ON DATABASE postgres TO mossmgr;")
	model, _ = modelOf(t, postgres.Connector{}, d.Target("db"), nil)
	for _, h := range model.Who(privilege.Question{Verb: "connect", Object: privilege.Object{Kind: "database", Name: "postgres"}}) {
		if h.Principal.Name == "stepper" {
			require.Len(t, h.By, 1)
			assert.Equal(t, []string{"after SET ROLE holder"}, h.By[0].Terms)
			return
		}
	}
	t.Error("stepper is not among those who may")
}

func principalsOf(m *privilege.Model) (out []privilege.Principal) {
	m.Graph.Each([]privilege.Kind{privilege.KindAccount, privilege.KindRole, privilege.KindGroup, privilege.KindEveryone}, func(p privilege.Principal, _ privilege.Set) { out = append(out, p) })
	return out
}

var refusedAt = regexp.MustCompile(`ERROR (\d+) \(\w+\) at line (\d+)`)

// TestMariaDBGrants makes grants at random and lets every account try what it may.
func TestMariaDBGrants(t *testing.T) {
	d := lab.MariaDB(t, "127.0.0.152", 55552)
	r := rand.New(rand.NewPCG(15, 501))
	var script strings.Builder
	var users, roles []string
	for i := range 12 {
		users = append(users, fmt.Sprintf("u%d", i))
		fmt.Fprintf(&script, "create user u%d@'%%' identified by 'Pass-word-1';\n", i)
	}
	for i := range 6 {
		roles = append(roles, fmt.Sprintf("r%d", i))
		fmt.Fprintf(&script, "create role r%d;\n", i)
	}
	for i := range 5 {
		fmt.Fprintf(&script, "grant r%d to r%d;\n", i, i+1)
	}
	for i, u := range users {
		role := pick(r, roles)
		fmt.Fprintf(&script, "grant %s to %s@'%%';\n", role, u)
		if i%2 == 0 {
			fmt.Fprintf(&script, "set default role %s for %s@'%%';\n", role, u)
		}
	}
	verbs := []string{"select", "insert", "update", "delete"}
	var tables []string
	for _, db := range []string{"bookings", "book_ings", "bookxings", "tides"} {
		fmt.Fprintf(&script, "create database if not exists %s;\n", db)
		for i := range 4 {
			tables = append(tables, fmt.Sprintf("%s.t%d", db, i))
			fmt.Fprintf(&script, "create table %s.t%d (a int, b int);\n", db, i)
		}
	}
	grantees := append([]string{"public"}, roles...)
	for _, u := range users {
		grantees = append(grantees, u+"@'%'")
	}
	for n := range 500 {
		verb, to := pick(r, verbs), pick(r, grantees)
		if to == "public" && n%4 != 0 {
			continue
		}
		switch r.IntN(12) {
		case 0:
			if to != "public" {
				fmt.Fprintf(&script, "grant %s on *.* to %s;\n", pick(r, []string{"reload", "process", "create user", "super", "replication slave", "file", "show databases"}), to)
			}
		case 1:
			fmt.Fprintf(&script, "grant %s on %s.* to %s;\n", verb, pick(r, []string{"`bookings`", "`book_ings`", "`book\\_ings`", "`tide%%`", "`tides`"}), to)
		case 2:
			fmt.Fprintf(&script, "grant %s (a) on %s to %s;\n", pick(r, []string{"select", "insert", "update"}), pick(r, tables), to)
		default:
			fmt.Fprintf(&script, "grant %s on %s to %s;\n", verb, pick(r, tables), to)
		}
	}
	script.WriteString("grant all privileges on *.* to u11@'%' with grant option;\ngrant select on mysql.* to mossmgr@'%';\nflush privileges;\n")
	d.Run(t, strings.ReplaceAll(script.String(), "%%", "%"))
	model, coverage := modelOf(t, mariadb.Connector{}, d.Target("db"), nil)
	assert.True(t, coverage.Complete, coverage.Why)
	compared, yes, different, unsure := 0, 0, 0, 0
	for _, u := range users {
		var try []string
		var questions []privilege.Question
		for _, table := range tables {
			for _, q := range []struct{ verb, column, statement string }{
				{"select", "", "select a, b from %s"}, {"insert", "", "insert into %s values (1, 1)"}, {"update", "", "update %s set a = 1, b = 1"}, {"delete", "", "delete from %s"}, {"select", "a", "select a from %s"}, {"update", "a", "update %s set a = 1"},
			} {
				try = append(try, "start transaction; "+fmt.Sprintf(q.statement, table)+"; rollback;")
				what := q.column
				if what == "" {
					what = "\x00the whole"
				}
				questions = append(questions, privilege.Question{Verb: q.verb, Object: privilege.Object{Kind: "table", Name: table}, What: what})
			}
		}
		try = append(try, "flush status;")
		questions = append(questions, privilege.Question{Verb: "reload"})
		cmd := exec.Command("mariadb", "--no-defaults", "-u"+u, "-pPass-word-1", "-S", filepath.Join(d.Folder(), "s.sock"), "-sN", "--force")
		cmd.Stdin = strings.NewReader(strings.Join(try, "\n") + "\n")
		out, _ := cmd.CombinedOutput()
		refused := map[string]bool{}
		for _, m := range refusedAt.FindAllStringSubmatch(string(out), -1) {
			refused[m[2]] = true
			require.Contains(t, []string{"1142", "1143", "1227", "1044"}, m[1], string(out))
		}
		for i, q := range questions {
			said := !refused[fmt.Sprint(i+1)]
			decision := model.Decide("account:"+u+"@%", q)
			compared++
			if said {
				yes++
			}
			if !decision.Allowed && decision.Unsure != "" {
				unsure++
				continue
			}
			if atOnce(decision) != said {
				if different++; different < 12 {
					t.Errorf("%s %s on %s %q: the server says %v, we %+v", u, q.Verb, q.Object.Name, q.What, said, decision)
				}
			}
		}
	}
	t.Logf("%d attempts compared, %d of them allowed, %d differ, of %d we are not sure", compared, yes, different, unsure)
	assert.Greater(t, yes, 100)
	assert.Less(t, unsure, compared/20)

	// What the steward may not read is named with the statement that lets it.
	d.Run(t, "revoke select on mysql.* from mossmgr@'%';")
	_, coverage = modelOf(t, mariadb.Connector{}, d.Target("db"), nil)
	assert.False(t, coverage.Complete)
	assert.Contains(t, coverage.Why, "mysql.")
}

// TestRightsOfAHost reads a host and asks the host itself.
func TestRightsOfAHost(t *testing.T) {
	h := lab.NewHost(t, "rights", 31)
	h.Shell(t, "groupadd -g 3001 crew; groupadd -g 3002 quay; useradd -m -u 2001 -g crew berth; useradd -m -u 2002 -G quay tide; useradd -m -u 2003 fuel")
	h.Write(t, "/etc/sudoers.d/crew", "User_Alias DECK = %crew, !fuel\nCmnd_Alias UNITS = /usr/bin/systemctl restart berth.service, /usr/bin/systemctl stop *\nDECK ALL = NOPASSWD: UNITS, !/usr/bin/systemctl stop ssh.service\n%quay rights = (root) /usr/bin/journalctl\nfuel elsewhere = ALL\ntide ALL = (berth) ALL\nfuel ALL = )\n", 0o440)
	h.Write(t, "/etc/ssh/sshd_config.d/20-who.conf", "DenyUsers fuel\nAllowGroups crew quay mossmgr\n", 0o644)
	h.Write(t, "/etc/systemd/system/tidefeed.service", "[Service]\nUser=tide\nAmbientCapabilities=CAP_NET_BIND_SERVICE\nSupplementaryGroups=crew\nExecStart=/bin/sleep infinity\n[Install]\nWantedBy=multi-user.target\n", 0o644)
	h.Shell(t, "systemctl -q enable tidefeed.service")
	h.Boot(t)
	model, coverage := modelOf(t, unixhost.Connector{}, h.Target(), sudo.Matches)
	assert.True(t, coverage.Complete, coverage.Why)
	for _, command := range []string{"/usr/bin/systemctl restart berth.service", "/usr/bin/systemctl stop berth.service", "/usr/bin/systemctl stop ssh.service", "/usr/bin/systemctl restart ssh.service", "/bin/systemctl restart berth.service", "/usr/bin/journalctl -n 3", "/usr/bin/id"} {
		for _, as := range []string{"root", "berth"} {
			var may []string
			for _, who := range model.Who(privilege.Question{Verb: "run", What: command, As: as}) {
				if atOnce(who.Decision) { // what a unit gives counts within it
					may = append(may, who.Principal.Name)
				}
			}
			for _, user := range []string{"berth", "tide", "fuel", "mossmgr", "root", "nobody"} {
				_, err := h.TryShell(t.Context(), "sudo -l -U "+user+" -u "+as+" "+command)
				assert.Equal(t, err == nil || user == "root", slices.Contains(may, user), "%s runs %s as %s", user, command, as)
			}
		}
	}
	var in []string
	for _, who := range model.Who(privilege.Question{Verb: "sign in", Object: privilege.Object{Kind: "service", Name: "SSH server"}}) {
		in = append(in, who.Principal.Name)
	}
	assert.ElementsMatch(t, []string{"berth", "tide", "mossmgr"}, in)
	// The server itself lets in just these.
	h.Shell(t, "for u in berth tide fuel; do install -d -m700 -o $u -g $(id -g $u) /home/$u/.ssh; install -m600 -o $u /home/mossmgr/.ssh/authorized_keys /home/$u/.ssh/; done")
	for _, user := range []string{"berth", "tide", "fuel"} {
		target := h.Target()
		target.Steward.Account = user
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		assert.Equal(t, slices.Contains(in, user), unixhost.Connector{}.Check(ctx, target).OK(), user)
		cancel()
	}
	held := model.Who(privilege.Question{Verb: "has capability", What: "CAP_NET_BIND_SERVICE"})
	require.Len(t, held, 2, "%+v", held) // root has everything
	assert.Equal(t, "tide", held[1].Principal.Name)
	assert.Equal(t, []string{"only in tidefeed.service"}, held[1].By[0].Terms)
}

// TestRedisRights asks the server's own dry run.
func TestRedisRights(t *testing.T) {
	d := lab.Redis(t, "127.0.0.153", 55553)
	d.Run(t, "ACL SETUSER reader on nopass ~tide:* +@read -keys +config|get\n")
	d.Run(t, "ACL SETUSER writer on nopass ~* +set +@hash -hdel -@dangerous\n")
	model, coverage := modelOf(t, redis.Connector{}, d.Target("cache"), privilege.MatchCommands)
	assert.True(t, coverage.Complete)
	for _, command := range []string{"get tide:1", "set tide:1 x", "keys *", "hset tide:1 a b", "hdel tide:1 a", "config get x", "flushall", "del tide:1", "ping"} {
		words := strings.Fields(command)
		asked := words[0]
		if asked == "config" {
			asked += " " + words[1]
		}
		for _, user := range []string{"reader", "writer", "svc_berth1"} {
			said := strings.TrimSpace(d.Run(t, "ACL DRYRUN "+user+" "+command+"\n"))
			decision := model.Decide("user:"+user, privilege.Question{Verb: "run", What: asked})
			assert.Equal(t, said == "OK", decision.Allowed, "%s %s: %s, %+v", user, command, said, decision)
			assert.Empty(t, decision.Unsure)
		}
	}
}
