package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// public is the principal whose rights every account has (GRANT ... TO PUBLIC).
const public = "public"

// globalBits are the bits of "access" in mysql.global_priv, in their order (sql/privilege.h of
// the server).
var globalBits = strings.Split("SELECT,INSERT,UPDATE,DELETE,CREATE,DROP,RELOAD,SHUTDOWN,PROCESS,FILE,GRANT OPTION,REFERENCES,INDEX,ALTER,SHOW DATABASES,SUPER,CREATE TEMPORARY TABLES,LOCK TABLES,EXECUTE,REPLICATION SLAVE,BINLOG MONITOR,CREATE VIEW,SHOW VIEW,CREATE ROUTINE,ALTER ROUTINE,CREATE USER,EVENT,TRIGGER,CREATE TABLESPACE,DELETE HISTORY,SET USER,FEDERATED ADMIN,CONNECTION ADMIN,READ_ONLY ADMIN,REPLICATION SLAVE ADMIN,REPLICATION MASTER ADMIN,BINLOG ADMIN,BINLOG REPLAY,SLAVE MONITOR,SHOW CREATE ROUTINE", ",")

// verbsOf are names of rights as verbs.
func verbsOf(names []string) (out []string) {
	for _, name := range names {
		out = append(out, strings.ToLower(name))
	}
	return out
}

const (
	grantOption = uint64(1) << 10
	everyBit    = (uint64(1)<<38 - 1) &^ grantOption // SLAVE MONITOR and later came with later versions
)

// databaseColumns are the rights of mysql.db, by column.
var databaseColumns = []struct{ column, verb string }{
	{"Select_priv", "SELECT"}, {"Insert_priv", "INSERT"}, {"Update_priv", "UPDATE"}, {"Delete_priv", "DELETE"}, {"Create_priv", "CREATE"}, {"Drop_priv", "DROP"}, {"References_priv", "REFERENCES"}, {"Index_priv", "INDEX"}, {"Alter_priv", "ALTER"}, {"Create_tmp_table_priv", "CREATE TEMPORARY TABLES"}, {"Lock_tables_priv", "LOCK TABLES"}, {"Create_view_priv", "CREATE VIEW"}, {"Show_view_priv", "SHOW VIEW"}, {"Create_routine_priv", "CREATE ROUTINE"}, {"Alter_routine_priv", "ALTER ROUTINE"}, {"Execute_priv", "EXECUTE"}, {"Event_priv", "EVENT"}, {"Trigger_priv", "TRIGGER"}, {"Delete_history_priv", "DELETE HISTORY"}, {"Grant_priv", "GRANT OPTION"},
}

// Rights implements connect.RightsReader: what the server's own tables of grants say.
func (Connector) Rights(ctx context.Context, target connect.Target, _ connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	t := connect.RightsTaker{Emit: emit}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return t.Coverage, failed
	}
	defer done()
	r := rightsReader{target: target, roles: map[string]bool{}, lists: map[string]int{}}
	if err := r.global(ctx, conn); err != nil {
		return t.Coverage, failure(target, connect.StageRead, err, false)
	}
	var problems []connect.Unread
	for _, part := range []struct {
		table string
		read  func(context.Context, *sql.Conn) error
	}{{"roles_mapping", r.members}, {"db", r.databases}, {"tables_priv", r.tables}, {"columns_priv", r.columns}, {"procs_priv", r.routines}} {
		if err := part.read(ctx, conn); err != nil {
			f := failure(target, connect.StageRead, err, false)
			if f.Code == connect.CodeUnreachable || f.Code == connect.CodeTimeout {
				return t.Coverage, f
			}
			t.Missing(&problems, connect.Unread{Stage: connect.StageRead, Place: "mysql." + part.table, What: f.Words, Next: "GRANT SELECT ON mysql." + part.table + " TO " + quote(target.Steward.Account)})
		}
	}
	return t.Coverage, t.Take(r.Rights, problems)
}

type rightsReader struct {
	connect.Rights
	target connect.Target
	roles  map[string]bool
	lists  map[string]int // where a list stands, by key
}

// id is the principal of a grantee: a role has no host.
func (r *rightsReader) id(user, host string) string {
	switch {
	case host == "" && strings.EqualFold(user, "PUBLIC"):
		return public
	case host == "" && r.roles[user]:
		return "role:" + user
	}
	return "account:" + user + "@" + host
}

// to is the grantee as a statement names it.
func (r *rightsReader) to(user, host string) string {
	switch r.id(user, host) {
	case public:
		return "PUBLIC"
	case "role:" + user:
		return quote(user)
	}
	return quote(user) + "@" + quote(host)
}

// list finds or makes the one of an object.
func (r *rightsReader) list(key string, objects ...privilege.Object) *privilege.List {
	at, known := r.lists[key]
	if !known {
		at = len(r.Lists)
		r.lists[key] = at
		r.Lists = append(r.Lists, privilege.List{Key: key, Decides: privilege.DecidesAny, Objects: objects})
	}
	return &r.Lists[at]
}

