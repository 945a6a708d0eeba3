package mariadb

import (
	"cmp"
	"strings"

	"mossledger.example/moss/internal/connect"
)

// procedureText is the procedure that sets passwords of accounts whose names begin with
// svc_, as the tests use it; the first line names it.
const procedureText = `DELIMITER //
CREATE OR REPLACE PROCEDURE PROCEDURE_NAME(IN u VARCHAR(80), IN h VARCHAR(200), IN newhash CHAR(41), IN oldhash CHAR(41)) SQL SECURITY DEFINER
BEGIN
 IF u NOT LIKE 'svc\_%' OR newhash NOT REGEXP '^[*][0-9A-F]{40}$' OR oldhash NOT REGEXP '^([*][0-9A-F]{40})?$' THEN SIGNAL SQLSTATE '45000' SET message_text='not managed'; END IF;
 IF oldhash = '' THEN EXECUTE IMMEDIATE CONCAT('alter user ',QUOTE(u),'@',QUOTE(h),' identified via mysql_native_password using ',QUOTE(newhash));
 ELSE EXECUTE IMMEDIATE CONCAT('alter user ',QUOTE(u),'@',QUOTE(h),' identified via mysql_native_password using ',QUOTE(newhash),' or mysql_native_password using ',QUOTE(oldhash)); END IF;
END//
DELIMITER ;
`

// Prepare implements connect.Preparer.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	name := quote(connect.PlainName(target.Steward.Account, "mossmgr")) + "@'%'"
	where := "as an administrator of " + target.Name + ", in its client"
	var rights strings.Builder
	for _, table := range []string{"roles_mapping", "db", "tables_priv", "columns_priv", "procs_priv"} {
		rights.WriteString("GRANT SELECT ON mysql." + table + " TO " + name + ";\n")
	}
	procedure := cmp.Or(target.Options[OptionProcedure], "ops.rotate")
	database, _, _ := strings.Cut(procedure, ".")
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "the account; put its password in the place of the words, and end the client's history first", Where: where, Language: "sql", Text: "CREATE USER " + name + " IDENTIFIED BY 'PUT ITS PASSWORD HERE';\n"},
		{For: connect.ForRead, What: "to read accounts, and who is signed in", Where: where, Language: "sql", Text: "GRANT SELECT ON mysql.global_priv TO " + name + ";\nGRANT PROCESS ON *.* TO " + name + ";\n"},
		{For: connect.ForRights, What: "to read who may do what", Where: where, Language: "sql", Text: rights.String()},
		{For: connect.ForRotate, What: "to set passwords of accounts whose names begin with svc_, and of no others (option procedure=" + procedure + ")", Where: where, Language: "sql", Text: "CREATE DATABASE IF NOT EXISTS " + database + ";\n" + strings.Replace(procedureText, "PROCEDURE_NAME", procedure, 1) + "GRANT EXECUTE ON PROCEDURE " + procedure + " TO " + name + ";\n"},
		{For: connect.ForEnd, What: "to end passwords, to lock and to drop accounts: with it every account can be given another password, an administrator's too", Where: where, Language: "sql", Text: "GRANT CREATE USER ON *.* TO " + name + ";\n"},
		{For: connect.ForAmend, What: "to give and take rights in a database: whoever gives must have them, with the option to grant. Once for each database, with its name in the place of the words", Where: where, Language: "sql", Text: "GRANT SELECT ON mysql.* TO " + name + ";\nGRANT ALL PRIVILEGES ON `PUT-THE-DATABASE-HERE`.* TO " + name + " WITH GRANT OPTION;\n"},
	}
}
