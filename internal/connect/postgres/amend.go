package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// asks are the questions about one privilege, by kind of object: whether an entry of its access
// list gives it to the role, whether with the right to grant it on, and the server's own
// verdict (PostgreSQL's manual, "Access Privilege Inquiry Functions"). $1 is the role, $2 the
// privilege, $3 the object.
var asks = map[string]string{
	"table":    relationAsk("r"),
	"view":     relationAsk("r"),
	"sequence": strings.ReplaceAll(relationAsk("s"), "has_table_privilege", "has_sequence_privilege"),
	"schema": `SELECT COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2), false), COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2 AND a.is_grantable), false), bool_and(has_schema_privilege(r.oid, n.oid, $2))
	FROM pg_roles r, pg_namespace n LEFT JOIN LATERAL aclexplode(COALESCE(n.nspacl, acldefault('n', n.nspowner))) a ON true WHERE r.rolname = $1 AND n.nspname = $3`,
	"database": `SELECT COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2), false), COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2 AND a.is_grantable), false), bool_and(has_database_privilege(r.oid, d.oid, $2))
	FROM pg_roles r, pg_database d LEFT JOIN LATERAL aclexplode(COALESCE(d.datacl, acldefault('d', d.datdba))) a ON true WHERE r.rolname = $1 AND d.datname = $3`,
}

func relationAsk(class string) string {
	return `SELECT COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2), false), COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2 AND a.is_grantable), false), bool_and(has_table_privilege(r.oid, c.oid, $2))
	FROM pg_roles r, pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN LATERAL aclexplode(COALESCE(c.relacl, acldefault('` + class + `', c.relowner))) a ON true WHERE r.rolname = $1 AND n.nspname || '.' || c.relname = $3`
}

const columnAsk = `SELECT COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2), false), COALESCE(bool_or(a.grantee = r.oid AND a.privilege_type = $2 AND a.is_grantable), false), bool_and(has_column_privilege(r.oid, c.oid, t.attnum, $2))
	FROM pg_roles r, pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute t ON t.attrelid = c.oid LEFT JOIN LATERAL aclexplode(t.attacl) a ON true WHERE r.rolname = $1 AND n.nspname || '.' || c.relname = $3 AND t.attname = $4`

const memberAsk = `SELECT m.member IS NOT NULL, COALESCE(m.admin_option, false), pg_has_role(r.oid, g.oid, 'MEMBER')
	FROM pg_roles r JOIN pg_roles g ON g.rolname = $2 LEFT JOIN (SELECT member, roleid, bool_or(admin_option) AS admin_option FROM pg_auth_members GROUP BY 1, 2) m ON m.member = r.oid AND m.roleid = g.oid WHERE r.rolname = $1`

// attributeColumns are where the server keeps what attributes say.
var attributeColumns = map[string]string{"SUPERUSER": "rolsuper", "CREATEROLE": "rolcreaterole", "CREATEDB": "rolcreatedb", "REPLICATION": "rolreplication", "BYPASSRLS": "rolbypassrls"}

// openFor signs in to the database that a change is about.
func openFor(ctx context.Context, target connect.Target, c privilege.RightChange) (*pgx.Conn, *connect.Failure) {
	if c.Group == "" && grantable[c.Object.Kind].parts > 0 {
		database, _, _ := strings.Cut(c.Object.Name, ".")
		options := map[string]string{}
		for name, value := range target.Options {
			options[name] = value
		}
		options[OptionDatabase] = database
		target.Options = options
	}
	conn, failure := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // nothing was begun
	}
	return conn, failure
}

// Standing implements connect.Amender.
func (c Connector) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (connect.Standing, error) {
	if _, failure := connect.Amendable(c, target, change); failure != nil {
		return connect.Standing{}, failure
	}
	conn, failed := openFor(ctx, target, change)
	if failed != nil {
		return connect.Standing{}, failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	query, args := question(change)
	var out connect.Standing
	var more bool
	var inForce *bool // nothing is aggregated where the object is not there
	err := conn.QueryRow(limited, query, args...).Scan(&out.There, &more, &inForce)
	switch {
	case errors.Is(err, pgx.ErrNoRows) || err == nil && inForce == nil:
		return out, target.Fail(connect.StageRead, connect.CodeGone, "there is no "+change.To+", or not what "+change.Words()+" is about", "run a survey of "+target.Name, nil)
	case err != nil:
		f := failure(target, connect.StageRead, err, false)
		f.Unclear = false
		return out, f
	}
	out.InForce = *inForce
	if more && change.Group != "" { // of a grant that is taken, the change has its text
		out.Former = "GRANT WITH ADMIN OPTION"
	}
	out.Words = fmt.Sprintf("the server says: granted to it directly: %s; in force, whatever gives it: %s", yesNo(out.There), yesNo(out.InForce))
	return out, nil
}

// question is what the server is asked about a change.
func question(c privilege.RightChange) (query string, args []any) {
	if c.Group != "" {
		return memberAsk, []any{c.To, c.Group}
	}
	if column := attributeColumns[attributes[c.Verb]]; column != "" && (c.Object.Kind == "" || c.Object.Kind == privilege.ObjectSystem) {
		return "SELECT " + column + ", false, " + column + " FROM pg_roles WHERE rolname = $1", []any{c.To}
	}
	_, name, _ := strings.Cut(c.Object.Name, ".")
	if c.Object.Kind == "database" {
		name = c.Object.Name
	}
	args = []any{c.To, strings.ToUpper(c.Verb), name}
	if c.What != "" {
		return columnAsk, append(args, c.What)
	}
	return asks[c.Object.Kind], args
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// Amend implements connect.Amender. One statement is sent, and the server takes no more than one.
func (c Connector) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	p, failure1 := connect.Amendable(c, target, change)
	if failure1 != nil {
		return failure1
	}
	conn, failed := openFor(ctx, target, change)
	if failed != nil {
		return failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	text := p.Text
	if back {
		text = p.Back
	}
	text = strings.TrimSuffix(text, ";\n")
	// Only one statement can be prepared: what a name might smuggle in ends here.
	if _, err := conn.Prepare(limited, "", text); err != nil {
		return failure(target, connect.StageChange, err, false)
	}
	if _, err := conn.Exec(limited, text); err != nil {
		f := failure(target, connect.StageChange, err, true)
		if f.Code == connect.CodeNotPermitted {
			f.Next = "let " + target.Steward.Account + " give it: 'moss system prepare " + target.Name + " --for amend' says how"
		}
		return f
	}
	return nil
}

// Try implements connect.Trier. The statement is taken back.
func (Connector) Try(ctx context.Context, target connect.Target, step string) (connect.Tried, error) {
	conn, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return connect.Tried{}, failed
	}
	defer closing(conn)
	limited, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	tx, err := conn.Begin(limited)
	if err != nil {
		return connect.Tried{}, failure(target, connect.StageProve, err, false)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(limited)) }()
	if _, err := tx.Exec(limited, step); err != nil {
		f := failure(target, connect.StageProve, err, true)
		if f.Code == connect.CodeUnreachable || f.Code == connect.CodeTimeout {
			return connect.Tried{}, f
		}
		return connect.Tried{Words: f.Words}, nil
	}
	return connect.Tried{OK: true}, nil
}
