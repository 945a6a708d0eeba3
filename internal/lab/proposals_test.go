package lab_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/lab"
)

// proposals are what would make an account of a real system as a charter says, and what each
// thing comes to now.
func proposals(t *testing.T, c connect.Connector, target connect.Target, matches privilege.Matcher, account estate.Account, text string) (out []connect.Proposal, states map[string]charter.State) {
	t.Helper()
	out, _, states = changesOf(t, c, target, matches, account, text)
	return out, states
}

// changesOf has the changes beside them.
func changesOf(t *testing.T, c connect.Connector, target connect.Target, matches privilege.Matcher, account estate.Account, text string) (out []connect.Proposal, changes []privilege.RightChange, states map[string]charter.State) {
	t.Helper()
	model, coverage := modelOf(t, c, target, matches)
	if !coverage.Complete { // of directories with this schema
		require.Contains(t, coverage.Why, "access rules")
	}
	d, err := charter.Parse(text)
	require.NoError(t, err)
	if account.StableID == "" {
		ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == account.Name }, privilege.KindAccount, privilege.KindRole)
		require.Len(t, ids, 1, account.Name)
		account.StableID = ids[0]
	}
	comparison := charter.Compare(charter.Known{Name: target.Name, Kind: string(target.Kind), Model: model}, []*charter.Document{d})
	comparison.Turn(account)
	states = map[string]charter.State{}
	for _, l := range comparison.Lines(0, nil) {
		states[l.Section+": "+l.Item] = l.State
		if l.State == charter.StateMet || l.Change == nil {
			continue
		}
		p, why := c.Propose(target, *l.Change)
		require.Empty(t, why, "%s: %+v", l.Item, l.Change)
		out, changes = append(out, p), append(changes, *l.Change)
	}
	return out, changes, states
}

// amended has the connector carry out what it proposes, and take it back: by the system's own
// answers each is so after it and as before once it is taken back, and the whole by a reading.
// Each is done twice over, as after an answer that was lost.
func amended(t *testing.T, c connect.Connector, target connect.Target, matches privilege.Matcher, account estate.Account, text string) {
	t.Helper()
	ctx := t.Context()
	_, changes, before := changesOf(t, c, target, matches, account, text)
	require.GreaterOrEqual(t, len(changes), 3, "%v", before)
	formers := make([]connect.Standing, len(changes))
	for i, change := range changes {
		var err error
		formers[i], err = c.Standing(ctx, target, change)
		require.NoError(t, err, "%+v", change)
		assert.NotEqual(t, change.Give, formers[i].There, "%s: %+v", change.Words(), formers[i])
		for range 2 {
			require.NoError(t, c.Amend(ctx, target, change, false), change.Words())
		}
		now, err := c.Standing(ctx, target, change)
		require.NoError(t, err)
		assert.Equal(t, change.Give, now.There, "%s: %+v", change.Words(), now)
		if change.Give {
			assert.True(t, now.InForce, "%s: %+v", change.Words(), now)
		}
		assert.NotEmpty(t, now.Words)
	}
	left, _, after := changesOf(t, c, target, matches, account, text)
	assert.Empty(t, left)
	for item, state := range after {
		assert.Equal(t, charter.StateMet, state, item)
	}
	for i, change := range slices.Backward(changes) {
		if former := formers[i].Former; former != "" {
			change.Text = former
		}
		for range 2 {
			require.NoError(t, c.Amend(ctx, target, change, true), change.Words())
		}
		now, err := c.Standing(ctx, target, change)
		require.NoError(t, err)
		assert.Equal(t, formers[i], now, change.Words())
	}
	_, _, again := changesOf(t, c, target, matches, account, text)
	assert.Equal(t, before, again, "it is taken back")
	gone := changes[0]
	gone.To, gone.ToDN = "nobody_of_this_name", "CN=Nobody,"+gone.ToDN
	_, err := c.Standing(ctx, target, gone)
	assert.Error(t, err, "what is not there is no member of nothing")
}

