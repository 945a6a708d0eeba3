package layout

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// jsonDepth is how deep values may be nested.
const jsonDepth = 100

// errNotJSON is wrapped with the line.
var errNotJSON = errors.New("not JSON")

type jsonScanner struct {
	text []byte
	at   int
	out  []Value
}

// scanJSON finds every string value of a JSON document (RFC 8259). Comments and
// trailing commas, which many programs allow in their configuration, are read
// over and kept.
func scanJSON(content []byte) ([]Value, []Problem, error) {
	s := &jsonScanner{text: content}
	if strings.HasPrefix(string(content[:min(3, len(content))]), string(byteOrder)) {
		s.at = len(byteOrder)
	}
	if err := s.element("", "", "", 0); err != nil {
		return nil, nil, err
	}
	if err := s.blank(); err != nil {
		return nil, nil, err
	}
	if s.at < len(s.text) {
		return nil, nil, s.wrong("something stands after the document")
	}
	line, seen := 1, 0
	for i := range s.out {
		line += strings.Count(string(content[seen:s.out[i].Start]), "\n")
		seen, s.out[i].Line = s.out[i].Start, line
	}
	return namedValues(s.out), nil, nil
}

// beginsJSON reports how a document begins: '{', '[', or 0 for neither.
func beginsJSON(content []byte) byte {
	s := &jsonScanner{text: content}
	if strings.HasPrefix(string(content[:min(3, len(content))]), string(byteOrder)) {
		s.at = len(byteOrder)
	}
	if s.blank() != nil || s.at >= len(s.text) || s.text[s.at] != '{' && s.text[s.at] != '[' {
		return 0
	}
	return s.text[s.at]
}

func (s *jsonScanner) wrong(what string) error {
	return fmt.Errorf("%w: line %d: %s", errNotJSON, 1+strings.Count(string(s.text[:min(s.at, len(s.text))]), "\n"), what)
}

// blank reads over white space and comments.
func (s *jsonScanner) blank() error {
	for s.at < len(s.text) {
		rest := s.text[s.at:]
		switch {
		case rest[0] == ' ' || rest[0] == '\t' || rest[0] == '\n' || rest[0] == '\r':
			s.at++
		case len(rest) > 1 && rest[0] == '/' && rest[1] == '/':
			for s.at < len(s.text) && s.text[s.at] != '\n' {
				s.at++
			}
		case len(rest) > 1 && rest[0] == '/' && rest[1] == '*':
			end := strings.Index(string(rest[2:]), "*/")
			if end < 0 {
				return s.wrong("a comment does not end")
			}
			s.at += end + 4
		default:
			return nil
		}
	}
	return nil
}

func (s *jsonScanner) element(pointer, key, within string, depth int) error {
	if depth > jsonDepth {
		return s.wrong("values are nested too deep")
	}
	if err := s.blank(); err != nil {
		return err
	}
	if s.at >= len(s.text) {
		return s.wrong("it ends where a value is expected")
	}
	switch c := s.text[s.at]; {
	case c == '{':
		return s.members('}', pointer, depth)
	case c == '[':
		return s.members(']', pointer, depth)
	case c == '"':
		start := s.at
		text, err := s.word()
		if err == nil {
			s.out = append(s.out, Value{Key: pointer, Name: key, Within: within, Start: start, End: s.at, Text: text})
		}
		return err
	}
	start := s.at
	for s.at < len(s.text) && !strings.ContainsRune(" \t\r\n,]}/:\"{[", rune(s.text[s.at])) {
		s.at++
	}
	if !json.Valid(s.text[start:s.at]) {
		return s.wrong(strconv.Quote(string(s.text[start:min(s.at, start+20)])) + " is no value")
	}
	return nil
}

// members reads an object or an array.
func (s *jsonScanner) members(end byte, pointer string, depth int) error {
	s.at++
	for n := 0; ; n++ {
		if err := s.blank(); err != nil {
			return err
		}
		if s.at < len(s.text) && s.text[s.at] == end { // also after a trailing comma
			s.at++
			return nil
		}
		key, step := "", strconv.Itoa(n)
		if end == '}' {
			if s.at >= len(s.text) || s.text[s.at] != '"' {
				return s.wrong("a member's name is expected")
			}
			var err error
			if key, err = s.word(); err != nil {
				return err
			}
			step = strings.NewReplacer("~", "~0", "/", "~1").Replace(key)
			if err := s.blank(); err != nil {
				return err
			}
			if s.at >= len(s.text) || s.text[s.at] != ':' {
				return s.wrong("a colon is expected")
			}
			s.at++
		}
		if err := s.element(pointer+"/"+step, key, pointer, depth+1); err != nil {
			return err
		}
		if err := s.blank(); err != nil {
			return err
		}
		switch {
		case s.at < len(s.text) && s.text[s.at] == ',':
			s.at++
		case s.at < len(s.text) && s.text[s.at] == end:
		default:
			return s.wrong("a comma or the end is expected")
		}
	}
}

// word reads a string, quotes included.
func (s *jsonScanner) word() (string, error) {
	start := s.at
	for s.at++; s.at < len(s.text); s.at++ {
		switch c := s.text[s.at]; {
		case c == '\\':
			s.at++
		case c == '"':
			s.at++
			var text string
			if err := json.Unmarshal(s.text[start:s.at], &text); err != nil {
				return "", s.wrong("a string is written wrongly")
			}
			return text, nil
		case c < 0x20:
			return "", s.wrong("a line end or control character in a string")
		}
	}
	return "", s.wrong("a string does not end")
}

// encodeJSON writes a string with no escapes but those that JSON asks for.
func encodeJSON(text string) (string, error) {
	if !utf8.ValidString(text) {
		return "", fmt.Errorf("%w: it is not valid UTF-8", ErrCannotCarry)
	}
	var out strings.Builder
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(text); err != nil {
		return "", fmt.Errorf("%w: %w", ErrCannotCarry, err)
	}
	return strings.TrimSuffix(out.String(), "\n"), nil
}
