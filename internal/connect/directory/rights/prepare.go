package rights

import (
	"cmp"
	"strings"

	"mossledger.example/moss/internal/connect"
)

// managedClass is msDS-GroupManagedServiceAccount ([MS-ADSC]).
const managedClass = "7b8b558a-93a5-4af7-adca-c017e67f1057"

// Prepare says what a steward of a directory must be given. Where its schema is not known
// yet, both are told.
func Prepare(steward, system, base string, known connect.Known) []connect.Preparation {
	var out []connect.Preparation
	steward = strings.Map(func(c rune) rune { // a distinguished name in quotes: nothing ends them, or the line
		if c == '"' || c == '\\' && !strings.Contains(steward, "=") || c < ' ' {
			return '_'
		}
		return c
	}, steward)
	if !strings.HasPrefix(known.Flavor, "rfc") {
		sid := cmp.Or(known.SID, "PUT-THE-STEWARDS-SID-HERE")
		where := "as an administrator of the domain, on the organizational unit of the service accounts; inherited by what is below"
		user, line := "bf967aba-0de6-11d0-a285-00aa003049e2", func(rights, object, class string) string {
			return "(OA;CIIO;" + rights + ";" + object + ";" + class + ";" + sid + ")"
		}
		out = append(out,
			connect.Preparation{For: connect.ForRead, What: "to read: nothing more than what every account of a domain may by default, permissions included", Where: "an ordinary account " + steward + " in " + system, Language: "sddl", Text: "(A;CI;LCRPRC;;;" + sid + ")\n"},
			connect.Preparation{For: connect.ForRotate, What: "to reset passwords, and to lift what a reset lifts", Where: where, Language: "sddl", Text: line("CR", "00299570-246d-11d0-a768-00aa006e0529", user) + "\n" + line("RPWP", "bf967a0a-0de6-11d0-a285-00aa003049e2", user) + "\n" + line("RPWP", "28630ebf-41d5-11d1-a9c1-0000f80367c1", user) + "\n"},
			connect.Preparation{For: connect.ForEnd, What: "to set when accounts end, to have passwords changed, to disable and to delete them", Where: where, Language: "sddl", Text: line("RPWP", "bf967915-0de6-11d0-a285-00aa003049e2", user) + "\n" + line("RPWP", "bf967a0a-0de6-11d0-a285-00aa003049e2", user) + "\n" + line("RPWP", "bf967a68-0de6-11d0-a285-00aa003049e2", user) + "\n" + line("SD", "", user) + "\n"},
			connect.Preparation{For: connect.ForAmend, What: "to give and take memberships of the groups below: leave out those of administrators", Where: "as an administrator of the domain, on the organizational unit of the groups; inherited by what is below", Language: "sddl", Text: line("RPWP", "bf9679c0-0de6-11d0-a285-00aa003049e2", "bf967a9c-0de6-11d0-a285-00aa003049e2") + "\n"},
			connect.Preparation{For: connect.ForManage, What: "to create managed accounts, to take back those it created, and to say whose hosts may ask for their passwords", Where: "as an administrator of the domain, on the container of the managed accounts", Language: "sddl", Text: "(OA;;CCDC;" + managedClass + ";;" + sid + ")\n" + line("RPWP", "888eedd6-ce04-df40-b462-b8a50e41ba38", managedClass) + "\n"})
	}
	if !strings.HasPrefix(known.Flavor, "windows") {
		base = cmp.Or(base, "dc=larkmoor,dc=example")
		where := "in the server's own configuration of " + system + ", before the rules that are there"
		out = append(out, connect.Preparation{For: connect.ForRotate, What: "to set passwords below ou=services and see whether accounts are locked; everything else it reads as others do", Where: where, Language: "ldif", Text: "olcAccess: to dn.children=\"ou=services," + base + "\" attrs=userPassword,pwdAccountLockedTime,pwdReset\n  by dn.exact=\"" + steward + "\" write by self write by anonymous auth by * none\nolcLimits: dn.exact=\"" + steward + "\" size=unlimited\n"},
			connect.Preparation{For: connect.ForRights, What: "to read who may write what: the rules in the server's own configuration, and nothing secret of it", Where: "in the database config of " + system + ", before the rules that are there", Language: "ldif", Text: "olcAccess: to dn.subtree=\"cn=config\" attrs=entry,objectClass,olcDatabase,olcSuffix,olcAccess,olcRootDN\n  by dn.exact=\"" + steward + "\" read by * break\n"},
			connect.Preparation{For: connect.ForEnd, What: "to set when accounts below ou=services end, to lock and to delete them", Where: where, Language: "ldif", Text: "olcAccess: to dn.children=\"ou=services," + base + "\" attrs=pwdEndTime,pwdAccountLockedTime,pwdReset\n  by dn.exact=\"" + steward + "\" write by * none\nolcAccess: to dn.subtree=\"ou=services," + base + "\" attrs=entry,children\n  by dn.exact=\"" + steward + "\" write by * break\n"},
			connect.Preparation{For: connect.ForAmend, What: "to give and take memberships of the groups below ou=groups: leave out those of administrators", Where: where, Language: "ldif", Text: "olcAccess: to dn.children=\"ou=groups," + base + "\" attrs=member\n  by dn.exact=\"" + steward + "\" write by * break\n"})
	}
	return out
}
