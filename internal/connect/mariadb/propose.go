package mariadb

import (
	"regexp"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "as an administrator of " + target.Name + ", in its client", Language: "sql"}
	if !connect.Copyable(c.To, c.Group, c.Object.Name, c.What, c.Text) {
		return out, connect.WhyNotName
	}
	user, host, _ := cutHost(c.To)
	to := quote(user) + "@" + quote(host)
	if c.ToKind == privilege.KindRole {
		to = quote(c.To)
	}
	if c.Group != "" {
		option := ""
		if strings.HasSuffix(c.Text, adminOption) {
			option = adminOption
		}
		out.Text, out.Back = "GRANT "+quote(c.Group)+" TO "+to+option+";\n", "REVOKE "+quote(c.Group)+" FROM "+to+";\n"
		return out.Turned(c.Give), ""
	}
	if !c.Give {
		if c.ToKind == privilege.KindEveryone {
			return out, connect.WhyNotEveryone
		}
		taken, ok := connect.Given(c.Text)
		if !ok {
			return out, "no GRANT gives it"
		}
		out.Text, out.Back = taken+";\n", c.Text+";\n"
		if !plainGrant.MatchString(c.Text) {
			out.ByHand = "a name in it is written in a way that only a person reads safely"
		}
		return out, ""
	}
	if c.Verb == "" || strings.Trim(c.Verb, "abcdefghijklmnopqrstuvwxyz ") != "" {
		return out, "the verb is none of the server's"
	}
	verb := strings.ToUpper(c.Verb)
	if c.Verb == privilege.VerbEverything {
		verb = "ALL PRIVILEGES"
	}
	if c.What != "" {
		verb += " (" + quoteName(c.What) + ")"
	}
	var on string
	database, name, deeper := strings.Cut(c.Object.Name, ".")
	switch {
	case c.Object.Kind == privilege.ObjectSystem || c.Object.Kind == "" && c.Object.Name == "":
		on = "*.*"
	case strings.Contains(c.Object.Name, "*"):
		return out, "the object is not named in full"
	case c.Object.Kind == "database":
		// In a grant on a database, these two stand for any letters (MariaDB's manual, "GRANT").
		on = quoteName(strings.NewReplacer("_", `\_`, "%", `\%`).Replace(c.Object.Name)) + ".*"
	case c.Object.Kind == "table" && deeper:
		on = quoteName(database) + "." + quoteName(name)
	case c.Object.Kind == "routine" && deeper:
		on = "PROCEDURE " + quoteName(database) + "." + quoteName(name)
	default:
		return out, "a charter that names the kind of the object, such as table:DATABASE.NAME, can be put into words of SQL"
	}
	out.Text, out.Back = "GRANT "+verb+" ON "+on+" TO "+to+";\n", "REVOKE "+verb+" ON "+on+" FROM "+to+";\n"
	return out, ""
}

const adminOption = " WITH ADMIN OPTION"

// plainGrant is a grant of which no name can be anything else.
var plainGrant = regexp.MustCompile("^GRANT [A-Z ]+( \\(`[\\w$-]+`\\))? ON (PROCEDURE )?(\\*|[\\w$-]+|`[\\w$%\\\\-]+`)\\.(\\*|[\\w$-]+|`[\\w$-]+`) TO '[\\w$.-]+'(@'[\\w$.:%/-]*')?( WITH GRANT OPTION)?$")

// cutHost parts USER@HOST at the last @: a user's name may have one.
func cutHost(name string) (user, host string, found bool) {
	i := strings.LastIndexByte(name, '@')
	if i < 0 {
		return name, "%", false
	}
	return name[:i], name[i+1:], true
}

func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