// proposed carries out what is proposed, on the real system and by its own tools, and takes it
// back: after the first all holds, after the second all is as it was.
func proposed(t *testing.T, c connect.Connector, target connect.Target, matches privilege.Matcher, account estate.Account, text string, run func(where, language, text string)) {
	t.Helper()
	list, before := proposals(t, c, target, matches, account, text)
	require.GreaterOrEqual(t, len(list), 3, "%v", before)
	for _, p := range list {
		run(p.Where, p.Language, p.Text)
	}
	left, after := proposals(t, c, target, matches, account, text)
	assert.Empty(t, left)
	for item, state := range after {
		assert.Equal(t, charter.StateMet, state, item)
	}
	slices.Reverse(list)
	for _, p := range list {
		language := p.Language
		if p.BackLanguage != "" {
			language = p.BackLanguage
		}
		run(p.Where, language, p.Back)
	}
	_, again := proposals(t, c, target, matches, account, text)
	assert.Equal(t, before, again, "it is taken back")
	amended(t, c, target, matches, account, text)
}

func TestProposalsOnDataStores(t *testing.T) {
	pg := lab.PostgreSQL(t, "127.0.0.158", 55558)
	pg.Run(t, "CREATE ROLE tide_reader; CREATE ROLE \"Odd, Group\"; CREATE ROLE svc_tide LOGIN CREATEROLE;\nGRANT \"Odd, Group\" TO svc_tide;\n\\c bookings\nCREATE TABLE fares (a int, b text); CREATE TABLE pay (a int);\nGRANT UPDATE, DELETE ON pay TO svc_tide; GRANT INSERT ON fares TO svc_tide WITH GRANT OPTION;\nCREATE ROLE owner_of_bookings; ALTER TABLE fares OWNER TO owner_of_bookings; ALTER TABLE pay OWNER TO owner_of_bookings; ALTER DATABASE bookings OWNER TO owner_of_bookings;\n"+preparation(t, postgres.Connector{}.Prepare(pg.Target("db"), connect.Known{}), connect.ForAmend).Text)
	proposed(t, postgres.Connector{}, pg.Target("db"), nil, estate.Account{Name: "svc_tide"}, `charter: tide
must:
  - member_of: tide_reader
  - {do: select, to: "table:bookings.public.fares"}
  - {do: connect, to: "database:bookings"}
never:
  - {do: update, to: "table:*"}
  - {do: manage roles}
`, func(_, _, text string) { pg.Run(t, "\\c bookings\n"+text) })

	maria := lab.MariaDB(t, "127.0.0.158", 33358)
	maria.Run(t, strings.ReplaceAll(preparation(t, mariadb.Connector{}.Prepare(maria.Target("maria"), connect.Known{}), connect.ForAmend).Text, "PUT-THE-DATABASE-HERE", "tides")+"GRANT RELOAD ON *.* TO mossmgr@'%' WITH GRANT OPTION; CREATE DATABASE tides; CREATE TABLE tides.fares (a int); CREATE TABLE tides.pay (a int); CREATE ROLE tide_reader; CREATE USER svc_tide@'%' IDENTIFIED BY 'Neap-Tide-71-x'; GRANT UPDATE ON tides.pay TO svc_tide@'%'; GRANT RELOAD ON *.* TO svc_tide@'%';")
	proposed(t, mariadb.Connector{}, maria.Target("maria"), nil, estate.Account{Name: "svc_tide@%"}, `charter: tide
must:
  - {do: select, to: "table:tides.fares"}
  - {do: insert, to: "database:tides"}
never:
  - {do: update, to: "table:*"}
  - {do: reload}
`, func(_, _, text string) { maria.Run(t, text) })

	store := lab.Redis(t, "127.0.0.158", 63358)
	store.Run(t, "ACL SETUSER svc_tide on >Neap-Tide-71-x ~tide:* +get +config|get +acl\n")
	list, before := proposals(t, redis.Connector{}, store.Target("store"), privilege.MatchCommands, estate.Account{Name: "svc_tide"}, "charter: tide\nmust: [{run: set}]\nmay: [{run: get}, {do: read and write}]\nnever: [{run: acl}, {run: config get}]\n")
	require.Len(t, list, 3, "%v", before)
	for _, p := range list {
		store.Run(t, p.Text)
	}
	store.Run(t, "ACL SETUSER svc_tide -set +config|get +acl\n")
	amended(t, redis.Connector{}, store.Target("store"), privilege.MatchCommands, estate.Account{Name: "svc_tide"}, "charter: tide\nmust: [{run: set}]\nmay: [{run: get}, {do: read and write}]\nnever: [{run: acl}, {run: config get}]\n")
	for _, p := range list {
		store.Run(t, p.Text)
	}
	_, after := proposals(t, redis.Connector{}, store.Target("store"), privilege.MatchCommands, estate.Account{Name: "svc_tide"}, "charter: tide\nmust: [{run: set}]\nmay: [{run: get}, {do: read and write}]\nnever: [{run: acl}, {run: config get}]\n")
	for item, state := range after {
		if strings.HasPrefix(item, "must") || strings.HasPrefix(item, "never") {
			assert.Equal(t, charter.StateMet, state, item)
		}
	}
}

