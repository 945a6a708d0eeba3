package charter

import (
	"bytes"
	_ "embed" // of the schema
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"mossledger.example/moss/internal/core/reach"
)

// MaxLength is how long a charter may be, in bytes.
const MaxLength = 64 << 10

//go:embed schema.json
var schemaText []byte

// Schema is what a charter may be, as a JSON Schema (draft 2020-12).
func Schema() json.RawMessage { return bytes.Clone(schemaText) }

var compiled = sync.OnceValue(func() *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(schemaText))
	if err != nil {
		panic(err) // it is part of the program
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("charter.json", document); err != nil {
		panic(err)
	}
	return c.MustCompile("charter.json")
})

// Fault is what is wrong with a charter, and where.
type Fault struct {
	Line  int    `json:"line" doc:"From 1; 0 where it has no place"`
	Place string `json:"place,omitempty" doc:"Such as must[2].run"`
	What  string `json:"what"`
}

// Error are all problems of a charter, in the order of their lines.
type Error struct{ Problems []Fault }

func (e *Error) Error() string {
	words := make([]string, 0, len(e.Problems))
	for _, p := range e.Problems {
		word := p.What
		if p.Place != "" {
			word = p.Place + ": " + word
		}
		if p.Line > 0 {
			word = fmt.Sprintf("line %d: %s", p.Line, word)
		}
		words = append(words, word)
	}
	return strings.Join(words, "; ")
}

func wrong(line int, format string, args ...any) *Error {
	return &Error{Problems: []Fault{{Line: line, What: fmt.Sprintf(format, args...)}}}
}

// Parse reads a charter and holds it against the schema. Its error is an *Error.
func Parse(text string) (*Document, error) {
	if len(text) > MaxLength {
		return nil, wrong(0, "it is %d bytes long, at most %d are read", len(text), MaxLength)
	}
	decoder := yaml.NewDecoder(strings.NewReader(text))
	var root, more yaml.Node
	switch err := decoder.Decode(&root); {
	case errors.Is(err, io.EOF), err == nil && (len(root.Content) == 0 || root.Content[0].Tag == "!!null"):
		return nil, wrong(0, "it is empty: begin with charter: and its name")
	case err != nil:
		return nil, yamlError(err)
	}
	switch err := decoder.Decode(&more); {
	case err == nil:
		return nil, wrong(more.Line, "a second document begins here: one text is one charter")
	case !errors.Is(err, io.EOF):
		return nil, yamlError(err)
	}
	lines := map[string]int{}
	if e := places(root.Content[0], nil, lines, 0); e != nil {
		return nil, e
	}
	var plain any
	if err := root.Decode(&plain); err != nil {
		return nil, yamlError(err)
	}
	raw, err := json.Marshal(plain)
	if err != nil {
		return nil, wrong(0, "it has a key that is no text")
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, wrong(0, "%s", err.Error())
	}
	if err := compiled().Validate(value); err != nil {
		return nil, schemaError(err, lines)
	}
	d := &Document{}
	if err := root.Decode(d); err != nil {
		return nil, yamlError(err)
	}
	for section, list := range map[string][]Item{"must": d.Must, "may": d.May, "never": d.Never} {
		for i, item := range list {
			if item.Reach == "" {
				continue
			}
			if _, err := reach.Parse(item.Reach); err != nil {
				return nil, &Error{Problems: []Fault{{Line: lines[fmt.Sprintf("%s/%d/reach", section, i)], Place: fmt.Sprintf("%s[%d].reach", section, i), What: err.Error()}}}
			}
		}
	}
	return d, nil
}

// mostDeep is how deep a text may be: a charter has four levels.
const mostDeep = 12

// places notes the line of each value by its path, and refuses what a charter has no use
// for: anchors and aliases, by which a short text becomes a long one, and tags, by which a
// value is another one than it looks.
func places(n *yaml.Node, path []string, lines map[string]int, depth int) *Error {
	switch {
	case depth > mostDeep:
		return wrong(n.Line, "it is nested more than %d deep", mostDeep)
	case n.Kind == yaml.AliasNode, n.Anchor != "", n.Style&yaml.TaggedStyle != 0:
		return wrong(n.Line, "anchors, aliases and tags are not read: write it out")
	}
	key := strings.Join(path, "/")
	if _, known := lines[key]; !known {
		lines[key] = n.Line
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, v := n.Content[i], n.Content[i+1]
			if k.Kind != yaml.ScalarNode || k.Tag != "!!str" {
				return wrong(k.Line, "a key is a plain word")
			}
			below := append(slices.Clone(path), k.Value)
			lines[strings.Join(below, "/")] = k.Line
			if e := places(v, below, lines, depth+1); e != nil {
				return e
			}
		}
	case yaml.SequenceNode:
		for i, v := range n.Content {
			if e := places(v, append(slices.Clone(path), strconv.Itoa(i)), lines, depth+1); e != nil {
				return e
			}
		}
	}
	return nil
}

var lineWords = regexp.MustCompile(`(?s)^yaml: (?:unmarshal errors:\s*)?(?:line (\d+): )?([^\n]*)`)

func yamlError(err error) *Error {
	m := lineWords.FindStringSubmatch(err.Error())
	if m == nil {
		return wrong(0, "%s", err.Error())
	}
	line, _ := strconv.Atoi(m[1])
	return wrong(line, "%s", m[2])
}

var english = message.NewPrinter(language.English)

func schemaError(err error, lines map[string]int) *Error {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return wrong(0, "%s", err.Error())
	}
	out := &Error{}
	leaves(v, func(leaf *jsonschema.ValidationError) {
		p := Fault{What: leaf.ErrorKind.LocalizedString(english), Place: placeOf(leaf.InstanceLocation)}
		if strings.HasSuffix(leaf.SchemaURL, "/oneOf") || strings.Contains(leaf.SchemaURL, "$defs/item") && strings.HasPrefix(p.What, "'oneOf'") {
			p.What = "say one of member_of, run, do and reach"
		}
		p.Line = lines[strings.Join(leaf.InstanceLocation, "/")]
		if !slices.Contains(out.Problems, p) {
			out.Problems = append(out.Problems, p)
		}
	})
	slices.SortStableFunc(out.Problems, func(a, b Fault) int { return a.Line - b.Line })
	return out
}

// leaves are the problems themselves, not those that say that there is one below. Of several
// ways that all fail, that they do is the problem.
func leaves(v *jsonschema.ValidationError, visit func(*jsonschema.ValidationError)) {
	path := v.ErrorKind.KeywordPath()
	if len(v.Causes) == 0 || len(path) > 0 && path[0] == "oneOf" {
		visit(v)
		return
	}
	for _, c := range v.Causes {
		leaves(c, visit)
	}
}

// placeOf writes a path as people do: must[2].run.
func placeOf(path []string) string {
	var b strings.Builder
	for _, p := range path {
		switch {
		case p != "" && strings.Trim(p, "0123456789") == "":
			fmt.Fprintf(&b, "[%s]", p)
		case b.Len() > 0:
			b.WriteString("." + p)
		default:
			b.WriteString(p)
		}
	}
	return b.String()
}

// Text writes a charter.
func (d *Document) Text() (string, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(d); err != nil {
		return "", err
	}
	return out.String(), e.Close()
}
