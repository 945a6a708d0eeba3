// Package soap writes and reads the documents of the remote management protocol of
// windows hosts (DSP0226, DSP0230): elements, instances, and the names of their spaces.
package soap

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/standin/windowshost/wql"
)

// Names of spaces and addresses.
const (
	SOAP       = "http://www.w3.org/2003/05/soap-envelope"
	Addressing = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	Enumerate  = "http://schemas.xmlsoap.org/ws/2004/09/enumeration"
	Transfer   = "http://schemas.xmlsoap.org/ws/2004/09/transfer"
	WSMan      = "http://schemas.dmtf.org/wbem/wsman/1/wsman.xsd"
	Identify   = "http://schemas.dmtf.org/wbem/wsman/identity/1/wsmanidentity.xsd"
	XSI        = "http://www.w3.org/2001/XMLSchema-instance"
	CIM        = "http://schemas.dmtf.org/wbem/wscim/1/common"
	Fault      = "http://schemas.microsoft.com/wbem/wsman/1/wsmanfault"
	Anonymous  = Addressing + "/role/anonymous"
	// Management is what resource addresses begin with.
	Management = "http://schemas.microsoft.com/wbem/wsman/1/wmi/"
	// Prefixes declares the short names that documents use.
	Prefixes = ` xmlns:s="` + SOAP + `" xmlns:a="` + Addressing + `" xmlns:n="` + Enumerate + `" xmlns:x="` + Transfer + `" xmlns:w="` + WSMan + `" xmlns:xsi="` + XSI + `" xmlns:cim="` + CIM + `" xml:lang="en-US"`
)

// Element is any XML element.
type Element struct {
	XMLName  xml.Name
	Attrs    []xml.Attr `xml:",any,attr"`
	Content  string     `xml:",chardata"`
	Children []Element  `xml:",any"`
}

// Child is the first child of a local name; nil for none.
func (e *Element) Child(local string) *Element {
	if e == nil {
		return nil
	}
	for i := range e.Children {
		if e.Children[i].XMLName.Local == local {
			return &e.Children[i]
		}
	}
	return nil
}

// Text is the text of a child.
func (e *Element) Text(local string) string {
	if c := e.Child(local); c != nil {
		return strings.TrimSpace(c.Content)
	}
	return ""
}

// Attribute is the value of an attribute of a local name.
func (e *Element) Attribute(local string) string {
	for _, a := range e.Attrs {
		if a.Name.Local == local {
			return a.Value
		}
	}
	return ""
}

// Escape writes text so that it can stand in a document.
func Escape(text string) string {
	if !strings.ContainsFunc(text, func(r rune) bool {
		return r < 0x20 || r > 0x7e || r == '<' || r == '>' || r == '&' || r == '"' || r == '\''
	}) {
		return text
	}
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(text)) // into memory
	return out.String()
}

// Clock writes a time.
func Clock(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }

// Instance writes an instance (DSP0230, section 7).
func Instance(r wql.Record, prefix, uri string) string {
	var b strings.Builder
	b.WriteString("<" + prefix + ":" + r.Class + ` xmlns:` + prefix + `="` + Escape(uri) + `"`)
	if len(r.Keys) > 0 {
		b.WriteString(` xsi:type="` + prefix + ":" + r.Class + `_Type"`)
	}
	b.WriteString(">")
	for _, f := range r.Fields {
		writeField(&b, prefix, uri, f.Name(), f.Value())
	}
	b.WriteString("</" + prefix + ":" + r.Class + ">")
	return b.String()
}

func writeField(b *strings.Builder, prefix, uri, name string, value any) {
	tag := prefix + ":" + name
	switch v := value.(type) {
	case nil:
		b.WriteString("<" + tag + ` xsi:nil="true"/>`)
	case []string:
		if len(v) == 0 {
			b.WriteString("<" + tag + ` xsi:nil="true"/>`)
		}
		for _, s := range v {
			b.WriteString("<" + tag + ">" + Escape(s) + "</" + tag + ">")
		}
	case []wql.Record:
		if len(v) == 0 {
			b.WriteString("<" + tag + ` xsi:nil="true"/>`)
		}
		for _, r := range v {
			writeField(b, prefix, uri, name, r)
		}
	case wql.Record:
		own := uri[:strings.LastIndexByte(uri, '/')+1] + v.Class
		b.WriteString("<" + tag + ` xmlns:q="` + Escape(own) + `" xsi:type="q:` + v.Class + `_Type">`)
		for _, f := range v.Fields {
			writeField(b, "q", own, f.Name(), f.Value())
		}
		b.WriteString("</" + tag + ">")
	case wql.Reference:
		own := uri[:strings.LastIndexByte(uri, '/')+1] + v.Class
		b.WriteString("<" + tag + "><a:Address>" + Anonymous + "</a:Address><a:ReferenceParameters><w:ResourceURI>" + Escape(own) + "</w:ResourceURI><w:SelectorSet>")
		for _, s := range v.Selectors {
			b.WriteString(`<w:Selector Name="` + s[0] + `">` + Escape(s[1]) + `</w:Selector>`)
		}
		b.WriteString("</w:SelectorSet></a:ReferenceParameters></" + tag + ">")
	case time.Time:
		if v.IsZero() {
			b.WriteString("<" + tag + ` xsi:nil="true"/>`)
			return
		}
		b.WriteString("<" + tag + "><cim:Datetime>" + Clock(v) + "</cim:Datetime></" + tag + ">")
	case bool:
		b.WriteString("<" + tag + ">" + strconv.FormatBool(v) + "</" + tag + ">")
	default:
		text, ok := v.(string)
		if !ok {
			text = fmt.Sprint(v)
		}
		for _, part := range [...]string{"<", tag, ">", Escape(text), "</", tag, ">"} {
			b.WriteString(part)
		}
	}
}

// Resource takes a resource URI apart, in either family of URIs: the name space, usual where the
// URI does not tell it, and the class.
func Resource(uri string, selectors map[string]string, usual string) (space, class string, ok bool) {
	for _, prefix := range []string{Management, "http://schemas.microsoft.com/wbem/wsman/1/wmi/", "wmi/"} {
		if rest, found := CutFold(uri, prefix); found {
			i := strings.LastIndexByte(rest, '/')
			if i < 0 {
				return "", "", false
			}
			return rest[:i], rest[i+1:], true
		}
	}
	if rest, found := CutFold(uri, "wmicimv2/"); found {
		return usual, rest, true
	}
	for _, prefix := range []string{"http://schemas.microsoft.com/wbem/wscim/1/cim-schema/2/", "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/", "http://schemas.dmtf.org/wbem/wscim/1/"} {
		if rest, found := CutFold(uri, prefix); found {
			space := selectors["__cimnamespace"]
			if space == "" {
				space = usual
			}
			return space, rest, true
		}
	}
	return "", "", false
}

// CutFold cuts a prefix off, in whichever case it is written.
func CutFold(text, prefix string) (string, bool) {
	if len(text) >= len(prefix) && strings.EqualFold(text[:len(prefix)], prefix) {
		return text[len(prefix):], true
	}
	return "", false
}
