package postgres

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
)

// Two roles that take turns are members of the same roles, of which one owns: neither owns
// or may anything itself. The one whose turn begins is given the memberships, settings and
// attributes of the other one, a password and LOGIN in one transaction: either it can do
// all that the other one can, or it cannot sign in. What rests has NOLOGIN, and goes on
// being a member. What a session makes belongs to the role that both are members of where
// the roles are set so (ALTER ROLE ... SET role), and that setting is brought over too.

// twinRole is a role as far as its turns are about it.
type twinRole struct {
	oid                                   int64
	super, replication, bypass            bool
	inherit, createDB, createRole, logsIn bool
	limit                                 int32
	until                                 pgtype.Timestamptz
	owns                                  int64
	roles                                 []string // that it is a direct member of; with "+" before them where it may give them on
	settings                              []string // database, a newline, name=value
	apart                                 []string // roles of which it is a member with other options than a plain GRANT gives
}

// Options of a membership are there since PostgreSQL 16: asked for by name they are nothing
// before.
const twinQuery = `SELECT r.oid::bigint, r.rolsuper, r.rolreplication, r.rolbypassrls, r.rolinherit, r.rolcreatedb, r.rolcreaterole, r.rolcanlogin, r.rolconnlimit, r.rolvaliduntil,
	(SELECT COUNT(*) FROM pg_shdepend s WHERE s.refclassid = 'pg_authid'::regclass AND s.refobjid = r.oid AND s.deptype IN ('o', 'a')),
	ARRAY(SELECT CASE WHEN m.admin_option THEN '+' ELSE '' END || g.rolname FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid ORDER BY 1),
	ARRAY(SELECT COALESCE(d.datname, '') || E'\n' || c FROM pg_db_role_setting s LEFT JOIN pg_database d ON d.oid = s.setdatabase, unnest(s.setconfig) c WHERE s.setrole = r.oid ORDER BY 1),
	ARRAY(SELECT g.rolname FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid
		AND (to_jsonb(m) ->> 'set_option' = 'false' OR (to_jsonb(m) ->> 'inherit_option')::boolean <> r.rolinherit) ORDER BY 1)
	FROM pg_roles r WHERE r.rolname = $1`

func readTwin(ctx context.Context, target connect.Target, conn *pgx.Conn, ref connect.AccountRef) (twinRole, *connect.Failure) {
	var r twinRole
	if _, failed := find(ctx, target, conn, ref); failed != nil {
		return r, failed
	}
	err := conn.QueryRow(ctx, twinQuery, ref.Name).Scan(&r.oid, &r.super, &r.replication, &r.bypass, &r.inherit, &r.createDB, &r.createRole, &r.logsIn, &r.limit, &r.until, &r.owns, &r.roles, &r.settings, &r.apart)
	if err != nil {
		return r, failure(target, connect.StageRead, err, false)
	}
	return r, nil
}

// readTwins reads both, and says what is in the way of their turns.
func readTwins(ctx context.Context, target connect.Target, conn *pgx.Conn, point connect.Point) (was, next twinRole, why string, failed *connect.Failure) {
	if was, failed = readTwin(ctx, target, conn, point.Account); failed != nil {
		return was, next, "", failed
	}
	if next, failed = readTwin(ctx, target, conn, point.Next); failed != nil {
		return was, next, "", failed
	}
	var out []string
	for _, r := range []struct {
		twinRole
		name, other string
	}{{was, point.Account.Name, point.Next.Name}, {next, point.Next.Name, point.Account.Name}} {
		if len(r.apart) > 0 {
			out = append(out, fmt.Sprintf("%s is a member of %s with options of its own (INHERIT, SET), which are not brought over", r.name, strings.Join(r.apart, ", ")))
		}
		switch {
		case r.super:
			out = append(out, r.name+" is a superuser")
		case r.owns > 0:
			out = append(out, fmt.Sprintf("%s itself owns or was granted %d objects, which %s is not: let a role that both are members of own them (REASSIGN OWNED, GRANT), and set both to it (ALTER ROLE ... SET role)", r.name, r.owns, r.other))
		case slices.Contains(r.roles, r.other) || slices.Contains(r.roles, "+"+r.other):
			out = append(out, r.name+" is a member of "+r.other+" itself")
		}
	}
	if was.replication != next.replication || was.bypass != next.bypass {
		out = append(out, "REPLICATION or BYPASSRLS differ, which only a superuser can change")
	}
	return was, next, strings.Join(out, "; "), nil
}