func TestProposalsOnAHost(t *testing.T) {
	h := lab.NewHost(t, "proposals", 37)
	helper := "#!/bin/sh\necho \"$1 is reset\"\n"
	sum := sha256.Sum256([]byte(helper))
	h.Shell(t, "groupadd crew; groupadd deck; useradd -m -G deck berth; mkdir -p /opt/gauge")
	h.Write(t, "/opt/gauge/reset", helper, 0o755)
	h.Boot(t)
	proposed(t, unixhost.Connector{}, h.Target(), sudo.Matches, estate.Account{Name: "berth"}, `charter: berth
must:
  - member_of: crew
  - member_of: gauges
    because: it does not exist yet
  - run: /usr/bin/systemctl restart berth:1.service
  - run: /usr/bin/systemctl stop berth:1.service
  - run: sha256:`+hex.EncodeToString(sum[:])+` /opt/gauge/reset north
never:
  - member_of: deck
`, func(where, language, text string) {
		if language != "sudoers" {
			h.Shell(t, text)
			return
		}
		_, file, _ := strings.Cut(where, "into ")
		file, _, _ = strings.Cut(file, ":")
		h.Write(t, "/root/wanted", text, 0o440)
		_, command, _ := strings.Cut(text, "NOPASSWD: ")
		_, command, _ = sudo.Digested(command)
		h.Shell(t, "visudo -cf /root/wanted && install -m440 /root/wanted "+file+" && sudo -l -U berth "+command)
	})
	// A helper that was changed is another one: sudo refuses it, and so do we.
	change := privilege.RightChange{Give: true, To: "berth", ToKind: privilege.KindAccount, Verb: privilege.VerbRun, What: "sha256:" + hex.EncodeToString(sum[:]) + " /opt/gauge/reset north", As: "root"}
	require.NoError(t, unixhost.Connector{}.Amend(t.Context(), h.Target(), change, false))
	assert.Contains(t, h.Shell(t, "sudo -u berth sudo -n /opt/gauge/reset north"), "north is reset")
	h.Write(t, "/opt/gauge/reset", helper+"id\n", 0o755)
	assert.NotContains(t, h.Shell(t, "sudo -u berth sudo -n /opt/gauge/reset north 2>&1 || true"), "north is reset")
	standing, err := unixhost.Connector{}.Standing(t.Context(), h.Target(), change)
	require.NoError(t, err)
	assert.True(t, standing.There, standing.Words)
	assert.False(t, standing.InForce, standing.Words)
}

