package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// codeToken is a token of a program, as far as constants go.
type codeToken struct {
	kind       byte // n name, s string, otherwise the sign itself
	text       string
	start, end int
	line       int
	fixed      bool // a string that nothing is put into
}

var (
	codeName = regexp.MustCompile(`^\$?[A-Za-z_]\w*`)
	pyPrefix = regexp.MustCompile(`^[rRbBuU]{1,2}$`)
)

// scanCode finds strings that a name is given to: NAME = 'x', $name = "x",
// 'name' => 'x', "name": 'x', define('NAME', 'x'). Strings into which the
// program puts something, and those of several lines, are passed over.
func scanCode(content []byte) ([]Value, []Problem, error) { //nolint:gocyclo // what may stand before a value in several languages, a case each
	tokens := codeTokens(content)
	var out []Value
	block := 0
	for i, t := range tokens {
		switch t.kind {
		case '{', '(', '[', '}', ')', ']':
			block++
		}
		if t.kind != 's' || i < 2 || !t.fixed {
			continue
		}
		if i+1 < len(tokens) && strings.IndexByte("+.%s", tokens[i+1].kind) >= 0 {
			continue // put together with something
		}
		sign, name := tokens[i-1].kind, tokens[i-2]
		label := ""
		switch {
		case sign == ']' && i >= 3:
			continue
		case (sign == '=' || sign == '>' || sign == ':') && (name.kind == 'n' || name.kind == 's'):
			label = name.text
		case sign == '=' && name.kind == ']' && i >= 4 && tokens[i-3].kind == 's': // $config['name'] = 'x'
			label = tokens[i-3].text
		case sign == ',' && name.kind == 's' && i >= 4 && tokens[i-3].kind == '(' && tokens[i-4].kind == 'n' && (tokens[i-4].text == "define" || strings.HasSuffix(tokens[i-4].text, "set")):
			label = name.text
		}
		if label == "" {
			continue
		}
		label = strings.TrimPrefix(label, "$")
		within := ""
		if sign == '>' || sign == ':' { // members of one table belong together
			within = strconv.Itoa(block)
		}
		out = append(out, Value{Key: label, Name: label, Within: within, Start: t.start, End: t.end, Line: t.line, Text: t.text})
	}
	return out, nil, nil
}

// codeTokens reads names, strings and signs; comments are passed over.
func codeTokens(content []byte) []codeToken { //nolint:gocyclo // the tokens of several languages, a case each
	var out []codeToken
	line := 1
	php := bytes.Contains(content, []byte("<?php"))
	dollar := php || bytes.HasPrefix(content, []byte("#!")) && bytes.Contains(content[:lineEnd(content, 0)], []byte("perl"))
	for at := 0; at < len(content); {
		c := content[at]
		rest := content[at:]
		switch {
		case c == '\n':
			line++
			at++
		case c == '#' || bytes.HasPrefix(rest, []byte("//")):
			at = lineEnd(content, at)
		case bytes.HasPrefix(rest, []byte("/*")):
			n := bytes.Index(rest, []byte("*/"))
			if n < 0 {
				return out
			}
			line += bytes.Count(rest[:n], []byte("\n"))
			at += n + 2
		case bytes.HasPrefix(rest, []byte(`"""`)) || bytes.HasPrefix(rest, []byte(`'''`)):
			n := bytes.Index(rest[3:], rest[:3])
			if n < 0 {
				return out
			}
			line += bytes.Count(rest[:n+3], []byte("\n"))
			at += n + 6
		case c == '"' || c == '\'':
			n := quotedLength(rest, c, '\\')
			if n == 0 || bytes.IndexByte(rest[:n], '\n') >= 0 {
				at++
				continue
			}
			t := codeToken{kind: 's', start: at, end: at + n, line: line, fixed: true}
			t.text, t.fixed = codeString(rest[:n], dollar)
			if k := len(out) - 1; k >= 0 && out[k].kind == 'n' && out[k].end == at {
				if pyPrefix.MatchString(out[k].text) {
					if strings.ContainsAny(out[k].text, "rR") {
						t.fixed = t.fixed && bytes.IndexByte(rest[:n], '\\') < 0
					}
					out = out[:k]
				} else {
					t.fixed = false // f"..." and the like
				}
			}
			out = append(out, t)
			at += n
		case codeName.Match(rest):
			n := codeName.FindIndex(rest)[1]
			out = append(out, codeToken{kind: 'n', text: string(rest[:n]), start: at, end: at + n, line: line})
			at += n
		case c == ' ' || c == '\t' || c == '\r':
			at++
		default:
			if c == '>' && len(out) > 0 && out[len(out)-1].kind == '=' {
				out = out[:len(out)-1] // =>
			}
			out = append(out, codeToken{kind: c, start: at, end: at + 1, line: line})
			at++
		}
	}
	return out
}

// codeString decodes a string. Escapes other than of quotes and backslashes
// mean different things in different languages: such a string is left alone,
// and so is one with a variable in it where the language puts those in.
func codeString(raw []byte, dollar bool) (string, bool) {
	var out strings.Builder
	inner := raw[1 : len(raw)-1]
	for i := 0; i < len(inner); i++ {
		if inner[i] == '\\' && i+1 < len(inner) {
			switch next := inner[i+1]; {
			case next == '\\' || next == raw[0] || next == '$' && dollar && raw[0] == '"':
				out.WriteByte(next)
				i++
				continue
			default:
				return "", false
			}
		}
		if inner[i] == '$' && dollar && raw[0] == '"' || inner[i] == '#' && raw[0] == '"' && i+1 < len(inner) && inner[i+1] == '{' {
			return "", false
		}
		out.WriteByte(inner[i])
	}
	return out.String(), true
}

// encodeCode keeps the quotes and escapes only quotes and backslashes. A dollar
// sign in double quotes means a variable in some languages: single ones are
// taken for it.
func encodeCode(text string, old []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil || !utf8.ValidString(text) {
		return "", fmt.Errorf("%w: it contains a line end or is not valid UTF-8", ErrCannotCarry)
	}
	quote := quoteOf(old)
	if quote == 0 {
		return "", fmt.Errorf("%w: no quotes stand there", ErrCannotCarry)
	}
	if quote == '"' && strings.ContainsAny(text, "$#@") {
		quote = '\''
	}
	q := string(quote)
	return q + strings.NewReplacer(`\`, `\\`, q, `\`+q).Replace(text) + q, nil
}
