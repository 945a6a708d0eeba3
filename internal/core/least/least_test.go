package least

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/charter"
)

func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		operation Operation
		items     []string
		unread    string
	}{
		"sudo":                {Operation{Protocol: "ssh", Text: "/usr/bin/sudo -n -- /usr/bin/systemctl restart berth.service"}, []string{"run /usr/bin/systemctl restart berth.service"}, ""},
		"sudo as somebody":    {Operation{Protocol: "ssh", Text: "sudo -n -u postgres /usr/bin/pg_dump bookings"}, []string{"run /usr/bin/pg_dump bookings as postgres"}, ""},
		"behind nice":         {Operation{Protocol: "ssh", Text: "/usr/bin/env LC_ALL=C /usr/bin/sudo -n -- '/usr/bin/cat' -- /etc/berth.env"}, []string{"run /usr/bin/cat -- /etc/berth.env"}, ""},
		"what it may":         {Operation{Protocol: "ssh", Text: "sudo -n -l"}, nil, ""},
		"without sudo":        {Operation{Protocol: "ssh", Text: "/usr/bin/id -u"}, nil, ""},
		"quotes that end not": {Operation{Protocol: "ssh", Text: "sudo -n -- /usr/bin/x 'a"}, nil, "it is no plain command line"},
		"blanks":              {Operation{Protocol: "ssh", Text: "sudo -n -- /usr/bin/x 'a b'"}, nil, "an argument has blanks"},
		"no path":             {Operation{Protocol: "ssh", Text: "sudo -n -- systemctl restart x"}, nil, "not named by its path"},
		"redis":               {Operation{Protocol: "redis", Text: "ACL LIST"}, []string{"run acl list"}, ""},
		"redis, plain":        {Operation{Protocol: "redis", Text: "SET tide:high 4"}, []string{"run set"}, ""},
		"redis, hello":        {Operation{Protocol: "redis", Text: "hello 3"}, nil, ""},
		"reset":               {Operation{Protocol: "ldap", Text: "dn: CN=a,DC=x\nchangetype: modify\nreplace: unicodePwd\nunicodePwd: (left out)\n-\nreplace: lockoutTime\nlockoutTime: 0\n-\n"}, []string{"reset password on account a"}, "the right to write lockouttime"},
		"own password":        {Operation{Protocol: "ldap", Text: "dn: CN=a,DC=x\nchangetype: modify\ndelete: unicodePwd\nunicodePwd: x\n-\nadd: unicodePwd\nunicodePwd: x\n-\n"}, nil, ""},
		"member":              {Operation{Protocol: "ldap", Text: "dn: CN=crew,DC=x\nchangetype: modify\nadd: member\nmember: CN=a,DC=x\n-\n"}, []string{"write members on group crew"}, ""},
		"search":              {Operation{Protocol: "ldap", Text: `search -b "DC=x" -s sub "(a=b)" member`}, nil, ""},
		"elsewhere":           {Operation{Protocol: "smtp", Text: "x"}, nil, "not read from what is sent over smtp"},
		"no message":          {Operation{Protocol: "ws-management", Text: "x"}, nil, "it is no message"},
		"start":               {Operation{Protocol: "ws-management", Text: envelope("wmi/root/cimv2/Win32_Service", "wmi/root/cimv2/Win32_Service/StartService")}, []string{"sign in (by remote management)", "start on service Berth Store"}, ""},
		"change":              {Operation{Protocol: "ws-management", Text: envelope("wmi/root/cimv2/Win32_Service", "wmi/root/cimv2/Win32_Service/Change")}, []string{"sign in (by remote management)", "change on service Berth Store"}, ""},
		"look":                {Operation{Protocol: "ws-management", Text: envelope("wmi/root/cimv2/*", "http://schemas.xmlsoap.org/ws/2004/09/enumeration/Enumerate")}, []string{"sign in (by remote management)"}, ""},
		"task":                {Operation{Protocol: "ws-management", Text: envelope("wmi/root/x/PS_ScheduledTask", "wmi/root/x/PS_ScheduledTask/SetByUser")}, []string{"sign in (by remote management)"}, "local administrators alone may do this: ps_scheduledtask setbyuser"},
		"pg create":           {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE TABLE IF NOT EXISTS tides.low (a int)"}, []string{"create on schema b.tides"}, ""},
		"pg index":            {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE UNIQUE INDEX CONCURRENTLY low_a ON low (a)"}, []string{"own on table b.public.low", "create on schema b.public"}, ""},
		"pg alter":            {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "ALTER TABLE low ADD COLUMN b int"}, []string{"own on table b.public.low"}, ""},
		"pg schema":           {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE SCHEMA tides"}, []string{"create on database b"}, ""},
		"pg database":         {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE DATABASE tides"}, []string{"create databases"}, ""},
		"pg drop function":    {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "DROP FUNCTION low(int)"}, nil, "what it takes to remove a routine there is not read"},
		"maria create":        {Operation{Protocol: "sql", Kind: "mariadb", Text: "CREATE TABLE tides.low (a int)"}, []string{"create on table tides.low"}, ""},
		"maria drop index":    {Operation{Protocol: "sql", Kind: "mariadb", Text: "DROP INDEX low_a ON tides.low"}, []string{"index on table tides.low"}, ""},
		"maria routine":       {Operation{Protocol: "sql", Kind: "mariadb", Text: "CREATE PROCEDURE tides.low() SELECT 1"}, nil, "what select in it takes is not read"},
		"from another":        {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE TABLE low AS SELECT 1"}, nil, "what select in it takes is not read"},
		"for a while":         {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE TEMP TABLE low (a int)"}, nil, "there for a while"},
		"more than one":       {Operation{Protocol: "sql", Kind: "mariadb", Text: "DROP TABLE tides.a, tides.b"}, nil, "more than one thing"},
		"extension":           {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "CREATE EXTENSION pgcrypto"}, nil, "what it takes to create this is not read"},
		"pg":                  {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "SELECT a FROM fares f JOIN tides.pay p ON p.a = f.a"}, []string{"select on table b.public.fares", "select on table b.tides.pay"}, ""},
		"pg catalog":          {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "SELECT 1 FROM pg_roles"}, nil, ""},
		"pg secrets":          {Operation{Protocol: "sql", Kind: "postgresql", Database: "b", Text: "SELECT 1 FROM pg_authid"}, nil, "a table of the server's own"},
		"pg no database":      {Operation{Protocol: "sql", Kind: "postgresql", Text: "SELECT 1 FROM fares"}, nil, "the database of fares is not known"},
		"roles":               {Operation{Protocol: "sql", Kind: "postgresql", Text: "ALTER ROLE x PASSWORD 'y'"}, []string{"manage roles"}, ""},
		"maria call":          {Operation{Protocol: "sql", Kind: "mariadb", Text: "CALL ops.rotate('a','b')"}, []string{"execute on routine ops.rotate"}, ""},
		"maria table":         {Operation{Protocol: "sql", Kind: "mariadb", Text: "SELECT User FROM mysql.global_priv"}, []string{"select on table mysql.global_priv"}, ""},
		"grants":              {Operation{Protocol: "sql", Kind: "mariadb", Text: "GRANT SELECT ON a.b TO x"}, nil, "what it takes to give rights is not read"},
		"two":                 {Operation{Protocol: "sql", Kind: "mariadb", Text: "SELECT 1; DROP TABLE x"}, nil, "more than one statement"},
		"garbage":             {Operation{Protocol: "sql", Kind: "mariadb", Text: "VACUUM"}, nil, "the statement is not understood"},
	} {
		t.Run(name, func(t *testing.T) {
			items, unread := Read([]Operation{c.operation, c.operation})
			var words []string
			for _, i := range items {
				words = append(words, i.Words())
			}
			assert.Equal(t, c.items, words, "each once")
			if c.unread == "" {
				assert.Empty(t, unread)
				return
			}
			require.Len(t, unread, 1)
			assert.Contains(t, unread[0], c.unread)
		})
	}
}

