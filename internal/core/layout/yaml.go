package layout

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// yamlLine is a line as YAML files begin with: a document's start, a key, an
// item.
var yamlLine = regexp.MustCompile(`^(---|- |["']?[A-Za-z_][\w./\- ]*["']?:([ \t]|$))`)

// looksYAML: the first line that is no comment is one of YAML, and nothing is
// assigned with an equals sign before any colon.
func looksYAML(content []byte) bool {
	for line := range strings.Lines(string(bytes.TrimPrefix(content, byteOrder))) {
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" || line[0] == '#' {
			continue
		}
		return yamlLine.MatchString(line)
	}
	return false
}

// scanYAML finds every string of a YAML stream (YAML 1.2) that stands on one
// line or in a block; aliases are not followed, so nothing is expanded. The parser gives
// values and where they begin; where they end follows from their quoting, and
// is checked against the value.
func scanYAML(content []byte) ([]Value, []Problem, error) {
	s := &yamlScanner{}
	for line := range bytes.Lines(content) {
		s.lines = append(s.lines, s.size)
		s.size += len(line)
	}
	s.content = content
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	for n := 1; ; n++ {
		var document yaml.Node
		err := decoder.Decode(&document)
		if errors.Is(err, io.EOF) {
			return namedValues(s.out), nil, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("not YAML: %w", err)
		}
		root := ""
		if n > 1 {
			root = fmt.Sprintf("document %d:", n)
		}
		for _, child := range document.Content {
			s.walk(child, root, "", root, 0)
		}
	}
}

type yamlScanner struct {
	content []byte
	lines   []int // where each begins
	size    int
	out     []Value
}

func (s *yamlScanner) walk(n *yaml.Node, pointer, key, within string, depth int) {
	if depth > jsonDepth {
		return
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			name := n.Content[i].Value
			s.walk(n.Content[i+1], pointer+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(name), name, pointer, depth+1)
		}
	case yaml.SequenceNode:
		for i, child := range n.Content {
			s.walk(child, pointer+"/"+strconv.Itoa(i), "", pointer, depth+1)
		}
	case yaml.ScalarNode:
		if start, end, ok := s.span(n); ok {
			s.out = append(s.out, Value{Key: pointer, Name: key, Within: within, Start: start, End: end, Line: n.Line, Text: n.Value})
		} else if start, end, text, ok := s.block(n); ok {
			s.out = append(s.out, Value{Key: pointer, Name: key, Within: within, Start: start, End: end, Line: n.Line + 1, Text: text})
		}
	}
}

// span finds the bytes of a scalar on its line.
func (s *yamlScanner) span(n *yaml.Node) (start, end int, ok bool) {
	if n.Line < 1 || n.Line > len(s.lines) || n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return 0, 0, false
	}
	from, to := s.lines[n.Line-1], s.size
	if n.Line < len(s.lines) {
		to = s.lines[n.Line]
	}
	line := bytes.TrimRight(s.content[from:to], "\r\n")
	at := 0
	if n.Line == 1 && bytes.HasPrefix(line, byteOrder) {
		at = len(byteOrder)
	}
	for range n.Column - 1 { // columns count characters
		if at >= len(line) {
			return 0, 0, false
		}
		_, width := utf8.DecodeRune(line[at:])
		at += width
	}
	// Tags and anchors stand before the value.
	for at < len(line) && (line[at] == '&' || line[at] == '!') {
		space := bytes.IndexAny(line[at:], " \t")
		if space < 0 {
			return 0, 0, false
		}
		at += space
		for at < len(line) && (line[at] == ' ' || line[at] == '\t') {
			at++
		}
	}
	rest := line[at:]
	length := 0
	switch {
	case n.Style&yaml.DoubleQuotedStyle != 0:
		length = quotedLength(rest, '"', '\\')
	case n.Style&yaml.SingleQuotedStyle != 0:
		length = quotedLength(rest, '\'', 0)
	case bytes.HasPrefix(rest, []byte(n.Value)):
		length = len(n.Value)
	}
	if length == 0 {
		return 0, 0, false
	}
	return from + at, from + at + length, true
}

