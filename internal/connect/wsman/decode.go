package wsman

import (
	"bufio"
	"encoding/xml"
	"errors"
	"io"
	"maps"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Node is an XML element.
type Node struct {
	Space, Local string
	Attributes   []xml.Attr
	Content      string // its own text
	Children     []*Node
}

// Instance is a CIM instance, or the output of a method: an element whose
// children are the properties.
type Instance = Node

// readError is a connection that broke while a reply was read.
type readError struct{ err error }

func (e *readError) Error() string { return e.err.Error() }

// guard counts what the decoder reads for one token, and in all.
type guard struct {
	in    io.Reader
	since int
	total int64
	limit Limits
	err   error
}

func (g *guard) Read(p []byte) (int, error) {
	if g.err != nil {
		return 0, g.err
	}
	n, err := g.in.Read(p)
	g.since += n
	g.total += int64(n)
	switch {
	case g.since > g.limit.Token:
		g.err = protocol("one element is larger than %d bytes", g.limit.Token)
	case g.total > g.limit.Reply:
		g.err = protocol("it is larger than %d bytes", g.limit.Reply)
	case err != nil && !errors.Is(err, io.EOF):
		g.err = &readError{err}
	}
	if g.err != nil {
		return 0, g.err
	}
	return n, err
}

type decoder struct {
	xml   *xml.Decoder
	guard *guard
}

func newDecoder(in io.Reader, charset string, limits Limits) *decoder {
	limits.fill()
	buffered := bufio.NewReader(in)
	start, _ := buffered.Peek(2)
	var text io.Reader = buffered
	if strings.HasPrefix(strings.ToLower(charset), "utf-16") || len(start) == 2 && (start[0] == 0xff && start[1] == 0xfe || start[0] == 0xfe && start[1] == 0xff) {
		text = transform.NewReader(buffered, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder())
	}
	g := &guard{in: text, limit: limits}
	d := &decoder{xml: xml.NewDecoder(g), guard: g}
	// The text is UTF-8 by now, whatever its declaration says.
	d.xml.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	return d
}

// token reads the next start, end or text. Document types, and with them the
// declaration of entities, are refused.
func (d *decoder) token() (xml.Token, error) {
	for {
		d.guard.since = 0
		t, err := d.xml.Token()
		if err != nil {
			switch {
			case d.guard.err != nil:
				return nil, d.guard.err
			case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), strings.HasSuffix(err.Error(), "unexpected EOF"):
				return nil, &readError{errors.New("the reply ended in the middle")}
			}
			return nil, protocol("%v", err)
		}
		switch t.(type) {
		case xml.Directive:
			return nil, protocol("it declares a document type or entities")
		case xml.StartElement, xml.EndElement, xml.CharData:
			return t, nil
		}
	}
}

// next reads to the next start (nil at the end of the parent).
func (d *decoder) next() (*Node, error) {
	for {
		t, err := d.token()
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			return node(t), nil
		case xml.EndElement:
			return nil, nil
		}
	}
}

func node(t xml.StartElement) *Node {
	return &Node{Space: t.Name.Space, Local: t.Name.Local, Attributes: append([]xml.Attr(nil), t.Attr...)}
}

// tree reads the rest of an element whose start was read.
func (d *decoder) tree(n *Node, depth int) (*Node, error) {
	if depth > d.guard.limit.Depth {
		return nil, protocol("elements are nested deeper than %d", d.guard.limit.Depth)
	}
	var text strings.Builder
	for {
		t, err := d.token()
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.CharData:
			if text.Len()+len(t) > d.guard.limit.Token {
				return nil, protocol("one element is larger than %d bytes", d.guard.limit.Token)
			}
			text.Write(t)
		case xml.StartElement:
			child, err := d.tree(node(t), depth+1)
			if err != nil {
				return nil, err
			}
			n.Children = append(n.Children, child)
		case xml.EndElement:
			n.Content = text.String()
			return n, nil
		}
	}
}

// envelope reads a reply up to the body's first element and hands that to
// take, unless it is a fault.
func (d *decoder) envelope(m message, take func(*decoder, *Node) error) error {
	relates, first, err := d.body()
	switch {
	case err != nil:
		return err
	case first == nil && m.mayBeEmpty && relates == m.id:
		return nil
	case first == nil:
		return protocol("its body is empty")
	case first.Local == "Fault" && first.Space == nsSOAP:
		tree, err := d.tree(first, 0)
		if err != nil {
			return err
		}
		if relates != "" && m.id != "" && relates != m.id {
			// An earlier message's, delivered again: it says nothing of this one.
			return protocol("it is the fault of the message %q, not of %q", relates, m.id)
		}
		return faultOf(tree)
	case m.id != "" && relates != m.id:
		return protocol("it answers the message %q, not %q", relates, m.id)
	case m.answer != "" && first.Local != m.answer || m.answerSpace != "" && first.Space != m.answerSpace:
		return protocol("%s stands where %s is expected", nameOf(first), m.answer)
	}
	return take(d, first)
}