// envelope is a message as a trace has it.
func envelope(resource, action string) string {
	return `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="x" xmlns:w="y"><s:Header><w:ResourceURI s:mustUnderstand="true">` + resource + `</w:ResourceURI><a:Action>` + action + `</a:Action><w:SelectorSet><w:Selector Name="Name">Berth Store</w:Selector></w:SelectorSet></s:Header><s:Body/></s:Envelope>`
}

// A rule for what is no part of the system's packages names the digest of its file.
func TestPin(t *testing.T) {
	items := []charter.Item{{Run: "/opt/gauge/reset north"}, {Run: "/opt/gauge/reset south"}, {Run: "/usr/bin/id -u"}, {Do: "sign in"}, {Run: "/usr/local/sbin/tide"}}
	assert.Equal(t, []string{"/opt/gauge/reset", "/usr/local/sbin/tide"}, Helpers(items))
	Pin(items, map[string]string{"/opt/gauge/reset": "ab12", "/usr/local/sbin/tide": ""})
	assert.Equal(t, []charter.Item{{Run: "sha256:ab12 /opt/gauge/reset north"}, {Run: "sha256:ab12 /opt/gauge/reset south"}, {Run: "/usr/bin/id -u"}, {Do: "sign in"}, {Run: "/usr/local/sbin/tide"}}, items)
}

