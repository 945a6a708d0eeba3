package rights

import (
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Propose says how a membership of a local group is changed.
func Propose(system string, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "in an elevated PowerShell on " + system, Language: "powershell", ByHand: "rights on systems of this kind are not changed from here"}
	switch {
	case !connect.Copyable(c.To, c.Group):
		return out, connect.WhyNotName
	case c.Group == "":
		return out, "it comes with a local group, or by a right of users that is set by policy"
	}
	quoted := func(name string) string { return "'" + strings.ReplaceAll(name, "'", "''") + "'" }
	tail := " -Group " + quoted(c.Group) + " -Member " + quoted(c.To) + "\n"
	out.Text, out.Back = "Add-LocalGroupMember"+tail, "Remove-LocalGroupMember"+tail
	return out.Turned(c.Give), ""
}