// body reads a reply up to the body's first element, nil for an empty body, with the
// message that its header says it answers.
func (d *decoder) body() (relates string, first *Node, err error) {
	root, err := d.next()
	if err != nil {
		return "", nil, err
	}
	if root == nil || root.Local != "Envelope" || root.Space != nsSOAP {
		return "", nil, protocol("it begins with %s, not with a SOAP 1.2 envelope", nameOf(root))
	}
	part, err := d.next()
	if err != nil {
		return "", nil, err
	}
	if part != nil && part.Local == "Header" && part.Space == nsSOAP {
		header, err := d.tree(part, 0)
		if err != nil {
			return "", nil, err
		}
		relates = strings.TrimSpace(header.Text("RelatesTo"))
		if part, err = d.next(); err != nil {
			return "", nil, err
		}
	}
	if part == nil || part.Local != "Body" || part.Space != nsSOAP {
		return "", nil, protocol("%s stands where the SOAP body is expected", nameOf(part))
	}
	first, err = d.next()
	return relates, first, err
}

func nameOf(n *Node) string {
	if n == nil {
		return "nothing"
	}
	return strconv.Quote(n.Space + " " + n.Local)
}

func faultOf(n *Node) *Fault {
	f := &Fault{}
	local := func(text string) string { return text[strings.LastIndexByte(text, ':')+1:] }
	if code := n.Child("Code"); code != nil {
		f.Code = local(strings.TrimSpace(code.Text("Value")))
		if sub := code.Child("Subcode"); sub != nil {
			f.Subcode = local(strings.TrimSpace(sub.Text("Value")))
		}
	}
	if reason := n.Child("Reason"); reason != nil {
		f.Reason = strings.TrimSpace(reason.Text("Text"))
	}
	detail := n.Child("Detail")
	if detail == nil {
		return f
	}
	f.Detail = strings.TrimSpace(detail.Text("FaultDetail"))
	if own := detail.Child("WSManFault"); own != nil {
		f.Number, f.Machine = own.Attribute("Code"), own.Attribute("Machine")
		if message := own.Child("Message"); message != nil {
			f.Provider = strings.TrimSpace(message.Content)
			if provider := message.Child("ProviderFault"); provider != nil {
				words := provider.allText()
				if inner := provider.Child("WSManFault"); inner != nil && inner.Attribute("Code") != "" {
					f.Number = inner.Attribute("Code")
				}
				f.Provider = strings.TrimSpace(f.Provider + " " + words)
			}
		}
	}
	// The other family of hosts' own errors.
	if own := detail.Child("MSFT_WmiError"); own != nil {
		f.Number, f.Provider = own.Text("error_Code"), own.Text("Message")
	}
	return f
}

func (n *Node) allText() string {
	parts := []string{strings.TrimSpace(n.Content)}
	for _, c := range n.Children {
		parts = append(parts, c.allText())
	}
	return strings.TrimSpace(strings.Join(parts, " "))
}

// Child returns the first child of that local name, or nil.
func (n *Node) Child(local string) *Node {
	for _, c := range n.Children {
		if c.Local == local {
			return c
		}
	}
	return nil
}

// All returns the children of that local name: the values of an array.
func (n *Node) All(local string) []*Node {
	var out []*Node
	for _, c := range n.Children {
		if c.Local == local && !c.IsNil() {
			out = append(out, c)
		}
	}
	return out
}

// Attribute returns an attribute by its local name.
func (n *Node) Attribute(local string) string {
	for _, a := range n.Attributes {
		if a.Name.Local == local {
			return a.Value
		}
	}
	return ""
}

// IsNil reports a null value (DSP0230, section 7.2).
func (n *Node) IsNil() bool {
	for _, a := range n.Attributes {
		if a.Name.Local == "nil" && a.Name.Space == nsInstance {
			return a.Value == "true" || a.Value == "1"
		}
	}
	return false
}

// Text returns a property as text; "" when it is null or not there.
func (n *Node) Text(property string) string {
	c := n.Child(property)
	if c == nil || c.IsNil() {
		return ""
	}
	return c.Content
}

// List returns the values of an array.
func (n *Node) List(property string) []string {
	var out []string
	for _, c := range n.All(property) {
		out = append(out, c.Content)
	}
	return out
}

// Bool returns a boolean property; known is false when it is null.
func (n *Node) Bool(property string) (value, known bool) {
	switch strings.ToLower(strings.TrimSpace(n.Text(property))) {
	case "true", "1":
		return true, true
	case "false", "0":
		return false, true
	}
	return false, false
}

// Int returns a whole number; -1 when it is null or none.
func (n *Node) Int(property string) int64 {
	v, err := strconv.ParseInt(strings.TrimSpace(n.Text(property)), 10, 64)
	if err != nil {
		return -1
	}
	return v
}

