package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
)

var keyPattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.\-:\[\] ]*$`)

// lines calls visit with every line that is neither blank nor a comment: its
// bytes from start to end without the line end, and its number. visit returns
// where it stopped reading, for values of several lines.
func lines(content []byte, comments string, visit func(start, end, number int) (stop int)) {
	at := 0
	if bytes.HasPrefix(content, byteOrder) {
		at = len(byteOrder)
	}
	number := 1
	for at < len(content) {
		end := lineEnd(content, at)
		start := at
		for start < end && (content[start] == ' ' || content[start] == '\t') {
			start++
		}
		stop := end
		if start < end && strings.IndexByte(comments, content[start]) < 0 {
			stop = max(end, visit(start, end, number))
		}
		number += 1 + bytes.Count(content[at:stop], []byte("\n"))
		at = nextLine(content, stop)
	}
}

func lineEnd(content []byte, at int) int {
	if i := bytes.IndexAny(content[at:], "\r\n"); i >= 0 {
		return at + i
	}
	return len(content)
}

func nextLine(content []byte, end int) int {
	if end < len(content) && content[end] == '\r' {
		end++
	}
	if end < len(content) && content[end] == '\n' {
		end++
	}
	return end
}

func blanks(content []byte, at, end int) int {
	for at < end && (content[at] == ' ' || content[at] == '\t') {
		at++
	}
	return at
}

// trimmed moves end back over blanks.
func trimmed(content []byte, start, end int) int {
	for end > start && (content[end-1] == ' ' || content[end-1] == '\t') {
		end--
	}
	return end
}

// ---- environment files

func scanEnv(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	lines(content, "#;", func(start, end, number int) int {
		for _, word := range []string{"export ", "export\t"} {
			if bytes.HasPrefix(content[start:end], []byte(word)) {
				start = blanks(content, start+len(word), end)
			}
		}
		equals := bytes.IndexByte(content[start:end], '=')
		key := ""
		if equals >= 0 {
			key = strings.TrimSpace(string(content[start : start+equals]))
		}
		if !keyPattern.MatchString(key) {
			problems = append(problems, Problem{number, "not a key=value line"})
			return end
		}
		v, stop, problem := envValue(content, blanks(content, start+equals+1, end))
		if problem != "" {
			problems = append(problems, Problem{number, problem})
		}
		v.Key, v.Name, v.Line = key, key, number
		out = append(out, v)
		return stop
	})
	return out, problems, nil
}

// envValue follows systemd's reading of environment files: unquoted parts with
// backslash escapes, 'single' and "double" quoted parts one after another;
// quoted parts may span lines; trailing blanks of unquoted text do not count.
func envValue(content []byte, start int) (v Value, stop int, problem string) {
	var text []byte
	kept := 0 // length of text up to the last byte that counts
	end := start
	i := start
	for i < len(content) {
		c := content[i]
		switch {
		case c == '\n' || c == '\r':
			return Value{Start: start, End: end, Text: string(text[:kept])}, i, ""
		case c == '\\':
			if i+1 >= len(content) {
				i++
				continue
			}
			next := content[i+1]
			if next == '\n' || next == '\r' {
				i = nextLine(content, i+1)
				continue
			}
			text = append(text, next)
			i += 2
			kept, end = len(text), i
		case c == '\'' || c == '"':
			closed := false
			j := i + 1
			for j < len(content) {
				d := content[j]
				if d == c {
					closed = true
					break
				}
				if c == '"' && d == '\\' && j+1 < len(content) {
					next := content[j+1]
					switch {
					case strings.IndexByte("\"\\`$", next) >= 0:
						text = append(text, next)
					case next == '\n':
					default:
						text = append(text, d, next)
					}
					j += 2
					continue
				}
				text = append(text, d)
				j++
			}
			if !closed {
				lineStop := lineEnd(content, start)
				return Value{Start: start, End: lineStop, Text: ""}, lineStop, fmt.Sprintf("the quote %c is never closed", c)
			}
			i = j + 1
			kept, end = len(text), i
		default:
			text = append(text, c)
			i++
			if c != ' ' && c != '\t' {
				kept, end = len(text), i
			}
		}
	}
	return Value{Start: start, End: end, Text: string(text[:kept])}, len(content), ""
}

// encodeEnv writes a value in the quoting of the one that it replaces, or in a
// stronger one where that is needed. It suits shells too.
func encodeEnv(text string, old []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	quote := quoteOf(old)
	plain := strings.IndexFunc(text, func(r rune) bool {
		return !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("_-.~+@%:,/=^", r))
	}) < 0
	switch {
	case quote == 0 && plain && text != "" && text[0] != '~':
		return text, nil
	case quote != '"' && !strings.Contains(text, "'"):
		return "'" + text + "'", nil
	default:
		var out strings.Builder
		out.WriteByte('"')
		for _, r := range text {
			if strings.ContainsRune("\"\\`$", r) {
				out.WriteByte('\\')
			}
			out.WriteRune(r)
		}
		out.WriteByte('"')
		return out.String(), nil
	}
}

func quoteOf(old []byte) byte {
	if len(old) >= 2 && (old[0] == '"' || old[0] == '\'') && old[len(old)-1] == old[0] {
		return old[0]
	}
	return 0
}

