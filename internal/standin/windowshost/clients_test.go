package windowshost_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/windowshost"
)

const cimv2 = "http://schemas.microsoft.com/wbem/wsman/1/wmi/root/cimv2/"

// host starts a stand-in with one local administrator.
func host(t *testing.T) (*windowshost.Host, string) {
	t.Helper()
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1", "localhost")
	require.NoError(t, err)
	h := windowshost.New(windowshost.Config{Name: "NORTH1", Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Basic: true})
	h.AddUser(windowshost.User{Name: "mossmgr", Password: "Moss-manages-7-ferries", Admin: true})
	h.AddUser(windowshost.User{Name: "clerk", Password: "Clerks-read-only-1"})
	h.AddUser(windowshost.User{Name: "svc-berth", Password: "Harbour-Lamp-41"})
	h.AddService(windowshost.Service{Name: "BerthBoard", Display: "Berth board <north> & \"east\"", Path: `"C:\Berth\board.exe" --serve`, Account: `.\svc-berth`, Password: "Harbour-Lamp-41"})
	for i := range 40 {
		h.AddService(windowshost.Service{Name: fmt.Sprintf("Filler%02d", i), Account: "LocalSystem"})
	}
	_, err = h.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	return h, authority.PEM
}

func client(t *testing.T, address, ca string, signIn wsman.SignIn, limits wsman.Limits) *wsman.Client {
	t.Helper()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(ca))
	c, err := wsman.New(wsman.Config{
		Endpoint: "https://" + address + "/wsman", SignIn: signIn, Timeout: 5 * time.Second, Limits: limits,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, MaxConnsPerHost: 1},
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func TestOwnClient(t *testing.T) {
	h, ca := host(t)
	manager := secret.New("Moss-manages-7-ferries")
	for _, way := range []wsman.SignIn{wsman.Basic(`NORTH1\mossmgr`, manager), wsman.NTLM(`.\mossmgr`, manager), wsman.NTLM(`mossmgr`, manager)} {
		t.Run(way.Name(), func(t *testing.T) {
			ctx := t.Context()
			c := client(t, h.Address(), ca, way, wsman.Limits{Batch: 7})
			id, err := c.Identify(ctx)
			require.NoError(t, err)
			assert.Equal(t, "Stand-in", id.Vendor)

			service := wsman.Resource{URI: cimv2 + "Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: "BerthBoard"}}}
			berth, err := c.Get(ctx, service)
			require.NoError(t, err)
			assert.Equal(t, "Berth board <north> & \"east\"", berth.Text("DisplayName"))
			assert.Equal(t, `.\svc-berth`, berth.Text("StartName"))
			assert.True(t, berth.Child("InstallDate").IsNil())
			started, known := berth.Bool("Started")
			assert.True(t, started && known)

			pulls := h.Calls("Pull")
			var names []string
			require.NoError(t, c.Enumerate(ctx, wsman.Query{URI: cimv2 + "*", WQL: "select * from Win32_Service where Name like 'Filler%' and State=" + wsman.Quote("Running")}, func(i *wsman.Instance) error {
				names = append(names, i.Text("Name"))
				return nil
			}))
			assert.Len(t, names, 40)
			assert.Equal(t, 5, h.Calls("Pull")-pulls, "40 in portions of 7: one with the first reply, five pulled")

			enough := errors.New("enough")
			releases := h.Calls("Release")
			assert.ErrorIs(t, c.Enumerate(ctx, wsman.Query{URI: cimv2 + "Win32_Service"}, func(*wsman.Instance) error { return enough }), enough)
			assert.Equal(t, releases+1, h.Calls("Release"), "the server's context is let go")

			out, err := c.Invoke(ctx, service, "StopService", nil)
			require.NoError(t, err)
			assert.Equal(t, int64(0), out.Int("ReturnValue"))
			out, err = c.Invoke(ctx, service, "StartService", nil)
			require.NoError(t, err)
			assert.Equal(t, int64(0), out.Int("ReturnValue"))

			require.NoError(t, c.Enumerate(ctx, wsman.Query{URI: cimv2 + "*", WQL: `select * from Win32_GroupUser where GroupComponent="Win32_Group.Domain='NORTH1',Name='Administrators'"`}, func(i *wsman.Instance) error {
				part, ok := i.Reference("PartComponent")
				assert.True(t, ok)
				assert.NotEmpty(t, part.Selector("Name"))
				return nil
			}))
			var os *wsman.Instance
			require.NoError(t, c.Enumerate(ctx, wsman.Query{URI: cimv2 + "Win32_OperatingSystem"}, func(i *wsman.Instance) error { os = i; return nil }))
			assert.WithinDuration(t, time.Now(), os.Time("LocalDateTime"), 2*time.Second)

			service.Selectors[0].Value = "NoSuchService"
			_, err = c.Get(ctx, service)
			assert.True(t, wsman.Is(err, wsman.NumberNotFound), "%v", err)
			service.Selectors[0].Name = "DisplayName"
			_, err = c.Get(ctx, service)
			assert.True(t, wsman.Is(err, wsman.WrongSelectors), "%v", err)
			err = c.Enumerate(ctx, wsman.Query{URI: cimv2 + "Win32_Service", WQL: "select * from Win32_Service"}, func(*wsman.Instance) error { return nil })
			assert.True(t, wsman.Is(err, wsman.CannotFilter), "%v", err)
		})
	}
	for name, way := range map[string]wsman.SignIn{
		"basic": wsman.Basic("mossmgr", secret.New("surely-Wr0ng")), "ntlm": wsman.NTLM("mossmgr", secret.New("surely-Wr0ng")), "nobody": wsman.NTLM("nobody", manager),
	} {
		_, err := client(t, h.Address(), ca, way, wsman.Limits{}).Get(t.Context(), wsman.Resource{URI: cimv2 + "Win32_OperatingSystem"})
		var status *wsman.StatusError
		require.ErrorAs(t, err, &status, name)
		assert.Equal(t, 401, status.Status)
		assert.Contains(t, status.Offers, "Negotiate")
		assert.False(t, wsman.MayHaveHappened(err))
	}
	_, err := client(t, h.Address(), ca, wsman.Basic("clerk", secret.New("Clerks-read-only-1")), wsman.Limits{}).Get(t.Context(), wsman.Resource{URI: cimv2 + "Win32_OperatingSystem"})
	assert.True(t, wsman.Is(err, wsman.AccessDenied), "%v", err)
}

// TestFaultyHost: what a broken host does to an enumeration and to a method.
func TestFaultyHost(t *testing.T) {
	h, ca := host(t)
	c := client(t, h.Address(), ca, wsman.Basic("mossmgr", secret.New("Moss-manages-7-ferries")), wsman.Limits{Batch: 7})
	read := func() error {
		return c.Enumerate(t.Context(), wsman.Query{URI: cimv2 + "Win32_Service"}, func(*wsman.Instance) error { return nil })
	}
	act := func() error {
		_, err := c.Invoke(t.Context(), wsman.Resource{URI: cimv2 + "Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: "Spooler"}}}, "Change", []wsman.Pair{{Name: "StartMode", Value: "Manual"}})
		return err
	}
	once := func(suffix string) func(string) bool {
		done := false
		return func(action string) bool {
			hit := !done && strings.HasSuffix(action, suffix)
			done = done || hit
			return hit
		}
	}
	h.SetFault(windowshost.Fault{Drop: once("/Enumerate")})
	assert.NoError(t, read(), "reading is sent again when the connection breaks before an answer")
	h.SetFault(windowshost.Fault{Cut: once("/Pull")})
	assert.Error(t, read(), "a pull is not")
	h.SetFault(windowshost.Fault{Forget: true})
	assert.True(t, wsman.Is(read(), wsman.ExpiredContext))
	changes := h.Calls("/Change")
	h.SetFault(windowshost.Fault{Drop: once("/Change")})
	err := act()
	require.Error(t, err)
	assert.True(t, wsman.MayHaveHappened(err), "%v", err)
	assert.Equal(t, changes+1, h.Calls("/Change"), "an act is sent once")
	h.SetFault(windowshost.Fault{Cut: once("/Change")})
	assert.True(t, wsman.MayHaveHappened(act()))
	timedOut := 0
	h.SetFault(windowshost.Fault{Reply: func(action string) (int, string, bool) {
		if strings.HasSuffix(action, "/Pull") && timedOut < 2 {
			timedOut++
			return 500, `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>w:TimedOut</s:Value></s:Subcode></s:Code><s:Reason><s:Text>later</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`, true
		}
		return 0, "", false
	}})
	assert.NoError(t, read(), "a pull that found nothing in time is asked again")
	h.SetFault(windowshost.Fault{Down: true})
	c.Close()
	err = act()
	require.Error(t, err)
	assert.False(t, wsman.MayHaveHappened(err), "nothing was sent to a host that is down: %v", err)
	_, err = wsman.New(wsman.Config{Endpoint: "http://127.0.0.1:5985/wsman", Transport: &http.Transport{}})
	assert.ErrorIs(t, err, wsman.ErrPlainHTTP)
}

// TestIndependentClients holds the stand-in against two clients that are not
// ours: a shell one and a Python one.
func TestIndependentClients(t *testing.T) {
	h, ca := host(t)
	for _, tool := range []string{"wsl", "/usr/bin/python3"} {
		if _, err := exec.LookPath(tool); err != nil {
			lab.LeaveOut(t, tool+" is not installed: run 'make lab' as root")
		}
	}
	folder := t.TempDir()
	certificate := filepath.Join(folder, "ca.pem")
	require.NoError(t, os.WriteFile(certificate, []byte(ca), 0o600))
	run := func(name string, arguments ...string) string {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, name, arguments...)
		cmd.Dir = folder
		cmd.Dir = folder // it leaves its history where it is started
		cmd.Env = append(os.Environ(), "HOME="+folder, "TERM=dumb", "WSENDPOINT="+h.Address(), "WSUSER=mossmgr", "WSPASS=Moss-manages-7-ferries", "WSDONTASK=y", "OUTLEVEL=1", "KEEPHISTORY=0")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	_, port, err := net.SplitHostPort(h.Address())
	require.NoError(t, err)
	t.Run("shell", func(t *testing.T) {
		assert.Contains(t, run("wsl", "identify", "check"), "Stand-in")
		out := run("wsl", "enum", cimv2+"Win32_Service")
		assert.Equal(t, 46, strings.Count(out, "<p:StartName>"), "all services, pulled one at a time")
		assert.Contains(t, run("wsl", "enum", cimv2+"*", "-dialect", "http://schemas.microsoft.com/wbem/wsman/1/WQL", "-filter", "select * from Win32_Service where Name='BerthBoard'", "-opti", "10"), "svc-berth")
		assert.Contains(t, run("wsl", "get", cimv2+"Win32_Service", "Name=BerthBoard"), "Berth board")
		h.SetPolicy(windowshost.LogOnAsService, `LARKMOOR\svc-berth`, `NT SERVICE\ALL SERVICES`)
		policy := run("wsl", "enum", strings.Replace(cimv2, "root/cimv2", "root/rsop/computer", 1)+"RSOP_UserPrivilegeRight")
		for _, want := range []string{"<p:UserRight>SeServiceLogonRight</p:UserRight>", `<p:AccountList>LARKMOOR\svc-berth</p:AccountList>`, `<p:AccountList>NT SERVICE\ALL SERVICES</p:AccountList>`} {
			assert.Contains(t, policy, want, "each element of an array stands by itself")
		}
		assert.Contains(t, run("wsl", "get", cimv2+"Win32_SID", "SID="+h.SIDOf(`NORTH1\svc-berth`)), "<p:AccountName>svc-berth</p:AccountName>")
	})
	t.Run("python", func(t *testing.T) {
		script := `
import sys, uuid, xmltodict
from winrm.protocol import Protocol
for transport in ("basic", "ntlm"):
    p = Protocol(endpoint="https://localhost:` + port + `/wsman", transport=transport, username="mossmgr", password=sys.stdin.readline().strip(), ca_trust_path="` + certificate + `")
    def ask(action, uri, body, selectors=None):
        header = p._get_soap_header(resource_uri=uri, action=action, message_id=uuid.uuid4())
        if selectors:
            header["env:Header"]["w:SelectorSet"] = {"w:Selector": [{"@Name": k, "#text": v} for k, v in selectors.items()]}
        header["env:Body"] = body
        return xmltodict.parse(p.send_message(xmltodict.unparse({"env:Envelope": header})))
    cim = "` + cimv2 + `"
    seen = ask("http://schemas.xmlsoap.org/ws/2004/09/enumeration/Enumerate", cim + "*", {"n:Enumerate": {"w:OptimizeEnumeration": None, "w:MaxElements": "100", "w:Filter": {"@Dialect": "http://schemas.microsoft.com/wbem/wsman/1/WQL", "#text": "select * from Win32_Service"}}})
    print(transport, "services", len(seen["s:Envelope"]["s:Body"]["n:EnumerateResponse"]["w:Items"]["p:Win32_Service"]))
    got = ask("http://schemas.xmlsoap.org/ws/2004/09/transfer/Get", cim + "Win32_Service", {}, {"Name": "BerthBoard"})
    print(transport, "account", got["s:Envelope"]["s:Body"]["p:Win32_Service"]["p:StartName"])
    done = ask(cim + "Win32_Service/StartService", cim + "Win32_Service", {"p:StartService_INPUT": {"@xmlns:p": cim + "Win32_Service"}}, {"Name": "BerthBoard"})
    print(transport, "start", done["s:Envelope"]["s:Body"]["p:StartService_OUTPUT"]["p:ReturnValue"])
    key = ask(cim + "StdRegProv/GetBinaryValue", cim + "StdRegProv", {"p:GetBinaryValue_INPUT": {"@xmlns:p": cim + "StdRegProv", "p:hDefKey": "2147483650", "p:sSubKeyName": "SYSTEM\\CurrentControlSet\\Services\\Filler00\\Security", "p:sValueName": "Security"}})
    print(transport, "descriptor", bytes(int(b) for b in key["s:Envelope"]["s:Body"]["p:GetBinaryValue_OUTPUT"]["p:uValue"]).hex())
    try:
        ask("http://schemas.xmlsoap.org/ws/2004/09/transfer/Get", cim + "Win32_Service", {}, {"Name": "Nope"})
    except Exception as e:
        print(transport, "refused", type(e).__name__)
`
		owner, err := descriptor.ParseSID("S-1-5-32-544")
		require.NoError(t, err)
		raw := descriptor.Build(owner, descriptor.Entry{Mask: 0x30, Trustee: owner})
		h.UpdateService("Filler00", func(s *windowshost.Service) { s.Descriptor = raw })
		cmd := exec.CommandContext(t.Context(), "/usr/bin/python3", "-W", "ignore", "-c", script)
		cmd.Stdin = strings.NewReader("Moss-manages-7-ferries\nMoss-manages-7-ferries\n")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		for _, transport := range []string{"basic", "ntlm"} {
			for _, want := range []string{" services 46\n", ` account .\svc-berth` + "\n", " start 10\n", " refused ", " descriptor " + hex.EncodeToString(raw) + "\n"} {
				assert.Contains(t, string(out), transport+want)
			}
		}
	})
}
