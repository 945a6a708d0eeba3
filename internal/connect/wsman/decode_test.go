package wsman

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

// reply wraps a body as a host does; {id} stands for the message's id.
func reply(body string) string {
	return `<?xml version="1.0"?><s:Envelope xmlns:s="` + nsSOAP + `" xmlns:a="` + nsAddressing + `" xmlns:n="` + nsEnumerate + `" xmlns:w="` + nsWSMan + `" xmlns:xsi="` + nsInstance + `"><s:Header><a:RelatesTo>id-1</a:RelatesTo></s:Header><s:Body>` + body + `</s:Body></s:Envelope>`
}

// against makes a client of a server that always answers the same.
func against(t *testing.T, status int, kind, body string) *Client {
	t.Helper()
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(server.Close)
	c, err := New(Config{Endpoint: server.URL + "/wsman", Transport: server.Client().Transport.(*http.Transport), NewID: func() string { return "id-1" }, Timeout: time.Second, Limits: Limits{Token: 1 << 16, Depth: 20}})
	require.NoError(t, err)
	return c
}

const soap = "application/soap+xml;charset=UTF-8"

func TestRefusesWhatIsNoProperReply(t *testing.T) {
	deep := strings.Repeat("<p:a>", 50) + strings.Repeat("</p:a>", 50)
	for name, c := range map[string]struct{ kind, body, words string }{
		"a web page":         {"text/html", "<html>Please sign in to the proxy</html>", "not a WS-Management reply"},
		"nothing":            {soap, "", "ended in the middle"},
		"cut":                {soap, reply("<p:X xmlns:p='u'><p:A>1</p:A></p:X>")[:300], "ended in the middle"},
		"malformed":          {soap, reply("<p:X xmlns:p='u'><p:A></p:B></p:X>"), "not a proper"},
		"old envelope":       {soap, strings.ReplaceAll(reply("<X/>"), nsSOAP, "http://schemas.xmlsoap.org/soap/envelope/"), "not with a SOAP 1.2 envelope"},
		"entities":           {soap, `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]>` + reply("<X>&b;</X>"), "document type or entities"},
		"an unknown entity":  {soap, reply("<X>&secret;</X>"), "not a proper"},
		"deep":               {soap, reply("<n:EnumerateResponse xmlns:p='u'><w:Items>" + deep + "</w:Items></n:EnumerateResponse>"), "nested deeper"},
		"a huge element":     {soap, reply("<n:EnumerateResponse><w:Items><X>" + strings.Repeat("a", 1<<17) + "</X></w:Items></n:EnumerateResponse>"), "larger than"},
		"a huge tag":         {soap, reply("<X a='" + strings.Repeat("a", 1<<17) + "'/>"), "larger than"},
		"another's answer":   {soap, strings.Replace(reply("<X/>"), "id-1", "id-2", 1), `answers the message "id-2"`},
		"an empty body":      {soap, reply(""), "body is empty"},
		"another element":    {soap, reply("<n:PullResponse/>"), "is expected"},
		"body before header": {soap, strings.Replace(reply("<X/>"), "s:Header", "s:Footer", 2), "SOAP body is expected"},
		"a wrong name space": {soap, strings.ReplaceAll(reply("<n:EnumerateResponse/>"), nsEnumerate, "urn:other"), "is expected"},
	} {
		err := against(t, 200, c.kind, c.body).Enumerate(t.Context(), Query{URI: "u"}, func(*Instance) error { return nil })
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.words, name)
	}
}

