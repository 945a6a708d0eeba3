package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// scanShell finds the assignments and the options of commands in a shell
// script. Words that the shell would expand are passed over.
func scanShell(content []byte) ([]Value, []Problem, error) {
	from := 0
	if bytes.HasPrefix(content, byteOrder) {
		from = len(byteOrder)
	}
	out, err := shellValues(content[from:], from, 1, "")
	if err != nil {
		// Not every file of that name is one: assignments are found anyway.
		return scanEnv(content)
	}
	return out, nil, nil
}

func shellValues(content []byte, offset, line int, prefix string) ([]Value, error) {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(content), "")
	if err != nil {
		return nil, fmt.Errorf("not a shell script: %w", err)
	}
	var out []Value
	commands := 0
	assigned := map[*syntax.Assign]bool{}
	assign := func(a *syntax.Assign, within string) {
		assigned[a] = true
		if a.Name == nil || a.Value == nil {
			return
		}
		if w, ok := shellWord(content, a.Value); ok {
			out = append(out, Value{
				Key: prefix + a.Name.Value, Name: a.Name.Value, Within: within, Start: offset + w.Start, End: offset + w.End,
				Line: line + int(a.Pos().Line()) - 1, Text: w.Text,
			})
		}
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CallExpr:
			within := prefix
			if len(n.Args) > 0 {
				commands++
				within = fmt.Sprintf("%scommand %d", prefix, commands)
			}
			for _, a := range n.Assigns {
				assign(a, within)
			}
			var words []Word
			for _, arg := range n.Args {
				w, ok := shellWord(content, arg)
				if !ok {
					w = Word{Start: int(arg.Pos().Offset()), End: int(arg.End().Offset()), Text: "$x", Raw: "$x"}
				}
				w.Start, w.End = w.Start+offset, w.End+offset
				words = append(words, w)
			}
			for len(words) > 0 && runsAnother[words[0].Text] {
				words = words[1:]
			}
			if len(words) > 0 {
				out = append(out, OptionValues(words, prefix, within, line+int(n.Pos().Line())-1)...)
			}
		case *syntax.Assign:
			if !assigned[n] {
				assign(n, prefix)
			}
		}
		return true
	})
	return out, nil
}

// runsAnother are commands whose arguments are a command.
var runsAnother = map[string]bool{"export": true, "env": true, "sudo": true, "exec": true, "nohup": true, "command": true, "time": true}

// shellWord decodes a word that the shell does not expand.
func shellWord(content []byte, w *syntax.Word) (Word, bool) {
	var text strings.Builder
	literal := func(value, escapes string) {
		for i := 0; i < len(value); i++ {
			if value[i] == '\\' && i+1 < len(value) && (escapes == "" || strings.IndexByte(escapes, value[i+1]) >= 0) {
				i++
				if value[i] == '\n' {
					continue
				}
			}
			text.WriteByte(value[i])
		}
	}
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			literal(p.Value, "")
		case *syntax.SglQuoted:
			if p.Dollar {
				return Word{}, false
			}
			text.WriteString(p.Value)
		case *syntax.DblQuoted:
			for _, inner := range p.Parts {
				lit, ok := inner.(*syntax.Lit)
				if !ok || p.Dollar {
					return Word{}, false
				}
				literal(lit.Value, "\"\\`$\n")
			}
		default:
			return Word{}, false
		}
	}
	start, end := int(w.Pos().Offset()), int(w.End().Offset())
	if start < 0 || end > len(content) || start > end {
		return Word{}, false
	}
	return Word{Start: start, End: end, Raw: string(content[start:end]), Text: text.String()}, true
}

var (
	cronVariable = regexp.MustCompile(`^([A-Za-z_]\w*)\s*=\s*`)
	cronFields   = regexp.MustCompile(`^(@\w+|(?:[\w*/,\-~]+[ \t]+){4}[\w*/,\-~]+)[ \t]+`)
	cronUser     = regexp.MustCompile(`^([a-z_][a-z0-9_\-]*)[ \t]+([/A-Z\[]|env |sh |mysql|maria|psql|pg_|curl |redis|ldap|test |cd |nice |sudo )`)
)

// scanCron reads crontab(5): variables, and the options and assignments in the
// commands. A percent sign in a command is written with a backslash.
func scanCron(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	entries := 0
	lines(content, "#", func(start, end, number int) int {
		line := string(content[start:end])
		if m := cronVariable.FindStringSubmatchIndex(line); m != nil {
			stop := trimmed(content, start, end)
			v := Value{Key: line[m[2]:m[3]], Name: line[m[2]:m[3]], Start: start + m[1], End: stop, Line: number, Text: string(content[start+m[1] : stop])}
			if quoteOf([]byte(v.Text)) != 0 {
				v.Text = v.Text[1 : len(v.Text)-1]
			}
			out = append(out, v)
			return end
		}
		m := cronFields.FindStringIndex(line)
		if m == nil {
			problems = append(problems, Problem{number, "not a cron entry"})
			return end
		}
		at := start + m[1]
		if u := cronUser.FindStringSubmatchIndex(line[m[1]:]); u != nil {
			at += u[4]
		}
		entries++
		command := content[at:end]
		for i := range command { // an unescaped percent sign ends the command
			if command[i] == '%' && (i == 0 || command[i-1] != '\\') {
				command = command[:i]
				break
			}
		}
		values, err := shellValues(command, at, number, "command ")
		if err != nil {
			problems = append(problems, Problem{number, err.Error()})
			return end
		}
		for _, v := range values {
			v.Within = fmt.Sprintf("entry %d", entries)
			v.Text = strings.ReplaceAll(v.Text, `\%`, "%")
			out = append(out, v)
		}
		return end
	})
	return out, problems, nil
}

// encodeCron quotes as a shell does. A variable's value is taken as it is, in
// quotes if those stood there.
func encodeCron(text string, old []byte, at Value, _ []byte) (string, error) {
	if !strings.HasPrefix(at.Key, "command ") {
		if err := oneLine(text); err != nil {
			return "", err
		}
		if quote := quoteOf(old); quote != 0 && !strings.ContainsRune(text, rune(quote)) {
			return string(quote) + text + string(quote), nil
		}
		if text != strings.TrimSpace(text) || text == "" || quoteOf([]byte(text)) != 0 {
			return "", fmt.Errorf("%w: blanks or quotes at its ends", ErrCannotCarry)
		}
		return text, nil
	}
	if strings.Contains(text, `\%`) {
		return "", fmt.Errorf("%w: a backslash before a percent sign is lost in a crontab", ErrCannotCarry)
	}
	out, err := encodeEnv(text, old, at, nil)
	return strings.ReplaceAll(out, "%", `\%`), err
}
