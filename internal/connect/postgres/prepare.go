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
	}
}
