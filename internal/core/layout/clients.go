package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
)

// scanPGPass reads PostgreSQL's password file (libpq, section "The Password
// File"): host:port:database:user:password, with \: and \\ as escapes.
func scanPGPass(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	lines(content, "#", func(start, end, number int) int {
		var fields [][2]int
		from := start
		for i := start; i < end && len(fields) < 4; i++ {
			switch content[i] {
			case '\\':
				i++
			case ':':
				fields = append(fields, [2]int{from, i})
				from = i + 1
			}
		}
		if len(fields) < 4 || from >= end {
			problems = append(problems, Problem{number, "not host:port:database:user:password"})
			return end
		}
		place := string(content[start : from-1])
		user := Unbackslash(string(content[fields[3][0]:fields[3][1]]))
		out = append(out,
			Value{Key: place, Name: "password", Within: place, Start: from, End: end, Line: number, Text: Unbackslash(string(content[from:end]))},
			Value{Key: place + " user", Name: "user", Within: place, Start: fields[3][0], End: fields[3][1], Line: number, Text: user})
		return end
	})
	return out, problems, nil
}

func encodePGPass(text string, _ []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	return strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(text), nil
}

var netrcToken = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|\S+`)

// scanNetrc reads .netrc: machine, login, password in any order, on one or
// several lines; a macro ends with an empty line.
func scanNetrc(content []byte) ([]Value, []Problem, error) {
	var out []Value
	machine := ""
	text := bytes.TrimPrefix(content, byteOrder)
	offset := len(content) - len(text)
	tokens := netrcToken.FindAllIndex(text, -1)
	for i := 0; i < len(tokens); i++ {
		word := string(text[tokens[i][0]:tokens[i][1]])
		if word[0] == '#' {
			for i+1 < len(tokens) && !bytes.Contains(text[tokens[i][1]:tokens[i+1][0]], []byte("\n")) {
				i++
			}
			continue
		}
		if word == "default" {
			machine = word
			continue
		}
		if i+1 >= len(tokens) {
			break
		}
		start, end := tokens[i+1][0], tokens[i+1][1]
		next := string(text[start:end])
		if quotedLength(text[start:end], '"', '\\') == end-start {
			next = Unbackslash(next[1 : len(next)-1])
		}
		switch word {
		case "machine":
			machine = next
			i++
		case "login", "account", "password":
			name := map[string]string{"login": "user", "account": "account ", "password": "password"}[word]
			out = append(out, Value{
				Key: machine + " " + word, Name: name, Within: machine, Start: offset + start, End: offset + end,
				Line: 1 + bytes.Count(text[:start], []byte("\n")), Text: next,
			})
			i++
		case "macdef":
			for i+1 < len(tokens) && !bytes.Contains(text[tokens[i][1]:tokens[i+1][0]], []byte("\n\n")) {
				i++
			}
		}
	}
	return out, nil, nil
}

func encodeNetrc(text string, old []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	if quoteOf(old) == '"' {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
	}
	if text == "" || strings.ContainsAny(text, " \t\"") || text[0] == '#' {
		return "", fmt.Errorf("%w: blanks, quotes and a leading # mean something else in a .netrc", ErrCannotCarry)
	}
	return text, nil
}
