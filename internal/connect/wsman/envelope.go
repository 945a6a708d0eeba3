package wsman

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
)

// Name spaces (DSP0226 annex A; the last two are those of Windows hosts).
const (
	nsSOAP       = "http://www.w3.org/2003/05/soap-envelope"
	nsAddressing = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	nsEnumerate  = "http://schemas.xmlsoap.org/ws/2004/09/enumeration"
	nsTransfer   = "http://schemas.xmlsoap.org/ws/2004/09/transfer"
	nsWSMan      = "http://schemas.dmtf.org/wbem/wsman/1/wsman.xsd"
	nsIdentify   = "http://schemas.dmtf.org/wbem/wsman/identity/1/wsmanidentity.xsd"
	nsInstance   = "http://www.w3.org/2001/XMLSchema-instance"
	anonymous    = nsAddressing + "/role/anonymous"
	dialectWQL   = "http://schemas.microsoft.com/wbem/wsman/1/WQL"
)

type request struct {
	action   string
	resource Resource
	body     string
}

func escape(text string) string {
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(text)) // into memory
	return out.String()
}

// message writes the envelope of a request (DSP0226, sections 5 and 6).
func (c *Client) message(r request, safe bool, answer, space string) message {
	m := message{id: c.config.NewID(), action: r.action, safe: safe, answer: answer, answerSpace: space}
	var b strings.Builder
	b.WriteString(`<s:Envelope xmlns:s="` + nsSOAP + `" xmlns:a="` + nsAddressing + `" xmlns:n="` + nsEnumerate + `" xmlns:w="` + nsWSMan + `"><s:Header>`)
	b.WriteString(`<a:To>` + escape(c.config.Endpoint) + `</a:To>`)
	b.WriteString(`<w:ResourceURI s:mustUnderstand="true">` + escape(r.resource.URI) + `</w:ResourceURI>`)
	b.WriteString(`<a:ReplyTo><a:Address s:mustUnderstand="true">` + anonymous + `</a:Address></a:ReplyTo>`)
	b.WriteString(`<a:Action s:mustUnderstand="true">` + escape(r.action) + `</a:Action>`)
	b.WriteString(`<a:MessageID>` + escape(m.id) + `</a:MessageID>`)
	fmt.Fprintf(&b, `<w:MaxEnvelopeSize s:mustUnderstand="true">%d</w:MaxEnvelopeSize>`, c.config.Limits.Envelope)
	b.WriteString(`<w:Locale xml:lang="en-US" s:mustUnderstand="false"/>`)
	fmt.Fprintf(&b, `<w:OperationTimeout>PT%.3fS</w:OperationTimeout>`, c.config.Timeout.Seconds())
	if len(r.resource.Selectors) > 0 {
		b.WriteString(`<w:SelectorSet>`)
		for _, s := range r.resource.Selectors {
			b.WriteString(`<w:Selector Name="` + escape(s.Name) + `">` + escape(s.Value) + `</w:Selector>`)
		}
		b.WriteString(`</w:SelectorSet>`)
	}
	b.WriteString(`</s:Header><s:Body>` + r.body + `</s:Body></s:Envelope>`)
	m.text = b.String()
	return m
}

// Quote makes a WQL string literal: backslash and quote are escaped.
func Quote(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) + "'"
}
