package postgres

import (
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// grantable is the word of a kind of object in GRANT, and how many parts its name has after
// that of the database.
var grantable = map[string]struct {
	word  string
	parts int
}{"table": {"TABLE", 2}, "view": {"TABLE", 2}, "sequence": {"SEQUENCE", 2}, "schema": {"SCHEMA", 1}, "database": {"DATABASE", 0}}

// attributes of roles, by verb.
var attributes = map[string]string{privilege.VerbEverything: "SUPERUSER", "manage roles": "CREATEROLE", "create databases": "CREATEDB", "replicate": "REPLICATION", "pass row security": "BYPASSRLS"}

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "as an administrator of " + target.Name + ", in psql", Language: "sql"}
	if !connect.Copyable(c.To, c.Group, c.Object.Name, c.What, c.Text) {
		return out, connect.WhyNotName
	}
	to := quoted(c.To)
	if c.Group != "" {
		out.Text, out.Back = "GRANT "+quoted(c.Group)+" TO "+to+adminOption(c.Text)+";\n", "REVOKE "+quoted(c.Group)+" FROM "+to+";\n"
		return out.Turned(c.Give), ""
	}
	database, name, _ := strings.Cut(c.Object.Name, ".")
	if c.Object.Kind != privilege.ObjectSystem && c.Object.Kind != "database" && c.Object.Kind != "" {
		out.Where += ", in the database " + database
	}
	if !c.Give && c.ToKind == privilege.KindEveryone {
		return out, connect.WhyNotEveryone
	}
	if !c.Give {
		switch _, ok := connect.Given(c.Text); {
		case !ok:
			return out, "it has this because it owns the object, or by the server itself: give the object to another owner"
		case grantable[c.Object.Kind].word == "" && attributes[c.Verb] == "":
			return taken(out, c)
		}
	}
	if attribute := attributes[c.Verb]; attribute != "" && (c.Object.Kind == "" || c.Object.Kind == privilege.ObjectSystem) {
		out.Text, out.Back = "ALTER ROLE "+to+" "+attribute+";\n", "ALTER ROLE "+to+" NO"+attribute+";\n"
		return out.Turned(c.Give), ""
	}
	how, known := grantable[c.Object.Kind]
	switch {
	case !known || !plainVerb(c.Verb):
		return out, "a charter that names the kind of the object, such as table:DATABASE.SCHEMA.NAME, can be put into words of SQL"
	case how.parts == 0:
		name = c.Object.Name
	}
	words := []string{name}
	if how.parts == 2 {
		words = strings.SplitN(name, ".", 2)
	}
	if len(words) != max(1, how.parts) || name == "" || strings.Contains(name, "*") {
		return out, "the object is not named in full: DATABASE.SCHEMA.NAME"
	}
	for i, w := range words {
		words[i] = quoted(w)
	}
	verb := strings.ToUpper(c.Verb)
	if c.What != "" {
		verb += " (" + quoted(c.What) + ")"
	}
	on := " ON " + how.word + " " + strings.Join(words, ".")
	option := ""
	if strings.HasSuffix(c.Text, " WITH GRANT OPTION") {
		option = " WITH GRANT OPTION"
	}
	out.Text, out.Back = "GRANT "+verb+on+" TO "+to+option+";\n", "REVOKE "+verb+on+" FROM "+to+";\n"
	return out.Turned(c.Give), ""
}

// taken is a grant on an object of another kind turned around, as it stands. Names in it that
// would be something else in a statement are left to a person.
func taken(out connect.Proposal, c privilege.RightChange) (connect.Proposal, string) {
	text, _ := connect.Given(c.Text)
	if strings.Trim(c.Text, `ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_., ()[]"`) != "" {
		return out, connect.WhyNotName
	}
	out.Text, out.Back = text+";\n", c.Text+";\n"
	out.ByHand = "grants on objects of the kind " + c.Object.Kind + " are changed by a person"
	return out, ""
}

// adminOption is kept where a membership had it.
func adminOption(text string) string {
	if strings.HasSuffix(text, " WITH ADMIN OPTION") {
		return " WITH ADMIN OPTION"
	}
	return ""
}

func plainVerb(verb string) bool {
	return verb != "" && strings.Trim(verb, "abcdefghijklmnopqrstuvwxyz ") == ""
}
