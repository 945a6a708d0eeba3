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
		out.Text, out.Back = "GRANT "+quoted(c.Group)+" TO "+to+";\n", "REVOKE "+quoted(c.Group)+" FROM "+to+";\n"
		return out.Turned(c.Give), ""
	}
	database, name, _ := strings.Cut(c.Object.Name, ".")
	if c.Object.Kind != privilege.ObjectSystem && c.Object.Kind != "database" && c.Object.Kind != "" {
		out.Where += ", in the database " + database
	}
	if !c.Give {
		taken, ok := connect.Given(c.Text)
		if c.ToKind == privilege.KindEveryone {
			return out, connect.WhyNotEveryone
		}
		if !ok {
			return out, "it has this because it owns the object, or by the server itself: give the object to another owner"
		}
		out.Text, out.Back = taken+";\n", c.Text+";\n"
		return out, ""
	}
	if attribute := attributes[c.Verb]; attribute != "" && (c.Object.Kind == "" || c.Object.Kind == privilege.ObjectSystem) {
		out.Text, out.Back = "ALTER ROLE "+to+" "+attribute+";\n", "ALTER ROLE "+to+" NO"+attribute+";\n"
		return out, ""
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
	out.Text, out.Back = "GRANT "+verb+on+" TO "+to+";\n", "REVOKE "+verb+on+" FROM "+to+";\n"
	return out, ""
}

func plainVerb(verb string) bool {
	return verb != "" && strings.Trim(verb, "abcdefghijklmnopqrstuvwxyz ") == ""
}
