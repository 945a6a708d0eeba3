package rights

import (
	"encoding/base64"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Propose says how a membership or a control right is changed. The account is named by its
// distinguished name, as the group is.
func Propose(system string, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "as an administrator of " + system + ", with ldapmodify", Language: "ldif"}
	if c.Group == "" {
		if !c.Give && strings.HasPrefix(c.Text, "(") && connect.Copyable(c.Text, c.Object.Name) {
			out.Language, out.Where = "sddl", "as an administrator of "+system+": this entry is taken out of the permissions of "+c.Object.Name+" (where it is inherited, out of those above)"
			out.Text, out.Back = c.Text+"\n", c.Text+"\n"
			out.ByHand = "entries in permissions are changed by a person"
			return out, ""
		}
		return out, "it is given by an entry in the permissions of the object"
	}
	group, member := c.GroupDN, c.ToDN
	switch {
	case group == "":
		return out, "its members are not named by their distinguished names, or no survey has read its own yet"
	case member == "":
		return out, "the account has no distinguished name that is known"
	}
	body := func(act string) string {
		return line("dn", group) + "changetype: modify\n" + act + ": member\n" + line("member", member) + "-\n"
	}
	out.Text, out.Back = body("add"), body("delete")
	return out.Turned(c.Give), ""
}

// line writes an attribute of LDIF: what is no safe string is written in base64 (RFC 2849).
func line(name, value string) string {
	safe := value != "" && !strings.HasPrefix(value, " ") && !strings.HasPrefix(value, ":") && !strings.HasPrefix(value, "<") && !strings.HasSuffix(value, " ")
	for _, c := range []byte(value) {
		safe = safe && c >= ' ' && c < 127
	}
	if safe {
		return name + ": " + value + "\n"
	}
	return name + ":: " + base64.StdEncoding.EncodeToString([]byte(value)) + "\n"
}