// block finds the lines of a block scalar; a folded one only when it has one.
func (s *yamlScanner) block(n *yaml.Node) (start, end int, text string, ok bool) {
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 || n.Line >= len(s.lines) || n.Value == "" {
		return 0, 0, "", false
	}
	start, end = -1, -1
	indent := -1
	var lines []string
	blank := 0
	for i := n.Line; i < len(s.lines); i++ {
		from, to := s.lines[i], s.size
		if i+1 < len(s.lines) {
			to = s.lines[i+1]
		}
		line := strings.TrimRight(string(s.content[from:to]), "\r\n")
		if strings.TrimSpace(line) == "" {
			blank++
			continue
		}
		depth := len(line) - len(strings.TrimLeft(line, " "))
		if indent < 0 {
			indent, start, blank = depth, from, 0
		}
		if depth < indent || indent == 0 {
			break
		}
		for ; blank > 0; blank-- {
			lines = append(lines, "")
		}
		lines = append(lines, line[indent:])
		end = from + len(line)
	}
	text = strings.Join(lines, "\n")
	if end < 0 || n.Style&yaml.FoldedStyle != 0 && len(lines) > 1 || strings.TrimRight(n.Value, "\n") != strings.TrimRight(text, "\n") {
		return 0, 0, "", false
	}
	return start, end, text, true
}

// encodeYAMLAt writes a scalar, or the lines of a block.
func encodeYAMLAt(text string, old []byte, _ Value, _ []byte) (string, error) {
	if len(old) == 0 || old[0] != ' ' {
		return encodeYAML(text, quoteOf(old))
	}
	indent := string(old[:len(old)-len(bytes.TrimLeft(old, " "))])
	if text == "" || text[0] == ' ' || !utf8.ValidString(text) || strings.ContainsAny(text, "\x00\r") {
		return "", fmt.Errorf("%w: a block scalar cannot hold it", ErrCannotCarry)
	}
	end := "\n"
	if bytes.Contains(old, []byte("\r\n")) {
		end = "\r\n"
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if line != "" {
			lines[i] = indent + line
		}
	}
	return strings.Join(lines, end), nil
}

// namedValues gives the members of {name: NAME, value: VALUE} their own name.
func namedValues(values []Value) []Value {
	names := map[string]string{}
	for _, v := range values {
		if v.Name == "name" || v.Name == "key" {
			names[v.Within] = v.Text
		}
	}
	for i, v := range values {
		if v.Name == "value" && names[v.Within] != "" {
			values[i].Name = names[v.Within]
			values[i].Within = v.Within[:max(0, strings.LastIndexByte(v.Within, '/'))]
		}
	}
	return values
}

// quotedLength is the length of a quoted text that ends on its line, or 0. A
// quote is written in it after the escape, or twice when there is none.
func quotedLength(text []byte, quote, escape byte) int {
	if len(text) < 2 || text[0] != quote {
		return 0
	}
	for i := 1; i < len(text); i++ {
		switch {
		case escape != 0 && text[i] == escape:
			i++
		case text[i] == quote && escape == 0 && i+1 < len(text) && text[i+1] == quote:
			i++
		case text[i] == quote:
			return i + 1
		}
	}
	return 0
}

// yamlPlain are texts that mean themselves without quotes, everywhere.
var yamlPlain = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_./+%@:=\-]*( [A-Za-z0-9_./+%@=\-]+)*$`)

// encodeYAML writes a string in the quoting of the one that it replaces, or in
// double quotes where that is needed: a bare word may mean something else.
func encodeYAML(text string, quote byte) (string, error) {
	if !utf8.ValidString(text) {
		return "", fmt.Errorf("%w: it is not valid UTF-8", ErrCannotCarry)
	}
	switch {
	case quote == '\'':
		return "'" + strings.ReplaceAll(text, "'", "''") + "'", nil
	case quote == 0 && yamlPlain.MatchString(text) && !yamlWord(text) && !strings.Contains(text, ": ") && !strings.HasSuffix(text, ":"):
		return text, nil
	}
	return encodeJSON(text) // a JSON string is one of YAML
}

// yamlWord: a bare word that means a truth value or nothing, in any version.
func yamlWord(text string) bool {
	switch strings.ToLower(text) {
	case "true", "false", "yes", "no", "on", "off", "y", "n", "null":
		return true
	}
	return false
}
