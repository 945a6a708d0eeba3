package layout

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// scanUnit reads unit files and drop-ins (systemd.syntax(7)): the words of
// Environment=, the options on command lines, SetCredential=, and plain
// settings.
func scanUnit(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	section := ""
	lines(content, "#;", func(start, end, number int) int {
		for end < len(content) && oddBackslashes(content[start:end]) {
			next := nextLine(content, end)
			if next >= len(content) {
				break
			}
			end = lineEnd(content, next)
		}
		line := string(content[start:end])
		if trimmed := strings.TrimSpace(line); sectionLine.MatchString(trimmed) {
			section = trimmed[1 : len(trimmed)-1]
			return end
		}
		equals := strings.IndexByte(line, '=')
		if equals < 0 {
			problems = append(problems, Problem{number, "not a setting"})
			return end
		}
		key := strings.TrimSpace(line[:equals])
		from := blanks(content, start+equals+1, end)
		setting := section + "/" + key
		switch {
		case key == "Environment":
			for _, w := range unitWords(content, from, end) {
				n := strings.IndexByte(w.Text, '=')
				if n < 0 {
					continue
				}
				v := Value{Key: setting + " " + w.Text[:n], Name: w.Text[:n], Within: setting, Start: w.Start + n + 1, End: w.End, Line: number, Text: w.Text[n+1:]}
				if !rawKept(w, n+1) {
					v.Start, v.Name, v.Text = w.Start, "", w.Text
				}
				out = append(out, v)
			}
		case strings.HasPrefix(key, "Exec"):
			out = append(out, OptionValues(unitWords(content, from, end), setting+" ", setting, number)...)
		case key == "SetCredential":
			if id, _, found := strings.Cut(string(content[from:end]), ":"); found {
				at := from + len(id) + 1
				out = append(out, Value{Key: setting + " " + id, Name: "credential", Within: setting, Start: at, End: end, Line: number, Text: unitText(content[at:end], setting)})
			}
		default:
			stop := trimmed(content, from, end)
			out = append(out, Value{Key: setting, Name: "setting", Within: section, Start: from, End: stop, Line: number, Text: unitText(content[from:stop], setting)})
		}
		return end
	})
	return out, problems, nil
}

// unitWords splits as systemd does: quotes around a word, or around a part of
// it after an equals sign, and backslash escapes.
func unitWords(content []byte, from, end int) []Word {
	var out []Word
	at := from
	for at < end {
		for at < end && (strings.IndexByte(" \t\r\n", content[at]) >= 0 || content[at] == '\\' && at+1 < end && (content[at+1] == '\n' || content[at+1] == '\r')) {
			at++
		}
		start := at
		quote := byte(0)
		for at < end {
			c := content[at]
			switch {
			case c == '\\' && at+1 < end && content[at+1] != '\n' && content[at+1] != '\r':
				at++
			case quote != 0 && c == quote:
				quote = 0
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
			}
			if quote == 0 && (strings.IndexByte(" \t\r\n", c) >= 0 || c == '\\' && at+1 < end && (content[at+1] == '\n' || content[at+1] == '\r')) {
				break
			}
			at++
		}
		at = min(at, end)
		if at > start {
			raw := string(content[start:at])
			out = append(out, Word{Start: start, End: at, Raw: raw, Text: unitText([]byte(raw), "")})
		}
	}
	return out
}

// unitText takes quotes and escapes away, and doubled percent signs.
func unitText(raw []byte, plain string) string {
	var out strings.Builder
	quote := byte(0)
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		switch {
		case c == '\\' && i+1 < len(raw):
			i++
			switch raw[i] {
			case 'n':
				out.WriteByte('\n')
			case 't':
				out.WriteByte('\t')
			case 's':
				out.WriteByte(' ')
			case 'x':
				if i+2 < len(raw) {
					if n, err := strconv.ParseUint(string(raw[i+1:i+3]), 16, 8); err == nil {
						out.WriteByte(byte(n))
						i += 2
						continue
					}
				}
				out.WriteByte('x')
			default:
				out.WriteByte(raw[i])
			}
		case plain == "" && quote != 0 && c == quote:
			quote = 0
		case plain == "" && quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == '%' && i+1 < len(raw) && raw[i+1] == '%', c == '$' && i+1 < len(raw) && raw[i+1] == '$':
			out.WriteByte(c)
			i++
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

// encodeUnit doubles percent signs everywhere, and dollar signs on command
// lines.
func encodeUnit(text string, old []byte, at Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil || !utf8.ValidString(text) {
		return "", fmt.Errorf("%w: it contains a line end or is not valid UTF-8", ErrCannotCarry)
	}
	escaped := strings.NewReplacer(`\`, `\\`, "%", "%%").Replace(text)
	exec := strings.Contains(at.Key, "/Exec")
	words := exec || strings.Contains(at.Key, "/Environment ")
	switch {
	case exec:
		escaped = strings.ReplaceAll(escaped, "$", "$$")
	case strings.Contains(text, "$$"):
		return "", fmt.Errorf("%w: two dollar signs read as one", ErrCannotCarry)
	}
	if !words {
		if text != strings.TrimSpace(text) {
			return "", fmt.Errorf("%w: blanks at its ends would be lost", ErrCannotCarry)
		}
		return escaped, nil
	}
	quote := quoteOf(old)
	if quote == 0 && strings.ContainsAny(text, " \t\"';#") {
		quote = '"'
	}
	if quote == 0 {
		return escaped, nil
	}
	q := string(quote)
	return q + strings.ReplaceAll(escaped, q, `\`+q) + q, nil
}