// Time returns a point in time in either spelling that hosts use: an XML
// dateTime in cim:Datetime, or a CIM datetime (DSP0004, section 5.2.4).
func (n *Node) Time(property string) time.Time {
	c := n.Child(property)
	if c == nil || c.IsNil() {
		return time.Time{}
	}
	text := strings.TrimSpace(c.Content)
	for _, inner := range c.Children {
		if inner.Local == "Datetime" || inner.Local == "CIM_DateTime" {
			text = strings.TrimSpace(inner.Content)
		}
	}
	return parseTime(text)
}

func parseTime(text string) time.Time {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC()
		}
	}
	// yyyymmddhhmmss.mmmmmmsutc, the offset in minutes
	if len(text) == 25 && (text[21] == '+' || text[21] == '-') {
		t, err := time.Parse("20060102150405.000000", text[:21])
		minutes, offsetErr := strconv.Atoi(text[22:])
		if err == nil && offsetErr == nil {
			if text[21] == '-' {
				minutes = -minutes
			}
			return t.Add(-time.Duration(minutes) * time.Minute).UTC()
		}
	}
	return time.Time{}
}

// Reference reads a reference to another instance in either spelling: an
// endpoint reference inside the property, or its parts right there.
func (n *Node) Reference(property string) (Resource, bool) {
	at := n.Child(property)
	if at == nil {
		return Resource{}, false
	}
	if inner := at.Child("EndpointReference"); inner != nil {
		at = inner
	}
	parameters := at.Child("ReferenceParameters")
	if parameters == nil {
		return Resource{}, false
	}
	r := Resource{URI: strings.TrimSpace(parameters.Text("ResourceURI"))}
	if set := parameters.Child("SelectorSet"); set != nil {
		for _, s := range set.All("Selector") {
			r.Selectors = append(r.Selectors, Pair{s.Attribute("Name"), s.Content})
		}
	}
	return r, true
}

// Selector returns the value of a selector by name.
func (r Resource) Selector(name string) string {
	for _, s := range r.Selectors {
		if strings.EqualFold(s.Name, name) {
			return s.Value
		}
	}
	return ""
}

// Set gives a property a text, adding it when it is not there.
func (n *Node) Set(property, text string) {
	c := n.Child(property)
	if c == nil {
		c = &Node{Space: n.Space, Local: property}
		n.Children = append(n.Children, c)
	}
	c.Content, c.Attributes, c.Children = text, nil, nil
}

// write makes the XML of an instance, with the name spaces it came with.
func (n *Node) write(space string) string {
	var b strings.Builder
	n.writeTo(&b, "", space, nil)
	return b.String()
}

// typed is the value of xsi:type with the name space of its prefix, which is declared at
// the element itself or above it; ok is false where there is none. An embedded instance
// says so of which class it is (DSP0230, section 7.2.5), and a host that is not told
// refuses it.
func (n *Node) typed(above map[string]string) (local, space string, ok bool) {
	for _, a := range n.Attributes {
		if a.Name.Local == "type" && a.Name.Space == nsInstance {
			prefix, rest, found := strings.Cut(a.Value, ":")
			if !found {
				return a.Value, n.Space, true
			}
			if space = above[prefix]; space == "" && len(n.Children) > 0 {
				space = n.Children[0].Space // declared in the envelope, which is gone: the class's own
			}
			return rest, space, space != ""
		}
	}
	return "", "", false
}

// declared adds the prefixes that an element declares to those above it.
func (n *Node) declared(above map[string]string) map[string]string {
	out, own := above, false
	for _, a := range n.Attributes {
		if a.Name.Space == "xmlns" {
			if !own {
				out, own = maps.Clone(above), true
			}
			if out == nil {
				out = map[string]string{}
			}
			out[a.Name.Local] = a.Value
		}
	}
	return out
}

func (n *Node) writeTo(b *strings.Builder, within, space string, prefixes map[string]string) {
	prefixes = n.declared(prefixes)
	own := n.Space
	if own == "" {
		own = space
	}
	b.WriteString("<" + n.Local)
	if own != within {
		b.WriteString(` xmlns="` + escape(own) + `"`)
	}
	if n.IsNil() {
		b.WriteString(` xmlns:xsi="` + nsInstance + `" xsi:nil="true"`)
	}
	if local, of, ok := n.typed(prefixes); ok {
		b.WriteString(` xmlns:t="` + escape(of) + `" xmlns:xsi="` + nsInstance + `" xsi:type="t:` + escape(local) + `"`)
	}
	b.WriteString(">")
	if len(n.Children) == 0 {
		b.WriteString(escape(n.Content))
	}
	for _, c := range n.Children {
		c.writeTo(b, own, space, prefixes)
	}
	b.WriteString("</" + n.Local + ">")
}
