package cloud

import "mossledger.example/moss/internal/connect"

// Prepare implements connect.Preparer.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	name := connect.PlainName(target.Steward.Account, "mossmgr@"+connect.PlainName(target.Name, "project")+".example")
	where := "as an administrator of the project " + target.Name
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "the identity " + name + ", and a key for it whose end you choose: upload the certificate to the identity, and give steward.key to 'moss steward add --key-file'. Remove both files then", Where: where + ", at a shell", Language: "sh", Text: "umask 077\nopenssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 365 -subj /CN=" + name + " -keyout steward.key -out steward.pem\n"},
		{For: connect.ForRead, What: "to read identities and their keys: the right to manage the identities of the project, and no other", Where: where, Language: "sh", Text: "# let " + name + " manage the identities of the project\n"},
		{For: connect.ForEnd, What: "to disable, enable and delete keys and identities: the same right", Where: where, Language: "sh", Text: "# let " + name + " manage the identities of the project\n"},
	}
}
