package redis

import (
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	out := connect.Proposal{Where: "as an administrator of " + target.Name + ", in redis-cli", Language: "acl"}
	for _, word := range []string{c.To, c.What} {
		if !connect.Copyable(word) || strings.ContainsAny(word, `"'\`) || word == c.To && strings.Contains(word, " ") {
			return out, connect.WhyNotName
		}
	}
	what := c.What
	if what == "ALL" {
		what = "@all"
	}
	if c.Verb == privilege.VerbRun && what != "" {
		what = strings.ToLower(strings.ReplaceAll(what, " ", "|"))
		out.Text, out.Back = "ACL SETUSER "+c.To+" +"+what+"\n", "ACL SETUSER "+c.To+" -"+what+"\n"
		if strings.HasPrefix(what, "@") {
			out.ByHand = "a category taken from a list takes what was given one by one, too: a person says what is to stay"
		}
		return out.Turned(c.Give), ""
	}
	sign := map[string]string{"read and write": "~", "read": "%R~", "write": "%W~", "use channels": "&"}[c.Verb]
	if sign == "" || what == "" || strings.Contains(what, " ") {
		return out, "the server has no single word for it"
	}
	// The server takes no single pattern back: what would, takes all of them.
	return out, "a pattern is given by ACL SETUSER with " + sign + what + ", and taken back only with all others, by resetkeys or resetchannels and those that are to stay"
}
