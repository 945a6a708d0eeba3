package lab_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/mariadb"
	"mossledger.example/moss/internal/connect/postgres"
	"mossledger.example/moss/internal/connect/redis"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/core/proving"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// tryout is a real system with a scratch account.
type tryout struct {
	connect.Connector
	steward, scratch connect.Target
	changes          []privilege.RightChange
}

func (w tryout) Take(ctx context.Context, i int) error {
	return w.Amend(ctx, w.steward, w.changes[i], true)
}

func (w tryout) Give(ctx context.Context, i int) error {
	return w.Amend(ctx, w.steward, w.changes[i], false)
}

func (w tryout) Try(ctx context.Context, step string) (bool, string, error) {
	tried, err := w.Connector.Try(ctx, w.scratch, step)
	return tried.OK, tried.Words, err
}

// proven tries a charter's rights on a real system, and compares what is needed with what the
// test knows. A job that lacks one of them is told from one that does not.
func proven(t *testing.T, c connect.Connector, steward connect.Target, matches privilege.Matcher, account estate.Account, login, charter string, job []string, want map[string]string) {
	t.Helper()
	_, changes, before := changesOf(t, c, steward, matches, account, charter)
	w := tryout{Connector: c, steward: steward, scratch: steward}
	w.scratch.Steward = connect.Steward{Account: login, Password: secret.New(lab.AccountPassword)}
	var rights []string
	for _, change := range changes {
		if change.Give { // what it has beside is left
			w.changes, rights = append(w.changes, change), append(rights, change.Words())
			require.NoError(t, w.Give(t.Context(), len(rights)-1))
		}
	}
	report, err := proving.Prove(t.Context(), rights, job, w)
	require.NoError(t, err)
	require.True(t, report.Sufficient, "%+v", report)
	got := map[string]string{}
	for _, item := range report.Items {
		got[item.Right] = item.Verdict
		for _, f := range item.Fails {
			got[item.Right] += ": " + f.Step
			assert.NotEmpty(t, f.Words, f.Step)
		}
	}
	assert.Equal(t, want, got, "%+v", report)
	for i := range rights {
		require.NoError(t, w.Take(t.Context(), i))
	}
	_, _, after := changesOf(t, c, steward, matches, account, charter)
	assert.Equal(t, before, after, "it has what it had before")
	none, err := proving.Prove(t.Context(), nil, job, w)
	require.NoError(t, err)
	assert.False(t, none.Sufficient, "without any of it the job does not work")
}

func TestProvenOnDataStores(t *testing.T) {
	pg := lab.PostgreSQL(t, "127.0.0.159", 55559)
	steward := pg.Target("db")
	steward.Options = map[string]string{"database": "bookings"}
	pg.Run(t, "CREATE ROLE tide_reader; CREATE ROLE owner_of_bookings; CREATE ROLE scratch LOGIN PASSWORD '"+lab.AccountPassword+"';\n\\c bookings\nCREATE TABLE fares (a int, b text); CREATE TABLE pay (a int); GRANT SELECT ON pay TO tide_reader; ALTER TABLE fares OWNER TO owner_of_bookings; ALTER TABLE pay OWNER TO owner_of_bookings;\n"+preparation(t, postgres.Connector{}.Prepare(steward, connect.Known{}), connect.ForAmend).Text)
	proven(t, postgres.Connector{}, steward, nil, estate.Account{Name: "scratch"}, "scratch", `charter: tide
must:
  - member_of: tide_reader
  - {do: select, to: "table:bookings.public.fares"}
  - {do: insert, to: "table:bookings.public.fares"}
  - {do: delete, to: "table:bookings.public.fares"}
`, []string{"SELECT a FROM pay", "INSERT INTO fares VALUES (1, 'x')"}, map[string]string{
		"the membership of tide_reader":                "needed: SELECT a FROM pay",
		"the right to select on bookings.public.fares": "unneeded",
		"the right to insert on bookings.public.fares": "needed: INSERT INTO fares VALUES (1, 'x')",
		"the right to delete on bookings.public.fares": "unneeded",
	})
	assert.Contains(t, strings.TrimSpace(pg.Run(t, "\\c bookings\n\\t on\n\\pset format unaligned\nSELECT count(*) FROM fares;\n")), "0", "what a job does is taken back")

	maria := lab.MariaDB(t, "127.0.0.159", 33359)
	maria.Run(t, "CREATE DATABASE tides; CREATE TABLE tides.fares (a int); CREATE USER scratch@'%' IDENTIFIED BY '"+lab.AccountPassword+"';"+strings.ReplaceAll(preparation(t, mariadb.Connector{}.Prepare(maria.Target("maria"), connect.Known{}), connect.ForAmend).Text, "PUT-THE-DATABASE-HERE", "tides"))
	proven(t, mariadb.Connector{}, maria.Target("maria"), nil, estate.Account{Name: "scratch@%"}, "scratch", `charter: tide
must:
  - {do: select, to: "table:tides.fares"}
  - {do: insert, to: "table:tides.fares"}
  - {do: update, to: "table:tides.fares"}
`, []string{"SELECT a FROM tides.fares", "INSERT INTO tides.fares VALUES (1)"}, map[string]string{
		"the right to select on tides.fares": "needed: SELECT a FROM tides.fares",
		"the right to insert on tides.fares": "needed: INSERT INTO tides.fares VALUES (1)",
		"the right to update on tides.fares": "unneeded",
	})

	store := lab.Redis(t, "127.0.0.159", 63359)
	store.Run(t, "ACL SETUSER scratch on >"+lab.AccountPassword+" ~tide:*\n")
	proven(t, redis.Connector{}, store.Target("store"), privilege.MatchCommands, estate.Account{Name: "scratch"}, "scratch", "charter: tide\nmust: [{run: set}, {run: get}, {run: del}]\nmay: [{do: read and write}]\n", []string{"SET tide:high 4", "DEL tide:high"}, map[string]string{
		"the right to run set": "needed: SET tide:high 4", "the right to run get": "unneeded", "the right to run del": "needed: DEL tide:high",
	})
}

