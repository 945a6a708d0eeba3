package layout

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"
)

// xmlElement is an open element.
type xmlElement struct {
	path     string
	name     string // what its text is called: its key or name attribute, or its own name
	children map[string]int
	keyed    bool
	texts    []Value
	nested   bool
}

var xmlAttribute = regexp.MustCompile(`([\w:.\-]+)\s*=\s*("[^"]*"|'[^']*')`)

// scanXML finds the attributes and texts of an XML document (XML 1.0). Entities
// that the document itself declares are not expanded: a document that uses one
// is refused.
func scanXML(content []byte) ([]Value, []Problem, error) {
	from := 0
	if bytes.HasPrefix(content, byteOrder) {
		from = len(byteOrder)
	}
	decoder := xml.NewDecoder(bytes.NewReader(content[from:]))
	decoder.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is valid UTF-8, whatever it says
	root := &xmlElement{children: map[string]int{}}
	open := []*xmlElement{root}
	var out []Value
	lineAt, line := 0, 1
	lineFor := func(at int) int {
		if at >= lineAt {
			line += bytes.Count(content[lineAt:at], []byte("\n"))
			lineAt = at
			return line
		}
		return 1 + bytes.Count(content[:at], []byte("\n"))
	}
	for {
		before := from + int(decoder.InputOffset())
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return out, nil, nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("not XML: line %d: %w", lineFor(min(before, len(content))), err)
		}
		after := from + int(decoder.InputOffset())
		raw := content[before:after]
		current := open[len(open)-1]
		switch t := token.(type) {
		case xml.StartElement:
			if len(open) > jsonDepth {
				return nil, nil, fmt.Errorf("not read: line %d: elements are nested too deep", lineFor(before))
			}
			e := current.begin(t)
			open = append(open, e)
			out = append(out, e.attributes(t, raw, before, current.path, lineFor)...)
		case xml.EndElement:
			if len(open) == 1 {
				continue
			}
			open = open[:len(open)-1]
			if len(current.texts) == 1 && !current.nested {
				v := current.texts[0]
				parent := open[len(open)-1]
				v.Key, v.Name, v.Within = current.path, current.name, parent.path
				if strings.EqualFold(current.name, "value") && parent.keyed && len(open) > 1 {
					v.Name, v.Within = parent.name, open[len(open)-2].path
				}
				out = append(out, v)
			}
		case xml.CharData:
			start, end, text := before, after, string(t)
			if bytes.HasPrefix(raw, []byte("<![CDATA[")) {
				start, end = before+len("<![CDATA["), after-len("]]>")
			} else {
				for start < end && strings.IndexByte(" \t\r\n", content[start]) >= 0 {
					start++
				}
				for end > start && strings.IndexByte(" \t\r\n", content[end-1]) >= 0 {
					end--
				}
				text = strings.TrimSpace(text)
			}
			if start < end {
				current.texts = append(current.texts, Value{Start: start, End: end, Line: lineFor(start), Text: text})
			}
		}
	}
}

// begin is a child that starts.
func (current *xmlElement) begin(t xml.StartElement) *xmlElement {
	current.nested = true
	e := &xmlElement{name: t.Name.Local, children: map[string]int{}}
	label := ""
	for _, a := range t.Attr {
		if n := strings.ToLower(a.Name.Local); label == "" && (n == "key" || n == "name") {
			label = a.Value
		}
	}
	part := "/" + t.Name.Local
	if label != "" {
		part += "[" + strings.NewReplacer("/", "~1", "[", "(", "]", ")").Replace(label) + "]"
		e.name, e.keyed = label, true
	}
	n := current.children[part]
	current.children[part]++
	e.path = current.path + part
	if n > 0 {
		e.path += fmt.Sprintf("[%d]", n+1)
	}
	return e
}

// attributes of an element; none of one whose text is not understood, so that
// nothing in it is edited.
func (e *xmlElement) attributes(t xml.StartElement, raw []byte, before int, parent string, lineFor func(int) int) []Value {
	var out []Value
	places := xmlAttribute.FindAllSubmatchIndex(raw, -1)
	if len(places) != len(t.Attr) {
		return nil
	}
	for i, m := range places {
		attribute := string(raw[m[2]:m[3]])
		local := attribute[strings.LastIndexByte(attribute, ':')+1:]
		v := Value{
			Key: e.path + "/@" + attribute, Name: local, Within: e.path, Start: before + m[4] + 1, End: before + m[5] - 1,
			Line: lineFor(before + m[4]), Text: t.Attr[i].Value,
		}
		if e.keyed && (strings.EqualFold(local, "value") || strings.EqualFold(local, "connectionString")) {
			v.Name, v.Within = e.name, parent
		}
		out = append(out, v)
	}
	return out
}

// encodeXML writes character data (XML 1.0, section 2.4) for where it stands:
// an attribute, a text or a CDATA section.
func encodeXML(text string, _ []byte, at Value, content []byte) (string, error) {
	if !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < 0x20 && r != '\t' }) {
		return "", fmt.Errorf("%w: XML has no such characters", ErrCannotCarry)
	}
	if bytes.HasSuffix(content[:at.Start], []byte("<![CDATA[")) {
		if strings.Contains(text, "]]>") {
			return "", fmt.Errorf("%w: it would end the CDATA section", ErrCannotCarry)
		}
		return text, nil
	}
	if text != strings.TrimSpace(text) {
		return "", fmt.Errorf("%w: blanks at its ends would be lost", ErrCannotCarry)
	}
	out := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(text)
	if at.Start > 0 {
		switch content[at.Start-1] {
		case '"':
			out = strings.ReplaceAll(out, `"`, "&quot;")
		case '\'':
			out = strings.ReplaceAll(out, "'", "&apos;")
		}
	}
	return strings.ReplaceAll(out, "\t", "&#9;"), nil
}