// ---- key = value

func scanConf(content []byte) ([]Value, []Problem, error) {
	var out []Value
	var problems []Problem
	section := ""
	lines(content, "#;!", func(start, end, number int) int {
		line := strings.TrimRight(string(content[start:end]), " \t")
		if sectionLine.MatchString(line) {
			section = strings.TrimSpace(line[1 : len(line)-1])
			return end
		}
		equals := strings.IndexByte(line, '=')
		if colon := strings.IndexAny(line, ":"); equals < 0 && colon > 0 && !strings.HasPrefix(line[colon:], "://") {
			equals = colon
		}
		key := ""
		if equals >= 0 {
			key = strings.TrimSpace(line[:equals])
		}
		if !keyPattern.MatchString(key) {
			problems = append(problems, Problem{number, "not a key=value line"})
			return end
		}
		v := confValue(content, blanks(content, start+equals+1, end), end)
		v.Name, v.Within, v.Line = key, section, number
		if v.Key = key; section != "" {
			v.Key = section + "/" + key
		}
		out = append(out, v)
		return end
	})
	return out, problems, nil
}

var inlineComment = regexp.MustCompile(`[ \t]+[;#]`)

// confValue: up to the end of the line or a comment after a blank. Quotes around
// the whole are dropped. Readers of such files differ in the rest.
func confValue(content []byte, start, end int) Value {
	end = trimmed(content, start, end)
	raw := content[start:end]
	if len(raw) > 1 && (raw[0] == '"' || raw[0] == '\'') {
		if close := bytes.IndexByte(raw[1:], raw[0]); close >= 0 {
			after := bytes.TrimLeft(raw[close+2:], " \t")
			if len(after) == 0 || after[0] == '#' || after[0] == ';' {
				return Value{Start: start, End: start + close + 2, Text: string(raw[1 : close+1])}
			}
		}
	}
	if m := inlineComment.FindIndex(raw); m != nil {
		end = start + m[0]
	}
	return Value{Start: start, End: end, Text: string(content[start:end])}
}

// encodeConf refuses what readers of such files take differently: comment
// signs, quotes and backslashes.
func encodeConf(text string, old []byte, _ Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	if quote := quoteOf(old); quote != 0 {
		if strings.ContainsAny(text, string(quote)+`\`) {
			return "", fmt.Errorf("%w: quotes and backslashes mean different things to different readers of such files", ErrCannotCarry)
		}
		return string(quote) + text + string(quote), nil
	}
	if text != strings.TrimSpace(text) || strings.ContainsAny(text, "#;") || text != "" && strings.ContainsAny(text[:1], `"'`) {
		return "", fmt.Errorf("%w: blanks at its ends, quotes at its beginning, # and ; mean something else in an unquoted value", ErrCannotCarry)
	}
	if strings.HasSuffix(text, `\`) {
		return "", fmt.Errorf("%w: some readers of such files take a backslash at the end for a line that goes on", ErrCannotCarry)
	}
	return text, nil
}

// ---- directives

// scanDirectives: a keyword, blank, and a value up to the end of the line, maybe
// in double quotes with backslash escapes.
func scanDirectives(content []byte) ([]Value, []Problem, error) {
	var out []Value
	lines(content, "#", func(start, end, number int) int {
		end = trimmed(content, start, end)
		at := start
		for at < end && content[at] != ' ' && content[at] != '\t' {
			at++
		}
		key := string(content[start:at])
		from := blanks(content, at, end)
		if from >= end {
			return end
		}
		if key == "user" { // an access list: user NAME on >password
			words := strings.Fields(string(content[from:end]))
			for _, word := range words[1:] {
				if len(word) > 1 && word[0] == '>' {
					at := from + strings.Index(string(content[from:end]), " "+word) + 2
					name := "user " + words[0]
					out = append(out,
						Value{Key: name, Name: "password", Within: name, Start: at, End: at + len(word) - 1, Line: number, Text: word[1:]},
						Value{Key: name + " name", Name: "user", Within: name, Start: from, End: from + len(words[0]), Line: number, Text: words[0]})
				}
			}
			return end
		}
		v := Value{Key: key, Name: key, Start: from, End: end, Line: number, Text: string(content[from:end])}
		if n := quotedLength(content[from:end], '"', '\\'); n == end-from {
			v.Text = Unbackslash(v.Text[1 : n-1])
		}
		if strings.ContainsAny(key, ".[@") && strings.Count(v.Text, ":") >= 1 && !strings.ContainsAny(v.Text, " \t") {
			v.Name = "credentials" // a host or sender, and user:password
		}
		out = append(out, v)
		return end
	})
	return out, nil, nil
}

func encodeDirective(text string, old []byte, at Value, _ []byte) (string, error) {
	if err := oneLine(text); err != nil {
		return "", err
	}
	if quoteOf(old) == '"' {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`, nil
	}
	if text != strings.TrimSpace(text) || text == "" || strings.ContainsAny(text[:1], `"'#`) || strings.ContainsAny(text, "#") || strings.HasPrefix(at.Key, "user ") && strings.ContainsAny(text, " \t") {
		return "", fmt.Errorf("%w: blanks, quotes and # mean something else in a directive", ErrCannotCarry)
	}
	return text, nil
}
