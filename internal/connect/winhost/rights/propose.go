package rights

import (
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// letters of what is given on a service, as descriptors write them ([MS-DTYP], section 2.5.1.1).
var letters = map[string]string{
	VerbStart: "RP", VerbStop: "WP", VerbChange: "DC", verbPermissions: "WD", verbOwn: "WO", verbDelete: "SD", privilege.VerbEverything: "CCDCLCSWRPWPDTLOCRSDRCWDWO",
}

// Propose says how a membership of a local group, a right of users or one on a service is
// changed.
func Propose(system string, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "in an elevated PowerShell on " + system, Language: "powershell", ByHand: "rights on systems of this kind are not changed from here"}
	constant := constantOf(c)
	switch {
	case !connect.Copyable(c.To, c.Group, c.Object.Name, c.Text):
		return out, connect.WhyNotName
	case c.Group != "":
		tail := " -Group " + quoted(c.Group) + " -Member " + quoted(c.To) + "\n"
		out.Text, out.Back = "Add-LocalGroupMember"+tail, "Remove-LocalGroupMember"+tail
	case constant != "":
		out.Where, out.Language = "in the policy of the domain that sets "+constant+" on "+system+", or in the host's own security policy where none does", "text"
		out.Text, out.Back = "add "+c.To+" to "+constant+"\n", "remove "+c.To+" from "+constant+"\n"
	case c.Object.Kind == "service" && letters[c.Verb] != "" && (c.Give || strings.HasPrefix(c.Text, "(A;") && !strings.ContainsAny(c.Text, "\"`$")):
		entry := "(A;;" + letters[c.Verb] + ";;;$sid)"
		if !c.Give {
			entry = c.Text
		}
		read := "$sd = (sc.exe sdshow " + quoted(c.Object.Name) + ") -join ''\n"
		if c.Give {
			read = "$sid = ([System.Security.Principal.NTAccount]" + quoted(c.To) + ").Translate([System.Security.Principal.SecurityIdentifier])\n" + read
		}
		write := "sc.exe sdset " + quoted(c.Object.Name) + " "
		out.Text, out.Back = read+write+`$sd.Replace("D:", "D:`+entry+`")`+"\n", read+write+`$sd.Replace("`+entry+`", "")`+"\n"
	default:
		return out, "it comes with a local group, or from something that is not changed by itself"
	}
	return out.Turned(c.Give), ""
}

func quoted(name string) string { return "'" + strings.ReplaceAll(name, "'", "''") + "'" }

// constantOf is the right of users that a change is about; "" for none.
func constantOf(c privilege.RightChange) string {
	for _, r := range userRights {
		if !r.deny && r.verb == c.Verb && r.what == c.What && c.Object.Kind != "service" {
			return r.constant
		}
	}
	return ""
}
