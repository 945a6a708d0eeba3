package windowshost_test

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/windowshost"
)

// domainHost is a host in a domain whose directory knows svc-dock.
func domainHost(t *testing.T) (*windowshost.Host, *directory.Server, string) {
	t.Helper()
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1", "localhost")
	require.NoError(t, err)
	d := directory.New(directory.Config{Base: "DC=larkmoor,DC=example", NetBIOS: "LARKMOOR", Windows: true, TLS: config})
	d.Add(directory.Entry{DN: "CN=svc-dock,DC=larkmoor,DC=example", Password: "Dock-Passw0rd-1", Never: true, Attributes: map[string][]string{"objectClass": {"top", "person", "organizationalPerson", "user"}, "sAMAccountName": {"svc-dock"}, "cn": {"svc-dock"}, "userPrincipalName": {"svc-dock@larkmoor.example"}}})
	h := windowshost.New(windowshost.Config{Name: "NORTH1", Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Basic: true, Responses: d, Admins: []string{`LARKMOOR\svc-dock`}})
	h.AddUser(windowshost.User{Name: "mossmgr", Password: "Moss-manages-7-ferries", Admin: true})
	h.AddUser(windowshost.User{Name: "svc-dock", Password: "Local-Passw0rd-1"})
	h.AddService(windowshost.Service{Name: "DockBoard", Account: "LocalSystem", Mode: windowshost.Manual})
	h.AddPool(windowshost.Pool{Name: "DockWeb", Identity: 4})
	_, err = h.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	return h, d, authority.PEM
}

func TestSignInIsAsStrictAsTheRealOne(t *testing.T) {
	h, d, ca := domainHost(t)
	machine := wsman.Resource{URI: cimv2 + "Win32_OperatingSystem"}
	for _, c := range []struct {
		name string
		way  wsman.SignIn
		ok   bool
	}{
		{"Basic, local", wsman.Basic("mossmgr", secret.New("Moss-manages-7-ferries")), true},
		{"Basic, local by the host's name", wsman.Basic(`NORTH1\mossmgr`, secret.New("Moss-manages-7-ferries")), true},
		{"Basic, of the domain", wsman.Basic(`LARKMOOR\svc-dock`, secret.New("Dock-Passw0rd-1")), false},
		{"Basic, of the domain by its other name", wsman.Basic("svc-dock@larkmoor.example", secret.New("Dock-Passw0rd-1")), false},
		{"NTLM, local", wsman.NTLM(`.\mossmgr`, secret.New("Moss-manages-7-ferries")), true},
		{"NTLM, of the domain", wsman.NTLM(`LARKMOOR\svc-dock`, secret.New("Dock-Passw0rd-1")), true},
		{"NTLM, of the domain by its DNS name", wsman.NTLM(`larkmoor.example\svc-dock`, secret.New("Dock-Passw0rd-1")), true},
		{"NTLM, of the domain with the local one's password", wsman.NTLM(`LARKMOOR\svc-dock`, secret.New("Local-Passw0rd-1")), false},
		{"NTLM, of another domain", wsman.NTLM(`ELSEWHERE\svc-dock`, secret.New("Dock-Passw0rd-1")), false},
		{"NTLM, of nobody", wsman.NTLM(`LARKMOOR\nobody`, secret.New("Dock-Passw0rd-1")), false},
	} {
		_, err := client(t, h.Address(), ca, c.way, wsman.Limits{}).Get(t.Context(), machine)
		var status *wsman.StatusError
		if c.ok {
			assert.NoError(t, err, c.name)
		} else if assert.ErrorAs(t, err, &status, c.name) {
			assert.Equal(t, 401, status.Status, c.name)
		}
	}
	d.Update("CN=svc-dock,DC=larkmoor,DC=example", func(e *directory.Entry) { e.Disabled = true })
	_, err := client(t, h.Address(), ca, wsman.NTLM(`LARKMOOR\svc-dock`, secret.New("Dock-Passw0rd-1")), wsman.Limits{}).Get(t.Context(), machine)
	assert.Error(t, err, "a disabled account signs in nowhere")
}

