package layout

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// scanTOML finds the strings of a TOML document (TOML 1.0).
func scanTOML(content []byte) ([]Value, []Problem, error) {
	from := 0
	if bytes.HasPrefix(content, byteOrder) {
		from = len(byteOrder)
	}
	s := &tomlScanner{content: content, from: from, tables: map[string]int{}}
	s.parser.Reset(content[from:])
	table := ""
	for s.parser.NextExpression() {
		switch e := s.parser.Expression(); e.Kind {
		case unstable.Table:
			table = s.path("", e.Key())
		case unstable.ArrayTable:
			table = s.path("", e.Key())
			n := s.tables[table]
			s.tables[table]++
			table += "/" + strconv.Itoa(n)
		case unstable.KeyValue:
			s.member(e, table)
		}
	}
	if err := s.parser.Error(); err != nil {
		line := 1
		if raw := s.parser.Data(); len(raw) > 0 {
			if p := (*unstable.ParserError)(nil); errors.As(err, &p) && len(p.Highlight) > 0 {
				line = 1 + bytes.Count(content[:from+int(s.parser.Range(p.Highlight).Offset)], []byte("\n"))
			}
		}
		return nil, nil, fmt.Errorf("not TOML: line %d: %w", line, err)
	}
	return namedValues(s.out), nil, nil
}

type tomlScanner struct {
	parser  unstable.Parser
	content []byte
	from    int
	tables  map[string]int // how many of an array of tables were seen
	out     []Value
}

func step(key string) string { return "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(key) }

func (s *tomlScanner) path(within string, keys unstable.Iterator) string {
	for keys.Next() {
		within += step(string(keys.Node().Data))
		// Inside an array of tables its last element is meant.
		if n := s.tables[within]; n > 0 && !keys.IsLast() {
			within += "/" + strconv.Itoa(n-1)
		}
	}
	return within
}

func (s *tomlScanner) member(e *unstable.Node, within string) {
	keys := e.Key()
	name := ""
	key := within
	parent := within
	for keys.Next() {
		parent, name = key, string(keys.Node().Data)
		key += step(name)
	}
	s.value(e.Value(), key, name, parent, 0)
}

func (s *tomlScanner) value(n *unstable.Node, key, name, within string, depth int) {
	if depth > jsonDepth {
		return
	}
	switch n.Kind {
	case unstable.String:
		start := s.from + int(n.Raw.Offset)
		s.out = append(s.out, Value{
			Key: key, Name: name, Within: within, Start: start, End: start + int(n.Raw.Length),
			Line: 1 + bytes.Count(s.content[:start], []byte("\n")), Text: string(n.Data),
		})
	case unstable.Array:
		children := n.Children()
		for i := 0; children.Next(); i++ {
			s.value(children.Node(), key+"/"+strconv.Itoa(i), "", key, depth+1)
		}
	case unstable.InlineTable:
		children := n.Children()
		for children.Next() {
			s.member(children.Node(), key)
		}
	}
}

// encodeTOML keeps literal strings literal where they can carry the value.
func encodeTOML(text string, old []byte, _ Value, _ []byte) (string, error) {
	if !utf8.ValidString(text) {
		return "", fmt.Errorf("%w: it is not valid UTF-8", ErrCannotCarry)
	}
	if len(old) > 1 && old[0] == '\'' && !bytes.HasPrefix(old, []byte("'''")) && !strings.ContainsFunc(text, func(r rune) bool { return r == '\'' || r < 0x20 || r == 0x7f }) {
		return "'" + text + "'", nil
	}
	return encodeJSON(text) // a JSON string is a basic string of TOML
}
