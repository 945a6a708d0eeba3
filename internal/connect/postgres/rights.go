package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// public is the principal that every role has the rights of (PostgreSQL's manual, "Privileges").
const public = "public"

// Roles, with what their attributes let them do; members have no attribute by membership.
const attributesQuery = `SELECT oid::bigint, rolname, rolcanlogin, rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls FROM pg_roles`

// inherits is the column that says whether a member has a role's rights without a step of
// its own: each membership's since version 16, the member's before.
const (
	membersQuery16 = `SELECT member::bigint, roleid::bigint, admin_option, inherit_option, set_option FROM pg_auth_members`
	membersQuery   = `SELECT m.member::bigint, m.roleid::bigint, m.admin_option, r.rolinherit, true FROM pg_auth_members m JOIN pg_roles r ON r.oid = m.member`
)

const databasesQuery = `SELECT d.datname, d.datdba::bigint, d.datallowconn AND has_database_privilege(d.oid, 'CONNECT'), d.datistemplate,
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a)
	FROM pg_database d ORDER BY d.datname`

// What stands in one database. System catalogs are left out: what everyone may read there
// tells nothing of anybody.
const (
	schemasQuery = `SELECT 'schema', n.nspname, n.nspowner::bigint, '',
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(COALESCE(n.nspacl, acldefault('n', n.nspowner))) a)
	FROM pg_namespace n WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`
	relationsQuery = `SELECT CASE c.relkind WHEN 'S' THEN 'sequence' WHEN 'v' THEN 'view' WHEN 'm' THEN 'view' ELSE 'table' END, n.nspname || '.' || c.relname, c.relowner::bigint, '',
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(COALESCE(c.relacl, acldefault(CASE c.relkind WHEN 'S' THEN 's' ELSE 'r' END::"char", c.relowner))) a)
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r','v','m','f','p','S') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`
	columnsQuery = `SELECT CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'view' ELSE 'table' END, n.nspname || '.' || c.relname, 0::bigint, t.attname,
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(t.attacl) a)
	FROM pg_attribute t JOIN pg_class c ON c.oid = t.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE t.attacl IS NOT NULL AND NOT t.attisdropped AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`
	functionsQuery = `SELECT 'function', n.nspname || '.' || p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')', p.proowner::bigint, CASE WHEN p.prosecdef THEN 'runs with the rights of its owner' ELSE '' END,
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(COALESCE(p.proacl, acldefault('f', p.proowner))) a)
	FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`
	defaultsQuery = `SELECT 'future ' || CASE d.defaclobjtype WHEN 'r' THEN 'tables' WHEN 'S' THEN 'sequences' WHEN 'f' THEN 'functions' WHEN 'T' THEN 'types' ELSE 'schemas' END,
	'of ' || pg_get_userbyid(d.defaclrole) || COALESCE(' in ' || n.nspname, ''), 0::bigint, '',
	ARRAY(SELECT a.grantee::bigint || ' ' || a.privilege_type || ' ' || a.is_grantable FROM aclexplode(d.defaclacl) a)
	FROM pg_default_acl d LEFT JOIN pg_namespace n ON n.oid = d.defaclnamespace`
)

// mostDatabases is how many of a server are looked into.
const mostDatabases = 200

// Rights implements connect.RightsReader: attributes and memberships of roles, and what
// access lists give in each database that the steward may connect to.
func (Connector) Rights(ctx context.Context, target connect.Target, _ connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	t := connect.RightsTaker{Emit: emit}
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return t.Coverage, failed
	}
	defer closing(conn)
	r := rightsReader{target: target, roles: map[int64]string{}}
	databases, err := r.cluster(ctx, conn)
	if err != nil {
		return t.Coverage, failure(target, connect.StageRead, err, false)
	}
	var problems []connect.Unread
	if err := t.Take(r.Rights, problems); err != nil {
		return t.Coverage, err
	}
	for i, d := range databases {
		r.Rights, problems = connect.Rights{}, nil
		switch {
		case d.template && !d.open: // nobody works there
			continue
		case !d.open:
			t.Missing(&problems, connect.Unread{Stage: connect.StageRead, Place: "database " + d.name, What: "the steward may not connect to it", Next: "GRANT CONNECT ON DATABASE " + pgx.Identifier{d.name}.Sanitize() + " TO " + target.Steward.Account})
		case i >= mostDatabases:
			t.Missing(&problems, connect.Unread{Stage: connect.StageRead, Place: "database " + d.name, What: fmt.Sprintf("more than %d databases are not looked into", mostDatabases)})
		default:
			if failed := r.database(ctx, d); failed != nil {
				if failed.Code == connect.CodeUnreachable || failed.Code == connect.CodeTimeout {
					return t.Coverage, failed
				}
				t.Missing(&problems, connect.Unread{Stage: failed.Stage, Place: "database " + d.name, What: failed.Words, Next: failed.Next})
			}
		}
		if err := t.Take(r.Rights, problems); err != nil {
			return t.Coverage, err
		}
	}
	return t.Coverage, nil
}

