package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
)

// userListLine is a line of a connection pooler's list of users: a name and what proves
// it, in double quotes that are written twice inside; what follows is a comment.
var userListLine = regexp.MustCompile(`^[ \t]*"((?:[^"]|"")*)"[ \t]+("(?:[^"]|"")*")`)

// looksUserList: every line is of that form, but comments and blank ones.
func looksUserList(content []byte) bool {
	some := false
	for line := range bytes.Lines(bytes.TrimPrefix(content, byteOrder)) {
		line = bytes.TrimSpace(line)
		switch {
		case len(line) == 0 || line[0] == ';':
		case userListLine.Match(line):
			some = true
		default:
			return false
		}
	}
	return some
}

func scanUserList(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	lines(content, ";", func(start, end, number int) int {
		m := userListLine.FindSubmatchIndex(content[start:end])
		if m == nil {
			problems = append(problems, Problem{number, `not "name" "password"`})
			return end
		}
		user := strings.ReplaceAll(string(content[start+m[2]:start+m[3]]), `""`, `"`)
		text := string(content[start+m[4]+1 : start+m[5]-1])
		out = append(out,
			Value{Key: user, Name: "password", Within: user, Start: start + m[4], End: start + m[5], Line: number, Text: strings.ReplaceAll(text, `""`, `"`)},
			Value{Key: user + " user", Name: "user", Within: user, Start: start + m[2], End: start + m[3], Line: number, Text: user})
		return end
	})
	return out, problems, nil
}

func encodeUserList(text string, _ []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	if strings.ContainsRune(text, 0) {
		return "", fmt.Errorf("%w: a NUL ends the value", ErrCannotCarry)
	}
	return `"` + strings.ReplaceAll(text, `"`, `""`) + `"`, nil
}
