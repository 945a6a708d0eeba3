package postgres

import "mossledger.example/moss/internal/connect"

// Prepare implements connect.Preparer.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	name := quoted(connect.PlainName(target.Steward.Account, "mossmgr"))
	where := "as a superuser of " + target.Name + ", in psql"
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "the role " + name + "; the password is asked for and stands in no log", Where: where, Language: "sql", Text: "CREATE ROLE " + name + " LOGIN;\n\\password " + name + "\n"},
		{For: connect.ForRead, What: "to see from where roles are signed in", Where: where, Language: "sql", Text: "GRANT pg_read_all_stats TO " + name + ";\n"},
		{For: connect.ForRights, What: "to read who may do what in each database", Where: where, Language: "sql", Text: "SELECT format('GRANT CONNECT ON DATABASE %I TO %I', datname, '" + connect.PlainName(target.Steward.Account, "mossmgr") + "') FROM pg_database WHERE datallowconn AND NOT datistemplate \\gexec\n"},
		{For: connect.ForRotate, What: "to change passwords of roles that are no superusers (from version 16 also the ADMIN option on each)", Where: where, Language: "sql", Text: "ALTER ROLE " + name + " CREATEROLE;\n"},
		{For: connect.ForEnd, What: "to set when roles end, to shut and to drop them (from version 16 also the ADMIN option on each)", Where: where, Language: "sql", Text: "ALTER ROLE " + name + " CREATEROLE;\n"},
		{For: connect.ForAmend, What: "to give and take rights: the roles that own what it is to give, in each database whose rights it changes. What superusers own it cannot give", Where: where, Language: "sql", Text: "SELECT DISTINCT format('GRANT %I TO %I', r.rolname, '" + connect.PlainName(target.Steward.Account, "mossmgr") + "') FROM (SELECT c.relowner AS owner FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' UNION SELECT datdba FROM pg_database) o JOIN pg_roles r ON r.oid = o.owner WHERE NOT r.rolsuper AND r.rolname <> '" + connect.PlainName(target.Steward.Account, "mossmgr") + "' \\gexec\n"},
	}
}