func TestFaults(t *testing.T) {
	fault := func(detail string) string {
		return strings.Replace(reply(`<s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>w:InternalError</s:Value></s:Subcode></s:Code><s:Reason><s:Text xml:lang="en-US">It failed.</s:Text></s:Reason><s:Detail>`+detail+`</s:Detail></s:Fault>`), "id-1", "", 1)
	}
	for name, c := range map[string]struct{ detail, number, words string }{
		"host":     {`<f:WSManFault xmlns:f="urn:f" Code="5" Machine="north1"><f:Message>Access is denied.</f:Message></f:WSManFault>`, "5", "Access is denied."},
		"provider": {`<f:WSManFault xmlns:f="urn:f" Code="1" Machine="north1"><f:Message><f:ProviderFault provider="p"><f:WSManFault Code="2147944122"><f:Message>The handle is gone.</f:Message></f:WSManFault></f:ProviderFault></f:Message></f:WSManFault>`, "2147944122", "The handle is gone."},
		"other":    {`<p:MSFT_WmiError xmlns:p="urn:p"><p:error_Code>2147942726</p:error_Code><p:Message>Bad password.</p:Message></p:MSFT_WmiError>`, "2147942726", "Bad password."},
		"none":     {``, "", "It failed."},
	} {
		_, err := against(t, 500, soap, fault(c.detail)).Get(t.Context(), Resource{URI: "u"})
		var f *Fault
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, "InternalError", f.Subcode)
		assert.Equal(t, c.number, f.Number, name)
		assert.Contains(t, f.Error(), c.words, name)
		assert.False(t, MayHaveHappened(err))
	}
	again := strings.Replace(fault(""), "<a:RelatesTo>", "<a:RelatesTo>id-0", 1)
	_, err := against(t, 500, soap, again).Invoke(t.Context(), Resource{URI: "u"}, "Stop", nil)
	assert.ErrorContains(t, err, `fault of the message "id-0"`, "one that is delivered again is no answer")
	assert.True(t, MayHaveHappened(err))
	timedOut := strings.Replace(fault(""), "w:InternalError", "w:TimedOut", 1)
	_, err = against(t, 500, soap, timedOut).Invoke(t.Context(), Resource{URI: "u"}, "Stop", nil)
	assert.True(t, MayHaveHappened(err), "time ran out over there: it may have happened")
	_, err = against(t, 200, soap, "garbage").Invoke(t.Context(), Resource{URI: "u"}, "Stop", nil)
	assert.True(t, MayHaveHappened(err))
	_, err = against(t, 503, "text/plain", "busy").Invoke(t.Context(), Resource{URI: "u"}, "Stop", nil)
	assert.ErrorContains(t, err, "503")
	assert.True(t, MayHaveHappened(err))
}

func TestValues(t *testing.T) {
	body := reply(`<p:X xmlns:p="u" xmlns:cim="c" xmlns:q="v"><p:A xsi:nil="true"/><p:L>1</p:L><p:L>2</p:L><p:T><cim:Datetime>2026-11-23T06:00:00.5+01:00</cim:Datetime></p:T><p:D>20261123060000.000000+060</p:D>
		<p:R><a:EndpointReference><a:Address>x</a:Address><a:ReferenceParameters><w:ResourceURI>u/Win32_Service</w:ResourceURI><w:SelectorSet><w:Selector Name="Name">RpcSs</w:Selector></w:SelectorSet></a:ReferenceParameters></a:EndpointReference></p:R>
		<p:M><q:User>larkmoor\svc &amp; co</q:User></p:M></p:X>`)
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(strings.Replace(body, `version="1.0"`, `version="1.0" encoding="utf-16"`, 1))
	require.NoError(t, err)
	for _, c := range []struct{ kind, body string }{{soap, body}, {"application/soap+xml;charset=UTF-16", wide}, {"application/soap+xml", wide}} {
		x, err := against(t, 200, c.kind, c.body).Get(t.Context(), Resource{URI: "u"})
		require.NoError(t, err)
		assert.True(t, x.Child("A").IsNil())
		assert.Equal(t, []string{"1", "2"}, x.List("L"))
		assert.Equal(t, time.Date(2026, 11, 23, 5, 0, 0, 5e8, time.UTC), x.Time("T"))
		assert.Equal(t, time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC), x.Time("D"))
		r, ok := x.Reference("R")
		assert.True(t, ok)
		assert.Equal(t, "RpcSs", r.Selector("name"))
		assert.Equal(t, `larkmoor\svc & co`, x.Child("M").Text("User"))
		x.Child("M").Set("User", "<new>")
		again := newDecoder(strings.NewReader(x.write("u")), "", Limits{})
		start, err := again.next()
		require.NoError(t, err)
		back, err := again.tree(start, 0)
		require.NoError(t, err)
		assert.Equal(t, "<new>", back.Child("M").Text("User"), "what is written back is what was read, but for the change")
		assert.Equal(t, "v", back.Child("M").Child("User").Space)
		assert.True(t, back.Child("A").IsNil())
	}
	assert.Equal(t, `'a\\b\'c'`, Quote(`a\b'c`))
}