func (r *rightsReader) global(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Priv FROM mysql.global_priv")
	if err != nil {
		return err
	}
	defer rows.Close()
	type granted struct {
		user, host string
		access     uint64
	}
	var all []granted
	r.Principals = append(r.Principals, privilege.Principal{ID: public, Kind: privilege.KindEveryone, Name: "PUBLIC"})
	for rows.Next() {
		var g granted
		var raw string
		if err := rows.Scan(&g.user, &g.host, &raw); err != nil {
			return err
		}
		var priv struct {
			Access uint64 `json:"access"`
			IsRole bool   `json:"is_role"`
		}
		if err := json.Unmarshal([]byte(raw), &priv); err != nil {
			return fmt.Errorf("account %s@%s: %w", g.user, g.host, err)
		}
		g.access = priv.Access
		switch {
		case g.host == "" && strings.EqualFold(g.user, "PUBLIC"):
		case priv.IsRole:
			r.roles[g.user] = true
			r.Principals = append(r.Principals, privilege.Principal{ID: "role:" + g.user, Kind: privilege.KindRole, Name: g.user})
		default:
			r.Principals = append(r.Principals, privilege.Principal{ID: "account:" + g.user + "@" + g.host, Kind: privilege.KindAccount, Name: g.user + "@" + g.host})
		}
		all = append(all, g)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	l := r.list("*.*", privilege.Object{Kind: privilege.ObjectSystem, Name: r.target.Name})
	for _, g := range all {
		to, end := r.to(g.user, g.host), ""
		if g.access&grantOption != 0 {
			end = " WITH GRANT OPTION"
		}
		if g.access&everyBit == everyBit {
			l.Entries = append(l.Entries, privilege.Entry{To: r.id(g.user, g.host), Verb: privilege.VerbEverything, Text: "GRANT ALL PRIVILEGES ON *.* TO " + to + end})
			continue
		}
		for bit, verb := range globalBits {
			if g.access>>bit&1 == 1 && uint64(1)<<bit != grantOption {
				l.Entries = append(l.Entries, privilege.Entry{To: r.id(g.user, g.host), Verb: strings.ToLower(verb), Text: "GRANT " + verb + " ON *.* TO " + to + end})
			}
		}
	}
	return nil
}

// members reads who has which role. One that is not the default must be set; a role that
// lies in another comes with it.
func (r *rightsReader) members(ctx context.Context, conn *sql.Conn) error {
	defaults, err := defaultRoles(ctx, conn)
	if err != nil {
		return err
	}
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Role, Admin_option FROM mysql.roles_mapping")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var user, host, role, admin string
		if err := rows.Scan(&user, &host, &role, &admin); err != nil {
			return err
		}
		m := privilege.Membership{Member: r.id(user, host), Group: "role:" + role}
		if admin == "Y" {
			m.How = "may give it to others"
		}
		if host != "" && defaults[user+"@"+host] != role {
			m.Term = "after SET ROLE " + role
		}
		r.Memberships = append(r.Memberships, m)
	}
	return rows.Err()
}

// defaultRoles are the roles that accounts have without setting one.
func defaultRoles(ctx context.Context, conn *sql.Conn) (map[string]string, error) {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, COALESCE(JSON_VALUE(Priv, '$.default_role'), '') FROM mysql.global_priv")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var user, host, role string
		if err := rows.Scan(&user, &host, &role); err != nil {
			return nil, err
		}
		out[user+"@"+host] = role
	}
	return out, rows.Err()
}

// onDatabase is a row of mysql.db.
type onDatabase struct {
	to, shown string // the grantee as a principal, and as a statement names it
	role      bool
	db        string // as it stands there: a pattern
	verbs     []string
	end       string
}

// databases reads grants on whole databases. Their names are patterns.
func (r *rightsReader) databases(ctx context.Context, conn *sql.Conn) error {
	columns := make([]string, len(databaseColumns))
	for i, c := range databaseColumns {
		columns[i] = c.column
	}
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Db, CONCAT("+strings.Join(columns, ", ")+") FROM mysql.db") //nolint:gosec // names of columns are our own
	if err != nil {
		return err
	}
	defer rows.Close()
	var all []onDatabase
	for rows.Next() {
		var user, host, flags string
		var g onDatabase
		if err := rows.Scan(&user, &host, &g.db, &flags); err != nil {
			return err
		}
		g.to, g.shown = r.id(user, host), r.to(user, host)
		g.role = strings.HasPrefix(g.to, "role:") || g.to == public
		if strings.HasSuffix(flags, "Y") {
			g.end = " WITH GRANT OPTION"
		}
		for i, c := range databaseColumns[:len(databaseColumns)-1] {
			if i < len(flags) && flags[i] == 'Y' {
				g.verbs = append(g.verbs, c.verb)
			}
		}
		all = append(all, g)
	}
	r.onDatabases(all)
	return rows.Err()
}

