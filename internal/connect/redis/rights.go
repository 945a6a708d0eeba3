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
func (Connector) Rights(ctx context.Context, target connect.Target, _ connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
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
	var problems []connect.Unread
	means := map[string][]string{}
	for i := range r.Lists {
		for j := range r.Lists[i].Entries {
			e := &r.Lists[i].Entries[j]
			category, is := strings.CutPrefix(e.What, "@")
			if !is || category == "all" || e.Verb != privilege.VerbRun {
				continue
			}
			if _, known := means[category]; !known {
				commands, err := conn.Do(ctx, "ACL", "CAT", category).StringSlice()
				switch {
				case err == nil:
				case refused(err):
					f := failure(target, connect.StageRead, err, false)
					problems = append(problems, connect.Unread{Stage: connect.StageRead, Place: "category " + e.What, What: f.Words, Next: f.Next})
				default:
					return t.Coverage, failure(target, connect.StageRead, err, false)
				}
				for k := range commands {
					commands[k] = strings.ReplaceAll(commands[k], "|", " ")
				}
				means[category] = commands
			}
			e.Means = means[category]
		}
	}
	return t.Coverage, t.Take(r, problems)
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
	keys := privilege.List{Key: "keys:" + name, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "keys", Name: privilege.AllNames}}}
	channels := privilege.List{Key: "channels:" + name, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "channels", Name: privilege.AllNames}}}
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
			channels.Entries = append(channels.Entries, e)
		}
		selector = selector && !ends
	}
	r.Lists = append(r.Lists, commands, keys, channels)
}