// The one header that needs no sign-in opens one question and no other.
func TestIdentifyRunsNothingElse(t *testing.T) {
	h, _, ca := domainHost(t)
	manager := client(t, h.Address(), ca, wsman.NTLM("mossmgr", secret.New("Moss-manages-7-ferries")), wsman.Limits{})
	service := wsman.Resource{URI: cimv2 + "Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: "DockBoard"}}}
	_, err := manager.Invoke(t.Context(), service, "StopService", nil)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(ca))
	plain := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	t.Cleanup(plain.CloseIdleConnections)
	ask := func(body string) int {
		request, err := http.NewRequest("POST", "https://"+h.Address()+"/wsman", strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("WSMANIDENTIFY", "unauthenticated")
		request.Header.Set("Content-Type", "application/soap+xml;charset=UTF-8")
		response, err := plain.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		return response.StatusCode
	}
	const identify = `<i:Identify xmlns:i="http://schemas.dmtf.org/wbem/wsman/identity/1/wsmanidentity.xsd"/>`
	envelope := func(header, body string) string {
		return `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:w="http://schemas.dmtf.org/wbem/wsman/1/wsman.xsd"><s:Header>` + header + `</s:Header><s:Body>` + body + `</s:Body></s:Envelope>`
	}
	start := `<a:Action>` + cimv2 + `Win32_Service/StartService</a:Action><a:MessageID>uuid:Identify</a:MessageID><w:ResourceURI>` + cimv2 + `Win32_Service</w:ResourceURI><w:SelectorSet><w:Selector Name="Name">DockBoard</w:Selector></w:SelectorSet>`
	assert.Equal(t, 200, ask(envelope("", identify)))
	for _, body := range []string{
		envelope(start, `<p:StartService_INPUT xmlns:p="x"/>`), envelope(start, `<!-- Identify --><p:StartService_INPUT xmlns:p="x"/>`),
		envelope(start, `<p:StartService_INPUT xmlns:p="x"/>`+identify), envelope(start, identify+`<p:StartService_INPUT xmlns:p="x"/>`),
		envelope(start, `<Identify/>`), `<Identify/>`, "Identify", "",
	} {
		assert.Equal(t, 401, ask(body), body)
	}
	board, err := manager.Get(t.Context(), service)
	require.NoError(t, err)
	assert.Equal(t, "Stopped", board.Text("State"), "nobody started it")
}

func TestUnknownNamesAreRefused(t *testing.T) {
	h, _, ca := domainHost(t)
	c := client(t, h.Address(), ca, wsman.NTLM("mossmgr", secret.New("Moss-manages-7-ferries")), wsman.Limits{})
	board := wsman.Resource{URI: cimv2 + "Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: "DockBoard"}}}
	_, err := c.Invoke(t.Context(), board, "Change", []wsman.Pair{{Name: "StartMode", Value: "Automatic"}})
	require.NoError(t, err)
	for _, input := range [][]wsman.Pair{{{Name: "StartUser", Value: "x"}}, {{Name: "startname", Value: "x"}}, {{Name: "StartMode", Value: "Manual"}, {Name: "StartPass", Value: "x"}}} {
		_, err := c.Invoke(t.Context(), board, "Change", input)
		assert.ErrorContains(t, err, "schema", "%v", input)
	}
	read := func(query string) error {
		return c.Enumerate(t.Context(), wsman.Query{URI: cimv2 + "*", WQL: query}, func(*wsman.Instance) error { return nil })
	}
	require.NoError(t, read("select * from Win32_Service where StartMode='Auto' and not Name='x'"))
	assert.ErrorContains(t, read("select * from Win32_Service where StartupMode='Auto'"), "no property StartupMode")
	assert.ErrorContains(t, read("select * from Win32_Service where Name='x' or Flavor is null"), "no property Flavor")
	after, err := c.Get(t.Context(), board)
	require.NoError(t, err)
	assert.Equal(t, "Auto", after.Text("StartMode"), "a refused call changes nothing")
}