func TestProposalsInADirectory(t *testing.T) {
	d := lab.Samba(t, "127.0.0.158", "svc-tide")
	d.Create(t, "dn: CN=Tide\\, readers,"+d.Base+"\nobjectClass: group\nsAMAccountName: tide-readers\n\ndn: CN=Odd,"+d.Base+"\nobjectClass: group\nsAMAccountName: odd\nmember: "+d.DN("svc-tide")+"\n\ndn: CN=Inner,"+d.Base+"\nobjectClass: group\nsAMAccountName: inner\nmember: "+d.DN("svc-tide")+"\n\ndn: CN=Outer,"+d.Base+"\nobjectClass: group\nsAMAccountName: outer\nmember: CN=Inner,"+d.Base+"\n")
	d.Permit(t, d.Base, strings.ReplaceAll(preparation(t, directory.Connector{}.Prepare(d.Target("dir"), connect.Known{SID: d.ManagerSID(t), Flavor: "windows-schema"}), connect.ForAmend).Text, "\n", ""))
	model, _ := modelOf(t, directory.Connector{}, d.Target("dir"), nil)
	ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == "svc-tide" }, privilege.KindAccount)
	require.Len(t, ids, 1)
	proposed(t, directory.Connector{}, d.Target("dir"), nil, estate.Account{StableID: ids[0], Name: "svc-tide", DN: d.DN("svc-tide")}, `charter: tide
must:
  - member_of: tide-readers
  - member_of: inner
may:
  - member_of: Terminal Services Staff
never:
  - member_of: outer
  - member_of: odd
`, func(_, _, text string) { d.Alter(t, text) })
}

// A validator that others wrote takes the schema, and the charters that come with the program by it.
func TestForeignCharters(t *testing.T) {
	if err := exec.CommandContext(t.Context(), "python3", "-c", "import jsonschema, yaml").Run(); err != nil {
		lab.LeaveOut(t, "python3 with jsonschema is not here: 'make lab' gets it")
	}
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "schema.json"), charter.Schema(), 0o600))
	texts := map[string]string{"wrong-field": "charter: a\nmust: [{runs: /bin/true}]\n", "wrong-two": "charter: a\nmust: [{run: /bin/true, member_of: x}]\n", "wrong-type": "charter: a\naccount: {enabled: sometimes}\n", "wrong-name": "charter: A B\n"}
	for _, r := range charter.AllReady() {
		texts[r.Name] = r.Document
	}
	raw, err := json.Marshal(texts)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "texts.json"), raw, 0o600))
	out, err := exec.CommandContext(t.Context(), "python3", "-c", `import json, sys, yaml, jsonschema
schema = json.load(open(sys.argv[1] + "/schema.json"))
jsonschema.Draft202012Validator.check_schema(schema)
v = jsonschema.Draft202012Validator(schema)
print(json.dumps({name: v.is_valid(yaml.safe_load(text)) for name, text in json.load(open(sys.argv[1] + "/texts.json")).items()}))`, folder).CombinedOutput()
	require.NoError(t, err, string(out))
	var valid map[string]bool
	require.NoError(t, json.Unmarshal(out, &valid))
	assert.Len(t, valid, len(texts))
	for name, text := range texts {
		_, err := charter.Parse(text)
		assert.Equal(t, err == nil, valid[name], "%s: both say the same", name)
		assert.Equal(t, !strings.HasPrefix(name, "wrong"), valid[name], name)
	}
}

func TestProposalsInAnRFCDirectory(t *testing.T) {
	const base = "dc=larkmoor,dc=example"
	group := func(name string, members ...string) string {
		return "dn: cn=" + name + ",ou=groups," + base + "\nobjectClass: groupOfNames\ncn: " + name + "\nmember: " + strings.Join(members, "\nmember: ") + "\n\n"
	}
	account := "uid=svc-berth,ou=services," + base
	d := lab.OpenLDAPWith(t, "127.0.0.158", 38958, group("tide-readers", base), group("odd", base, account), group("crew", base))
	require.Equal(t, account, d.DN("svc-berth"))
	model, _ := modelOf(t, directory.Connector{}, d.Target("ldap"), nil)
	ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == "svc-berth" }, privilege.KindAccount)
	require.Len(t, ids, 1)
	amended(t, directory.Connector{}, d.Target("ldap"), nil, estate.Account{StableID: ids[0], Name: "svc-berth", DN: account}, "charter: tide\nmust: [{member_of: tide-readers}, {member_of: crew}]\nmay: [{member_of: terminal}, {member_of: operations}]\nnever: [{member_of: odd}]\n")
}