// TestStreams: instances are handed over while the reply still comes in.
func TestStreams(t *testing.T) {
	seen := make(chan bool)
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", soap)
		whole := reply(`<n:EnumerateResponse><n:EnumerationContext/><w:Items><p:X xmlns:p="u"><p:A>1</p:A></p:X>|<p:X xmlns:p="u"/></w:Items><w:EndOfSequence/></n:EnumerateResponse>`)
		first, rest, _ := strings.Cut(whole, "|")
		_, _ = w.Write([]byte(first))
		w.(http.Flusher).Flush()
		select {
		case <-seen:
		case <-r.Context().Done():
		}
		_, _ = w.Write([]byte(rest))
	}))
	defer server.Close()
	c, err := New(Config{Endpoint: server.URL, Transport: server.Client().Transport.(*http.Transport), NewID: func() string { return "id-1" }})
	require.NoError(t, err)
	n := 0
	require.NoError(t, c.Enumerate(t.Context(), Query{URI: "u"}, func(*Instance) error {
		if n++; n == 1 {
			close(seen)
		}
		return nil
	}))
	assert.Equal(t, 2, n)
}

func FuzzReply(f *testing.F) {
	for _, seed := range []string{
		reply("<n:EnumerateResponse><n:EnumerationContext>c</n:EnumerationContext><w:Items><X><A>1</A></X></w:Items><w:EndOfSequence/></n:EnumerateResponse>"),
		reply("<s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code></s:Fault>"), "<", "\xff\xfe<", reply("<X xsi:nil='1'/>"), "<!DOCTYPE a>",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, charset := range []string{"", "utf-16"} {
			d := newDecoder(strings.NewReader(text), charset, Limits{Token: 1 << 12, Depth: 10})
			e := &enumeration{each: func(i *Instance) error {
				_, _ = i.Reference("A")
				_ = i.Time("A")
				_ = i.write("u")
				return nil
			}}
			err := d.envelope(message{}, e.take)
			var fault *Fault
			var read *readError
			var bad *ProtocolError
			if err != nil && !errors.As(err, &fault) && !errors.As(err, &read) && !errors.As(err, &bad) {
				t.Errorf("an error of no known type: %v", err)
			}
		}
	})
}

// TestHugeEnumeration: a hundred thousand instances in one reply are handed
// over one by one; what is held does not grow with them.
func TestHugeEnumeration(t *testing.T) {
	const many = 100_000
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", soap)
		head, tail, _ := strings.Cut(reply(`<n:EnumerateResponse><n:EnumerationContext/><w:Items>|</w:Items><w:EndOfSequence/></n:EnumerateResponse>`), "|")
		_, _ = w.Write([]byte(head))
		item := `<p:Win32_Service xmlns:p="u"><p:Name>Service</p:Name><p:Description>` + strings.Repeat("words ", 40) + `</p:Description></p:Win32_Service>`
		for range many {
			if _, err := w.Write([]byte(item)); err != nil {
				return
			}
		}
		_, _ = w.Write([]byte(tail))
	}))
	defer server.Close()
	c, err := New(Config{Endpoint: server.URL, Transport: server.Client().Transport.(*http.Transport), NewID: func() string { return "id-1" }})
	require.NoError(t, err)
	held := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	n, most, base := 0, uint64(0), held()
	require.NoError(t, c.Enumerate(t.Context(), Query{URI: "u"}, func(i *Instance) error {
		if n++; n%20_000 == 0 {
			most = max(most, held())
		}
		return nil
	}))
	assert.Equal(t, many, n)
	assert.Less(t, most, base+4<<20, "of a reply of 30 MB nothing but the instance at hand is held")
}
