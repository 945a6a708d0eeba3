package redis

import (
	"context"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// Rights implements connect.RightsReader: the rules of the access lists, in their order. The
// last rule that is about a command decides; what a category has the server knows, and a
// question for a command that only a category speaks of is answered as not sure.
func (Connector) Rights(ctx context.Context, target connect.Target, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	t := connect.RightsTaker{Emit: emit}
	conn, done, failed := open(ctx, target, target.Steward.Account, target.Steward.Password, connect.NewStopwatch())
	if failed != nil {
		return t.Coverage, failed
	}
	defer done()
	list, err := conn.Do(ctx, "ACL", "LIST").StringSlice()
	if err != nil {
		return t.Coverage, failure(target, connect.StageRead, err, false)
	}
	var r connect.Rights
	for _, line := range list {
		userRights(&r, target.Name, line)
	}
	return t.Coverage, t.Take(r, nil)
}

// userRights reads a line of ACL LIST.
func userRights(r *connect.Rights, system, line string) {
	words := strings.Fields(line)
	if len(words) < 2 || words[0] != "user" {
		return
	}
	id, name := stableID(words[1]), words[1]
	r.Principals = append(r.Principals, privilege.Principal{ID: id, Kind: privilege.KindAccount, Name: name})
	commands := privilege.List{Key: "commands:" + name, Decides: privilege.DecidesLast, Objects: []privilege.Object{{Kind: privilege.ObjectSystem, Name: system}}}
	keys := privilege.List{Key: "keys:" + name, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "keys", Name: privilege.AllNames}, {Kind: "channels", Name: privilege.AllNames}}}
	selector := false
	for _, word := range words[2:] {
		e := privilege.Entry{To: id, Text: "ACL SETUSER " + name + " " + word}
		if strings.HasPrefix(word, "(") {
			selector = true
		}
		if selector { // rules of their own, beside the others
			e.Terms = []string{"by a selector of its own"}
		}
		ends := strings.HasSuffix(word, ")")
		word = strings.Trim(word, "()")
		switch {
		case word == "":
		case word == "+@all":
			e.Verb, e.What = privilege.VerbRun, "@all"
			commands.Entries = append(commands.Entries, e)
		case word == "-@all":
		case word[0] == '+' || word[0] == '-':
			e.Verb, e.What, e.Deny = privilege.VerbRun, strings.ReplaceAll(word[1:], "|", " "), word[0] == '-'
			commands.Entries = append(commands.Entries, e)
		case word[0] == '~' || strings.HasPrefix(word, "%RW~"):
			e.Verb, e.What = "read and write", word[strings.IndexByte(word, '~')+1:]
			keys.Entries = append(keys.Entries, e)
		case strings.HasPrefix(word, "%R~"):
			e.Verb, e.What = "read", word[3:]
			keys.Entries = append(keys.Entries, e)
		case strings.HasPrefix(word, "%W~"):
			e.Verb, e.What = "write", word[3:]
			keys.Entries = append(keys.Entries, e)
		case word[0] == '&':
			e.Verb, e.What = "use channels", word[1:]
			keys.Entries = append(keys.Entries, e)
		}
		selector = selector && !ends
	}
	r.Lists = append(r.Lists, commands, keys)
}

// Matches is the privilege.Matcher of what userRights made. A question names a command, a
// command with its first word, or @all.
func Matches(e privilege.Entry, q privilege.Question) privilege.Answer {
	if q.What == "" {
		return privilege.AnswerYes
	}
	switch {
	case e.Verb != privilege.VerbRun:
		if e.What == "*" || e.What == q.What {
			return privilege.AnswerYes
		}
		if strings.ContainsAny(e.What, "*?[") {
			return privilege.AnswerUnsure
		}
	case e.What == "@all", strings.EqualFold(e.What, q.What), strings.HasPrefix(strings.ToLower(q.What), strings.ToLower(e.What)+" "):
		return privilege.AnswerYes
	case strings.HasPrefix(e.What, "@") && q.What != "@all":
		return privilege.AnswerUnsure
	}
	return privilege.AnswerNo
}