type database struct {
	name           string
	owner          int64
	open, template bool
	given          []string
}

type rightsReader struct {
	connect.Rights
	target connect.Target
	roles  map[int64]string // names
}

// grantee is the principal of a role's number, 0 for everyone.
func grantee(oid int64) string {
	if oid == 0 {
		return public
	}
	return stableID(oid)
}

// cluster reads what belongs to no database.
func (r *rightsReader) cluster(ctx context.Context, conn *pgx.Conn) ([]database, error) {
	r.Principals = append(r.Principals, privilege.Principal{ID: public, Kind: privilege.KindEveryone, Name: "PUBLIC"})
	system := []privilege.Object{{Kind: privilege.ObjectSystem, Name: r.target.Name}}
	attributes := privilege.List{Key: "attributes", Decides: privilege.DecidesAny, Objects: system}
	rows, err := conn.Query(ctx, attributesQuery)
	if err != nil {
		return nil, err
	}
	var oid int64
	var name string
	var login, super, roles, databases, replication, bypass bool
	_, err = pgx.ForEachRow(rows, []any{&oid, &name, &login, &super, &roles, &databases, &replication, &bypass}, func() error {
		p := privilege.Principal{ID: stableID(oid), Kind: privilege.KindRole, Name: name}
		if login {
			p.Kind = privilege.KindAccount
		}
		r.roles[oid] = name
		r.Principals = append(r.Principals, p)
		for _, a := range []struct {
			has        bool
			verb, text string
		}{{super, privilege.VerbEverything, "SUPERUSER"}, {roles, "manage roles", "CREATEROLE"}, {databases, "create databases", "CREATEDB"}, {replication, "replicate", "REPLICATION"}, {bypass, "pass row security", "BYPASSRLS"}} {
			if a.has {
				attributes.Entries = append(attributes.Entries, privilege.Entry{To: p.ID, Verb: a.verb, Text: "ALTER ROLE " + quoted(name) + " " + a.text, Through: "after SET ROLE " + name})
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	r.Lists = append(r.Lists, attributes, r.predefined())
	if err := r.members(ctx, conn); err != nil {
		return nil, err
	}
	rows, err = conn.Query(ctx, databasesQuery)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (d database, err error) {
		return d, row.Scan(&d.name, &d.owner, &d.open, &d.template, &d.given)
	})
	for _, d := range all {
		r.list(database{}, "database", d.name, d.owner, "", d.given)
	}
	return all, err
}

// predefined are rights that the server gives by the name of a role alone (the manual,
// "Predefined Roles").
func (r *rightsReader) predefined() privilege.List {
	l := privilege.List{Key: "predefined", Decides: privilege.DecidesAny}
	for _, kind := range []string{"table", "view", "sequence", "schema"} {
		l.Objects = append(l.Objects, privilege.Object{Kind: kind, Name: privilege.AllNames})
	}
	for oid, name := range r.roles {
		verbs := map[string][]string{"pg_read_all_data": {"select", "usage"}, "pg_write_all_data": {"insert", "update", "delete", "usage"}, "pg_maintain": {"maintain"}}[name]
		for _, verb := range verbs {
			l.Entries = append(l.Entries, privilege.Entry{To: stableID(oid), Verb: verb, Text: "predefined role " + name})
		}
	}
	return l
}

func (r *rightsReader) members(ctx context.Context, conn *pgx.Conn) error {
	rows, err := conn.Query(ctx, membersQuery16)
	if err == nil {
		_, err = pgx.ForEachRow(rows, nil, func() error { return nil })
	}
	query := membersQuery16
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "42703" { // before version 16 there is no such column
		query = membersQuery
	} else if err != nil {
		return err
	}
	rows, err = conn.Query(ctx, query)
	if err != nil {
		return err
	}
	var member, role int64
	var admin, inherit, set bool
	_, err = pgx.ForEachRow(rows, []any{&member, &role, &admin, &inherit, &set}, func() error {
		m := privilege.Membership{Member: stableID(member), Group: stableID(role)}
		if admin {
			m.How = "may give it to others"
		}
		switch {
		case !inherit && set:
			m.Term = "after SET ROLE " + r.roles[role]
		case !inherit:
			return nil // neither its rights nor the way to them
		}
		r.Memberships = append(r.Memberships, m)
		return nil
	})
	return err
}

// database reads what stands in one.
func (r *rightsReader) database(ctx context.Context, d database) *connect.Failure {
	target := r.target
	options := map[string]string{}
	for name, value := range target.Options {
		options[name] = value
	}
	options[OptionDatabase] = d.name
	target.Options = options
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return failed
	}
	defer closing(conn)
	for _, query := range []string{schemasQuery, relationsQuery, columnsQuery, functionsQuery, defaultsQuery} {
		rows, err := conn.Query(ctx, query)
		if err == nil {
			var kind, name, more string
			var owner int64
			var given []string
			_, err = pgx.ForEachRow(rows, []any{&kind, &name, &owner, &more, &given}, func() error {
				r.list(d, kind, name, owner, more, given)
				return nil
			})
		}
		if err != nil {
			return failure(target, connect.StageRead, err, false)
		}
	}
	return nil
}

var keywords = map[string]string{"table": "TABLE", "view": "TABLE", "sequence": "SEQUENCE", "schema": "SCHEMA", "function": "FUNCTION", "database": "DATABASE"}

// list makes a list of what aclexplode tells of one object: "GRANTEE PRIVILEGE GRANTABLE".
// more is a column, or what is to be known of a function.
func (r *rightsReader) list(in database, kind, name string, owner int64, more string, given []string) {
	shown, key := name, kind+":"+name
	if in.name != "" {
		shown, key = in.name+"."+name, in.name+":"+key
	}
	column := ""
	if kind == "table" || kind == "view" {
		if column = more; column != "" {
			key += ":" + column
		}
	}
	l := privilege.List{Key: key, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: kind, Name: shown}}}
	if owner != 0 {
		l.Entries = append(l.Entries, privilege.Entry{To: r.ownerIn(in, owner), Verb: privilege.VerbOwn, Text: "OWNER TO " + quoted(r.roles[owner])})
	}
	for _, line := range given {
		var oid int64
		var verb, grantable string
		if f := strings.Fields(line); len(f) >= 3 {
			_, _ = fmt.Sscan(f[0], &oid)
			verb, grantable = strings.Join(f[1:len(f)-1], " "), f[len(f)-1]
		}
		e := privilege.Entry{To: r.ownerIn(in, oid), Verb: strings.ToLower(verb), What: column}
		to := "PUBLIC"
		if oid != 0 {
			to = quoted(r.roles[oid])
		}
		if column != "" {
			verb += " (" + quoted(column) + ")"
		}
		if word := keywords[kind]; word != "" {
			e.Text = "GRANT " + verb + " ON " + word + " " + name + " TO " + to
		} else {
			e.Text = "ALTER DEFAULT PRIVILEGES " + strings.TrimPrefix(kind, "future ") + " " + name + " GRANT " + verb + " TO " + to
		}
		if grantable == "true" && oid != owner {
			e.Text += " WITH GRANT OPTION"
		}
		if kind == "function" && more != "" {
			e.Terms = []string{more}
		}
		l.Entries = append(l.Entries, e)
	}
	r.Lists = append(r.Lists, l)
}

// ownerIn is the principal of a role in a database: pg_database_owner is the owner of it.
func (r *rightsReader) ownerIn(in database, oid int64) string {
	if r.roles[oid] == "pg_database_owner" && in.name != "" {
		return stableID(in.owner)
	}
	return grantee(oid)
}

func quoted(name string) string {
	if plain(name) {
		return name
	}
	return pgx.Identifier{name}.Sanitize()
}

func plain(name string) bool {
	for i, c := range name {
		if c != '_' && (c < 'a' || c > 'z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return name != ""
}