// Alternates implements connect.Accepter.
func (Connector) Alternates(ctx context.Context, target connect.Target, point connect.Point) (bool, string, error) {
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return false, "", failed
	}
	defer closing(conn)
	_, _, why, failed := readTwins(ctx, target, conn, point)
	if failed != nil {
		return false, "", failed
	}
	return why == "", why, nil
}

// acceptTurn lets both, or one of two roles sign in.
func acceptTurn(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		failed.Unclear = false // nothing was begun
		return failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	statements, failed := turnStatements(limited, target, conn, point, values, want)
	if failed != nil {
		return failed
	}
	tx, err := conn.Begin(limited)
	if err != nil {
		f := failure(target, connect.StageChange, err, false)
		return f
	}
	for _, statement := range statements {
		if _, err := tx.Exec(limited, statement); err != nil {
			f := failure(target, connect.StageChange, err, false) // it is taken back as a whole
			f.Words = secret.Scrub(f.Words, values.Old, values.New)
			return f
		}
	}
	if err := tx.Commit(limited); err != nil {
		return failure(target, connect.StageChange, err, true)
	}
	return nil
}

// turnStatements are those of one transaction.
func turnStatements(ctx context.Context, target connect.Target, conn *pgx.Conn, point connect.Point, values connect.Values, want connect.Accepted) ([]string, *connect.Failure) {
	role := func(ref connect.AccountRef) string { return "ALTER ROLE " + pgx.Identifier{ref.Name}.Sanitize() }
	if want == connect.AcceptNew {
		if _, failed := find(ctx, target, conn, point.Account); failed != nil {
			return nil, failed
		}
		return []string{role(point.Account) + " NOLOGIN"}, nil
	}
	was, next, why, failed := readTwins(ctx, target, conn, point)
	if failed != nil {
		return nil, failed
	}
	verifier, err := verifier(values.New, rand.Read)
	if err != nil {
		return nil, target.Fail(connect.StageChange, connect.CodePolicy, err.Error(), "", nil)
	}
	if target.Options[OptionVerifier] == "keep" {
		if old, known := hasMD5(ctx, target, conn, point.Account, values.Old); old && known {
			verifier = md5Verifier(point.Next.Name, values.New)
		}
	}
	password := " PASSWORD '" + verifier + "'"
	if want == connect.AcceptOld {
		return []string{role(point.Account) + " LOGIN", role(point.Next) + " NOLOGIN" + password}, nil
	}
	if why != "" {
		return nil, target.Fail(connect.StageChange, connect.CodeNotPermitted, why, "nothing was changed", nil)
	}
	var out []string
	if !was.logsIn { // undoing: the other one works already
		out = append(out, role(point.Account)+" LOGIN")
	}
	out = append(out, inStep(point.Next.Name, was, next)...)
	return append(out, role(point.Next)+" LOGIN"+password), nil
}

