package privilege

import "strings"

// MatchCommands is the Matcher of stores whose access lists name commands and categories of
// them (@read), and keys by patterns. A question names a command, a command with its first
// word, or @all. What a category has, only the server knows.
func MatchCommands(e Entry, q Question) Answer {
	if q.What == "" {
		return AnswerYes
	}
	switch {
	case e.Verb != VerbRun:
		if e.What == "*" || e.What == q.What {
			return AnswerYes
		}
		if strings.ContainsAny(e.What, "*?[") {
			return AnswerUnsure
		}
	case e.What == "@all", strings.EqualFold(e.What, q.What), strings.HasPrefix(strings.ToLower(q.What), strings.ToLower(e.What)+" "):
		return AnswerYes
	case strings.HasPrefix(e.What, "@") && q.What != "@all":
		if len(e.Means) == 0 {
			return AnswerUnsure
		}
		for _, command := range e.Means {
			if strings.EqualFold(command, q.What) || strings.HasPrefix(strings.ToLower(q.What), strings.ToLower(command)+" ") {
				return AnswerYes
			}
		}
	}
	return AnswerNo
}