// onDatabases makes the lists. Of several grants to one account whose names a database
// fits, the server takes the one with the closest name and no other; the rights of a role
// are put together with those of the roles that it has, before that is decided. So each
// name has a list of its own, for the databases that no closer name fits.
func (r *rightsReader) onDatabases(all []onDatabase) {
	var names []string
	for _, g := range all {
		if !slices.Contains(names, g.db) {
			names = append(names, g.db)
		}
	}
	for _, cell := range names {
		var closer []string
		for _, other := range names {
			if other != cell && closerName(other, cell) {
				closer = append(closer, other)
			}
		}
		l := r.list("database:"+cell, objectsOf(cell, closer)...)
		for _, g := range all {
			if g.db != cell && !closerName(cell, g.db) {
				continue
			}
			passed, unsure := false, ""
			for _, other := range all {
				if other.db == g.db || other.db != cell && !closerName(cell, other.db) || !closerName(other.db, g.db) {
					continue
				}
				passed = passed || other.to == g.to
				if g.role && other.role {
					unsure = "for accounts that have both by roles the grant on `" + other.db + "`.* alone counts, whose name is closer"
				}
			}
			if passed {
				continue
			}
			for _, verb := range g.verbs {
				l.Entries = append(l.Entries, privilege.Entry{To: g.to, Verb: strings.ToLower(verb), Unsure: unsure, Text: "GRANT " + verb + " ON `" + g.db + "`.* TO " + g.shown + g.end})
			}
		}
	}
}

// closerName reports whether a name of mysql.db is within a pattern, and closer.
func closerName(name, pattern string) bool {
	is, isPattern := unescaped(name)
	of, ofPattern := unescaped(pattern)
	if !ofPattern || is == of && isPattern {
		return false
	}
	return privilege.Like(of, is)
}

// objectsOf are the databases of a name, and what is in them, but those of closer names.
func objectsOf(db string, closer []string) []privilege.Object {
	name, pattern := unescaped(db)
	var out []privilege.Object
	for kind, end := range map[string]string{"database": "", "table": ".%", "routine": ".%"} {
		o := privilege.Object{Kind: kind, Name: name, Like: pattern}
		if end != "" {
			o.Name, o.Like = likeOf(db)+end, true
		}
		for _, c := range closer {
			o.Except = append(o.Except, likeOf(c)+end)
		}
		out = append(out, o)
	}
	return out
}

// likeOf is a name of mysql.db as a pattern.
func likeOf(db string) string {
	name, pattern := unescaped(db)
	if pattern {
		return name
	}
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(name)
}

// unescaped takes the backslashes from a name of mysql.db, and says whether what is left
// is a pattern.
func unescaped(db string) (name string, pattern bool) {
	plain := strings.NewReplacer(`\_`, "", `\%`, "").Replace(db)
	if strings.ContainsAny(plain, "%_") {
		return db, true
	}
	return strings.NewReplacer(`\_`, "_", `\%`, "%").Replace(db), false
}

func (r *rightsReader) tables(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Db, Table_name, Table_priv FROM mysql.tables_priv")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var user, host, db, table, given string
		if err := rows.Scan(&user, &host, &db, &table, &given); err != nil {
			return err
		}
		r.set("table", db+"."+table, "", user, host, given)
	}
	return rows.Err()
}

func (r *rightsReader) columns(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Db, Table_name, Column_name, Column_priv FROM mysql.columns_priv")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var user, host, db, table, column, given string
		if err := rows.Scan(&user, &host, &db, &table, &column, &given); err != nil {
			return err
		}
		r.set("table", db+"."+table, column, user, host, given)
	}
	return rows.Err()
}

func (r *rightsReader) routines(ctx context.Context, conn *sql.Conn) error {
	rows, err := conn.QueryContext(ctx, "SELECT User, Host, Db, Routine_name, Proc_priv FROM mysql.procs_priv")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var user, host, db, name, given string
		if err := rows.Scan(&user, &host, &db, &name, &given); err != nil {
			return err
		}
		r.set("routine", db+"."+name, "", user, host, given)
	}
	return rows.Err()
}

// set takes in the words of a column of the type SET.
func (r *rightsReader) set(kind, name, column, user, host, given string) {
	l := r.list(kind+":"+name, privilege.Object{Kind: kind, Name: name})
	end := ""
	if strings.Contains(given, "Grant") {
		end = " WITH GRANT OPTION"
	}
	for verb := range strings.SplitSeq(given, ",") {
		if verb == "" || verb == "Grant" {
			continue
		}
		verb = strings.ToUpper(verb)
		shown := verb
		if column != "" {
			shown += " (`" + column + "`)"
		}
		l.Entries = append(l.Entries, privilege.Entry{To: r.id(user, host), Verb: strings.ToLower(verb), What: column, Text: "GRANT " + shown + " ON " + map[string]string{"routine": "PROCEDURE "}[kind] + name + " TO " + r.to(user, host) + end})
	}
}
