package windowshost

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"mossledger.example/moss/internal/standin/windowshost/soap"
	"mossledger.example/moss/internal/standin/windowshost/wql"
)

// fault is a refusal in the protocol's terms.
type fault struct {
	code, subcode, reason, number, provider string
}

func notFound() *fault {
	return &fault{code: "Sender", subcode: "a:DestinationUnreachable", reason: "The service cannot process the request. The resource URI or the selectors do not name an object that is there.", number: "2150858752"}
}

// wmiFault is a failure of what lies behind the protocol.
func wmiFault(number string) *fault {
	words := map[string]string{
		"0x8007052E": "The user name or password is incorrect.", "0x80070534": "No mapping between account names and security IDs was done.",
		"0x80070002": "The system cannot find the file specified.", "0x80070005": "Access is denied.", "0x80070426": "The service has not been started.",
	}[number]
	code, _ := strconv.ParseUint(strings.TrimPrefix(number, "0x"), 16, 32)
	return &fault{code: "Receiver", subcode: "w:InternalError", reason: "The WS-Management service cannot process the request: " + words, number: strconv.FormatUint(code, 10), provider: words}
}

// exchange answers one request of somebody, who is shown all or a part: a status and a
// body.
func (h *Host) exchange(raw []byte, who string, partly bool) (status int, action, body string) {
	var envelope soap.Element
	if err := xml.Unmarshal(raw, &envelope); err != nil {
		return 500, "", h.faulted("", &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The request contains invalid XML: " + err.Error(), number: "2150858817"})
	}
	if envelope.XMLName.Local != "Envelope" || envelope.XMLName.Space != soap.SOAP {
		return 500, "", h.faulted("", &fault{code: "VersionMismatch", reason: "The SOAP envelope is not of version 1.2."})
	}
	content := envelope.Child("Body")
	if content != nil && content.Child("Identify") != nil && content.Child("Identify").XMLName.Space == soap.Identify {
		return 200, "Identify", `<s:Envelope xmlns:s="` + soap.SOAP + `" xml:lang="en-US"><s:Header/><s:Body><wsmid:IdentifyResponse xmlns:wsmid="` + soap.Identify + `"><wsmid:ProtocolVersion>` + soap.WSMan + `</wsmid:ProtocolVersion><wsmid:ProductVendor>Stand-in</wsmid:ProductVendor><wsmid:ProductVersion>OS: 0.0.0 SP: 0.0 Stack: 3.0</wsmid:ProductVersion></wsmid:IdentifyResponse></s:Body></s:Envelope>`
	}
	header := envelope.Child("Header")
	id := header.Text("MessageID")
	action = header.Text("Action")
	if header != nil {
		for _, c := range header.Children {
			understood := c.XMLName.Space == soap.Addressing || c.XMLName.Space == soap.WSMan || strings.HasPrefix(c.XMLName.Space, "http://schemas.microsoft.com/wbem/wsman/")
			if must := c.Attribute("mustUnderstand"); (must == "true" || must == "1") && !understood {
				return 500, action, h.faulted(id, &fault{code: "MustUnderstand", reason: "The header " + c.XMLName.Local + " is not understood."})
			}
		}
	}
	if action == "" || id == "" || content == nil {
		return 500, action, h.faulted(id, &fault{code: "Sender", subcode: "a:MessageInformationHeaderRequired", reason: "A required header was not present."})
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	h.calls[action]++
	h.asker, h.partly = who, partly
	reply, problem := h.dispatch(action, header, content)
	if problem != nil {
		return 500, action, h.faulted(id, problem)
	}
	return 200, action, h.reply(id, action+"Response", reply)
}

func (h *Host) reply(id, action, body string) string {
	return `<s:Envelope` + soap.Prefixes + `><s:Header><a:Action>` + soap.Escape(action) + `</a:Action><a:MessageID>uuid:` + strings.ToUpper(uuid.NewString()) + `</a:MessageID><a:To>` + soap.Anonymous + `</a:To><a:RelatesTo>` + soap.Escape(id) + `</a:RelatesTo></s:Header><s:Body>` + body + `</s:Body></s:Envelope>`
}

func (h *Host) faulted(id string, f *fault) string {
	sub := ""
	if f.subcode != "" {
		sub = `<s:Subcode><s:Value>` + f.subcode + `</s:Value></s:Subcode>`
	}
	detail := ""
	if f.number != "" {
		message := soap.Escape(f.reason)
		if f.provider != "" {
			message = `<f:ProviderFault provider="stand-in" path="stand-in"><f:WSManFault Code="` + f.number + `" Machine="` + h.Name + `"><f:Message>` + soap.Escape(f.provider) + `</f:Message></f:WSManFault></f:ProviderFault>`
		}
		detail = `<s:Detail><f:WSManFault xmlns:f="` + soap.Fault + `" Code="` + f.number + `" Machine="` + h.Name + `"><f:Message>` + message + `</f:Message></f:WSManFault></s:Detail>`
	}
	body := `<s:Fault><s:Code><s:Value>s:` + f.code + `</s:Value>` + sub + `</s:Code><s:Reason><s:Text xml:lang="en-US">` + soap.Escape(f.reason) + `</s:Text></s:Reason>` + detail + `</s:Fault>`
	return h.reply(id, "http://schemas.dmtf.org/wbem/wsman/1/wsman/fault", body)
}

func (h *Host) dispatch(action string, header, content *soap.Element) (string, *fault) {
	uri := header.Text("ResourceURI")
	selectors := map[string]string{}
	if set := header.Child("SelectorSet"); set != nil {
		for _, s := range set.Children {
			selectors[fold(s.Attribute("Name"))] = s.Content
		}
	}
	space, class, ok := soap.Resource(uri, selectors, spaceCIM)
	if !ok {
		return "", notFound()
	}
	limit := 512000
	if n, err := strconv.Atoi(header.Text("MaxEnvelopeSize")); err == nil && n >= 8192 {
		limit = n
	}
	switch action {
	case soap.Enumerate + "/Enumerate":
		return h.enumerate(uri, space, class, content.Child("Enumerate"), limit)
	case soap.Enumerate + "/Pull":
		return h.pull(content.Child("Pull"), limit)
	case soap.Enumerate + "/Release":
		delete(h.contexts, content.Child("Release").Text("EnumerationContext"))
		return "", nil
	case soap.Transfer + "/Get":
		all, known := h.instances(space, class)
		if !known {
			return "", notFound()
		}
		if fold(class) == "win32_useraccount" {
			all = append(all, h.user(selectors)...)
		}
		r, problem := choose(all, selectors)
		if problem != nil {
			return "", problem
		}
		return soap.Instance(*r, "p", uri), nil
	case soap.Transfer + "/Put":
		if len(content.Children) == 0 {
			return "", &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The body is empty.", number: "2150858817"}
		}
		if problem := h.put(class, selectors, &content.Children[0]); problem != nil {
			return "", problem
		}
		return "", nil // the body of the answer may be empty (WS-Transfer, section 3.2), and is
	}
	method, found := soap.CutFold(action, uri+"/")
	if !found {
		return "", &fault{code: "Sender", subcode: "a:ActionNotSupported", reason: "The action is not supported by the service.", number: "2150858819"}
	}
	if _, known := h.instances(space, class); !known {
		return "", notFound()
	}
	input := map[string]string{}
	if len(content.Children) > 0 {
		for _, c := range content.Children[0].Children {
			input[c.XMLName.Local] = c.Content
			for _, inner := range c.Children { // of an embedded instance, which says of which class it is
				input[c.XMLName.Local+"."+inner.XMLName.Local] = inner.Content
			}
			if of := c.Attribute("type"); len(c.Children) > 0 {
				input[c.XMLName.Local+".is"] = of[strings.LastIndexByte(of, ':')+1:]
			}
		}
	}
	output, problem := h.call(space, class, method, selectors, input)
	if problem != nil {
		return "", problem
	}
	return soap.Instance(wql.Record{Class: method + "_OUTPUT", Fields: output}, "p", uri), nil
}

// choose finds the one instance that selectors name.
func choose(all []wql.Record, selectors map[string]string) (*wql.Record, *fault) {
	wrong := &fault{code: "Sender", subcode: "w:InvalidSelectors", reason: "The WS-Management service cannot process the request because the selectors are not valid for the resource.", number: "2150858843"}
	for i := range all {
		if len(all[i].Keys) == 0 {
			return nil, wrong
		}
		match := true
		for _, key := range all[i].Keys {
			value, given := selectors[fold(key)]
			if !given && all[i].Class != "Win32_OperatingSystem" && all[i].Class != "Win32_ComputerSystem" {
				return nil, wrong
			}
			match = match && (!given || strings.EqualFold(wql.AsText(all[i].Get(key)), value))
		}
		if match {
			return &all[i], nil
		}
	}
	return nil, notFound()
}

type enumeration struct {
	items   []string
	expires time.Time
}

func (h *Host) enumerate(uri, space, class string, e *soap.Element, limit int) (string, *fault) {
	if e == nil {
		return "", &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The body has no Enumerate.", number: "2150858817"}
	}
	keep := func(wql.Record) bool { return true }
	var compared []string
	if filter := e.Child("Filter"); filter != nil {
		if class != "*" {
			return "", &fault{code: "Sender", subcode: "n:CannotProcessFilter", reason: "The WS-Management service cannot process the request. A filter needs the resource URI of a whole namespace (/*).", number: "2150858830"}
		}
		if dialect := filter.Attribute("Dialect"); !strings.HasSuffix(fold(dialect), "/wql") {
			return "", &fault{code: "Sender", subcode: "n:FilterDialectRequestedUnavailable", reason: "The filter dialect is not supported.", number: "2150858834"}
		}
		q, err := wql.ParseQuery(filter.Content)
		if err != nil {
			return "", &fault{code: "Sender", subcode: "n:CannotProcessFilter", reason: "The WS-Management service cannot process the request. The WQL query is invalid: " + err.Error(), number: "2150858778"}
		}
		class, keep, compared = q.Class, q.Where, q.Names
	} else if class == "*" {
		return "", notFound()
	}
	if h.denied(space, class) {
		denied := faultDenied
		return "", &denied
	}
	all, known := h.instances(space, class)
	if !known {
		return "", &fault{code: "Sender", subcode: "a:DestinationUnreachable", reason: "The WS-Management service cannot process the request. The class " + class + " does not exist in the namespace " + space + ".", number: "2150858752"}
	}
	// Memberships of all groups are those of the domain's groups as well: the provider
	// walks through the domain, and nothing is ready in time.
	walks := strings.EqualFold(class, "Win32_GroupUser") && h.Authority != nil && !slices.Contains(compared, "GroupComponent")
	if walks || h.fault.Slow != nil && h.fault.Slow(class) {
		return "", &fault{code: "Receiver", subcode: "w:TimedOut", reason: "The WS-Management service cannot complete the operation within the time specified in OperationTimeout.", number: "2150858793"}
	}
	for _, name := range compared {
		if len(all) > 0 && !all[0].Has(name) {
			return "", &fault{code: "Sender", subcode: "n:CannotProcessFilter", reason: "The WS-Management service cannot process the request. The WQL query is invalid: " + class + " has no property " + name + ".", number: "2150858778"}
		}
	}
	// Instances carry the class's own URI also when * was asked.
	own := uri
	if i := strings.LastIndexByte(uri, '/'); strings.HasSuffix(uri, "/*") {
		own = uri[:i+1] + class
	}
	context := &enumeration{expires: h.Now().Add(time.Minute)}
	for _, r := range all {
		if keep(r) {
			context.items = append(context.items, soap.Instance(r, "p", own))
		}
	}
	h.nextID++
	id := fmt.Sprintf("uuid:%08X-0000-0000-0000-000000000000", h.nextID)
	h.contexts[id] = context
	if e.Child("OptimizeEnumeration") == nil {
		return `<n:EnumerateResponse><n:EnumerationContext>` + id + `</n:EnumerationContext></n:EnumerateResponse>`, nil
	}
	items, over := h.portion(id, e, limit)
	end, shown := "", id
	if over {
		end, shown = "<w:EndOfSequence/>", ""
	}
	return `<n:EnumerateResponse><n:EnumerationContext>` + shown + `</n:EnumerationContext><w:Items>` + items + `</w:Items>` + end + `</n:EnumerateResponse>`, nil
}

func (h *Host) pull(e *soap.Element, limit int) (string, *fault) {
	id := e.Text("EnumerationContext")
	context := h.contexts[id]
	if context == nil || h.Now().After(context.expires) || h.fault.Forget {
		delete(h.contexts, id)
		return "", &fault{code: "Receiver", subcode: "n:InvalidEnumerationContext", reason: "The WS-Management service cannot process the request. The supplied enumeration context is invalid.", number: "2150858839"}
	}
	items, over := h.portion(id, e, limit)
	if over {
		return `<n:PullResponse><n:Items>` + items + `</n:Items><n:EndOfSequence/></n:PullResponse>`, nil
	}
	return `<n:PullResponse><n:EnumerationContext>` + id + `</n:EnumerationContext><n:Items>` + items + `</n:Items></n:PullResponse>`, nil
}

// portion takes as many items as were asked for and fit in the envelope.
func (h *Host) portion(id string, e *soap.Element, limit int) (string, bool) {
	context := h.contexts[id]
	most := 1 // WS-Enumeration's default
	if n, err := strconv.Atoi(e.Text("MaxElements")); err == nil && n > 0 {
		most = min(n, 32000)
	}
	var out strings.Builder
	n := 0
	for n < len(context.items) && n < most && (n == 0 || out.Len()+len(context.items[n])+2048 < limit) {
		out.WriteString(context.items[n])
		n++
	}
	context.items = context.items[n:]
	over := len(context.items) == 0
	if over {
		delete(h.contexts, id)
	}
	return out.String(), over
}