func TestProvenOnAHost(t *testing.T) {
	h := lab.NewHost(t, "proving", 38)
	h.Shell(t, "groupadd crew; groupadd deck; useradd -m -s /bin/sh scratch; echo 'scratch:"+lab.AccountPassword+"' | chpasswd")
	h.Write(t, "/etc/systemd/system/berth.service", "[Service]\nExecStart=/usr/bin/sleep infinity\n", 0o644)
	h.Write(t, "/srv/roster", "odile\n", 0o640)
	h.Shell(t, "chgrp crew /srv/roster")
	h.Boot(t)
	proven(t, unixhost.Connector{}, h.Target(), sudo.Matches, estate.Account{Name: "scratch"}, "scratch", `charter: berth
must:
  - member_of: crew
  - member_of: deck
  - run: /usr/bin/systemctl restart berth.service
  - run: /usr/bin/systemctl stop berth.service
`, []string{"cat /srv/roster", "sudo -n /usr/bin/systemctl restart berth.service"}, map[string]string{
		"the membership of crew":                                    "needed: cat /srv/roster",
		"the membership of deck":                                    "unneeded",
		"the right to run /usr/bin/systemctl restart berth.service": "needed: sudo -n /usr/bin/systemctl restart berth.service",
		"the right to run /usr/bin/systemctl stop berth.service":    "unneeded",
	})
}

func TestProvenInADirectory(t *testing.T) {
	d := lab.Samba(t, "127.0.0.159", "svc-tide")
	sid := d.ManagerSID(t)
	d.Create(t, "dn: CN=Writers,"+d.Base+"\nobjectClass: group\nsAMAccountName: writers\n\ndn: CN=Readers,"+d.Base+"\nobjectClass: group\nsAMAccountName: readers\n\ndn: CN=Board,"+d.Base+"\nobjectClass: group\nsAMAccountName: board\n")
	d.Permit(t, d.Base, strings.ReplaceAll(preparation(t, directory.Connector{}.Prepare(d.Target("dir"), connect.Known{SID: sid, Flavor: "windows-schema"}), connect.ForAmend).Text, "\n", ""))
	d.Permit(t, "CN=Board,"+d.Base, "(OA;;WP;bf967950-0de6-11d0-a285-00aa003049e2;;"+d.SID(t, "CN=Writers,"+d.Base)+")")
	account := accountIn(t, d.Target("dir"), "svc-tide", d.DN("svc-tide"))
	proven(t, directory.Connector{}, d.Target("dir"), nil, account, d.DN("svc-tide"), "charter: tide\nmust: [{member_of: writers}, {member_of: readers}]\n", []string{"search " + `"` + d.Base + `" (sAMAccountName=board)`, `modify "CN=Board,` + d.Base + `" replace description "High water"`}, map[string]string{
		"the membership of writers": `needed: modify "CN=Board,` + d.Base + `" replace description "High water"`,
		"the membership of readers": "unneeded",
	})

	rfc := lab.GuardedOpenLDAP(t, "127.0.0.159", 38959)
	account = accountIn(t, rfc.Target("ldap"), "svc-berth", rfc.DN("svc-berth"))
	proven(t, directory.Connector{}, rfc.Target("ldap"), nil, account, rfc.DN("svc-berth"), "charter: tide\nmust: [{member_of: writers}, {member_of: readers}]\n", []string{`modify cn=board,dc=guarded,dc=example replace description "High water"`}, map[string]string{
		"the membership of writers": `needed: modify cn=board,dc=guarded,dc=example replace description "High water"`,
		"the membership of readers": "unneeded",
	})
}

func accountIn(t *testing.T, target connect.Target, name, dn string) estate.Account {
	t.Helper()
	model, _ := modelOf(t, directory.Connector{}, target, nil)
	ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == name }, privilege.KindAccount)
	require.Len(t, ids, 1)
	return estate.Account{StableID: ids[0], Name: name, DN: dn}
}