// inStep are the statements that give one role the memberships, settings and attributes of
// another one, as far as they differ.
func inStep(name string, was, next twinRole) (out []string) {
	me := pgx.Identifier{name}.Sanitize()
	for _, has := range next.roles {
		if !slices.Contains(was.roles, has) {
			out = append(out, "REVOKE "+pgx.Identifier{strings.TrimPrefix(has, "+")}.Sanitize()+" FROM "+me)
		}
	}
	for _, has := range was.roles {
		if slices.Contains(next.roles, has) {
			continue
		}
		plain, admin := strings.CutPrefix(has, "+")
		grant := "GRANT " + pgx.Identifier{plain}.Sanitize() + " TO " + me
		if admin {
			grant += " WITH ADMIN OPTION"
		}
		out = append(out, grant)
	}
	for _, flag := range []struct {
		was, next bool
		name      string
	}{{was.inherit, next.inherit, "INHERIT"}, {was.createDB, next.createDB, "CREATEDB"}, {was.createRole, next.createRole, "CREATEROLE"}} {
		switch {
		case flag.was && !flag.next:
			out = append(out, "ALTER ROLE "+me+" "+flag.name)
		case !flag.was && flag.next:
			out = append(out, "ALTER ROLE "+me+" NO"+flag.name)
		}
	}
	if was.limit != next.limit {
		out = append(out, fmt.Sprintf("ALTER ROLE %s CONNECTION LIMIT %d", me, was.limit))
	}
	if was.until != next.until {
		until := "infinity"
		switch {
		case !was.until.Valid:
		case was.until.InfinityModifier == pgtype.NegativeInfinity:
			until = "-infinity"
		case was.until.InfinityModifier == pgtype.Finite:
			until = was.until.Time.UTC().Format("2006-01-02 15:04:05.999999Z07:00")
		}
		out = append(out, "ALTER ROLE "+me+" VALID UNTIL '"+until+"'")
	}
	return append(out, settingStatements(me, was.settings, next.settings)...)
}

// listed are the settings whose value is a list of names, which stands in the catalogue as
// it is written in a statement (pg_dump of version 15 knows the same ones).
var listed = []string{"local_preload_libraries", "search_path", "session_preload_libraries", "shared_preload_libraries", "temp_tablespaces", "unix_socket_directories"}

func settingStatements(me string, was, next []string) (out []string) {
	at := func(setting string) (prefix, name, value string) {
		database, rest, _ := strings.Cut(setting, "\n")
		name, value, _ = strings.Cut(rest, "=")
		prefix = "ALTER ROLE " + me
		if database != "" {
			prefix += " IN DATABASE " + pgx.Identifier{database}.Sanitize()
		}
		return prefix, pgx.Identifier(strings.Split(name, ".")).Sanitize(), value
	}
	for _, has := range next {
		prefix, name, _ := at(has)
		if !slices.ContainsFunc(was, func(other string) bool { p, n, _ := at(other); return p == prefix && n == name }) {
			out = append(out, prefix+" RESET "+name)
		}
	}
	for _, has := range was {
		if slices.Contains(next, has) {
			continue
		}
		prefix, name, value := at(has)
		plain := strings.Trim(name, `"`)
		if !slices.Contains(listed, plain) {
			value = "'" + strings.ReplaceAll(value, "'", "''") + "'"
			if strings.Contains(value, `\`) {
				value = "E" + strings.ReplaceAll(value, `\`, `\\`)
			}
		}
		if value == "" {
			value = "''"
		}
		out = append(out, prefix+" SET "+name+" TO "+value)
	}
	return out
}

// rehearseTurn tells what bringing a role into step would come to.
func rehearseTurn(ctx context.Context, target connect.Target, conn *pgx.Conn, point connect.Point) []connect.Checked {
	line := connect.Checked{System: target.Name, What: point.Next.Name + " can do all that " + point.Account.Name + " can", Result: connect.CheckOK}
	was, next, why, failed := readTwins(ctx, target, conn, point)
	switch {
	case failed != nil:
		line.Result, line.Words, line.Next = connect.CheckFailed, failed.Words, failed.Next
		return []connect.Checked{line}
	case why != "":
		line.Result, line.Words = connect.CheckFailed, why
		return []connect.Checked{line}
	}
	if n := len(inStep(point.Next.Name, was, next)); n > 0 {
		line.Words = fmt.Sprintf("once it is in step: %d of its memberships, settings and attributes differ and are changed", n)
	}
	out := []connect.Checked{line}
	if !slices.ContainsFunc(was.settings, func(s string) bool { return strings.Contains(s, "\nrole=") }) && len(was.roles) > 0 {
		out = append(out, connect.Checked{
			System: target.Name, What: "what a session makes belongs to both", Result: connect.CheckWarning, Words: point.Account.Name + " is not set to a role that both are members of: what its sessions make from now on belongs to it alone",
			Next: "ALTER ROLE " + pgx.Identifier{point.Account.Name}.Sanitize() + " SET role = " + pgx.Identifier{strings.TrimPrefix(was.roles[0], "+")}.Sanitize() + ", if sessions of it make tables or the like",
		})
	}
	return out
}