func TestStatements(t *testing.T) {
	for text, want := range map[string]string{
		"SELECT 1": "",
		"select extract(year from at), b from fares where b is distinct from 'from x'":                                              "select fares",
		"SELECT * FROM (SELECT a FROM pay) p, fares AS f LEFT JOIN \"Odd Table\" o USING (a)":                                       "select fares; select pay; select Odd Table",
		"WITH late AS (SELECT a FROM pay) SELECT * FROM late JOIN fares ON true":                                                    "select pay; select fares",
		"WITH RECURSIVE up(a, b) AS (SELECT a, b FROM pay UNION SELECT p.a, p.b FROM pay p JOIN up ON up.a = p.b) SELECT * FROM up": "select pay",
		"INSERT INTO fares (a) VALUES (1)":                                        "insert fares",
		"INSERT INTO fares SELECT a FROM pay ON CONFLICT (a) DO UPDATE SET b = 1": "insert fares; select pay; update fares; select fares",
		"INSERT INTO fares VALUES (1) RETURNING a":                                "insert fares; select fares",
		"UPDATE fares SET b = 'x', a = NULL":                                      "update fares",
		"UPDATE fares SET a = a + 1":                                              "update fares; select fares",
		"UPDATE fares SET b = 'x' FROM pay WHERE pay.a = fares.a":                 "update fares; select fares; select pay",
		"DELETE FROM fares":                                                       "delete fares",
		"DELETE FROM fares USING pay WHERE pay.a = fares.a":                       "delete fares; select fares; select pay",
		"REPLACE INTO fares VALUES (1)":                                           "insert fares; delete fares",
		"TRUNCATE TABLE fares":                                                    "truncate fares",
		"SELECT a FROM fares FOR UPDATE":                                          "select fares; update fares",
		"SELECT a -- from pay\n FROM /* from crew */ fares":                       "select fares",
		"SELECT * FROM generate_series(1, 3) g, fares":                            "select fares",
		"SELECT 'it''s from pay' FROM `tides`.`fares`":                            "select tides.fares",
	} {
		uses, err := parse(text)
		require.NoError(t, err, text)
		var got []string
		for _, u := range uses {
			got = append(got, u.verb+" "+strings.Join(u.on.parts, "."))
		}
		assert.Equal(t, want, strings.Join(got, "; "), text)
	}
	for _, text := range []string{"SELECT 'a", "SELECT /* a", "SELECT a FROM", "INSERT INTO", "SELECT \"a", "EXPLAIN x", "CALL"} {
		_, err := parse(text)
		assert.Error(t, err, text)
	}
}

func TestCharter(t *testing.T) {
	items, _ := Read([]Operation{{Protocol: "ssh", Text: "sudo -n -- /usr/bin/systemctl restart berth:1.service"}, {Protocol: "redis", Text: "CONFIG GET dir"}, {Protocol: "sql", Kind: "mariadb", Text: "DELETE FROM tides.`od d`"}})
	text, err := Charter("tide", "trace 3", items).Text()
	require.NoError(t, err)
	d, err := charter.Parse(text)
	require.NoError(t, err, text)
	assert.Len(t, d.Must, 3)
}

// Whatever is sent, reading it ends, and what comes of it can be written and read as a charter.
func FuzzRead(f *testing.F) {
	for _, text := range []string{"sudo -n -- /bin/x 'a'", "SELECT a FROM b", "dn: x\nadd: member\n", "WITH a AS (SELECT 1) DELETE FROM b USING c", "CALL a.b(1)", "CREATE TABLE a.b (c int)", "DROP INDEX a ON b.c", "password of \"x\" becomes"} {
		f.Add("sql", "postgresql", text)
		f.Add("ssh", "", text)
		f.Add("ldap", "", text)
		f.Add("redis", "", text)
		f.Add("ws-management", "", envelope(text, text))
	}
	f.Fuzz(func(t *testing.T, protocol, kind, text string) {
		items, _ := Read([]Operation{{Protocol: protocol, Kind: kind, Database: "b", Text: text}})
		for _, i := range items {
			if i.Run == "" && i.Do == "" {
				t.Fatalf("%q: an item without a right", text)
			}
		}
	})
}
