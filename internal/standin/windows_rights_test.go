package standin_test

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/windowshost"
)

// rightsOn reads the rights on a host.
func rightsOn(t *testing.T, target connect.Target) (*privilege.Model, []connect.Unread, connect.RightsCoverage) {
	var all connect.Rights
	var problems []connect.Unread
	coverage, err := winhost.Connector{}.Rights(t.Context(), target, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
		all.Principals = append(all.Principals, b.Rights.Principals...)
		all.Memberships = append(all.Memberships, b.Rights.Memberships...)
		all.Lists = append(all.Lists, b.Rights.Lists...)
		problems = append(problems, b.Problems...)
		return nil
	})
	require.NoError(t, err)
	return privilege.NewModel(privilege.NewGraph(all.Principals, all.Memberships), all.Lists, nil), problems, coverage
}

// operator is a steward who is in the group of those that may use the protocol, and nothing
// more.
func operator(target connect.Target, name string) connect.Target {
	target.Steward = connect.Steward{Account: `NORTH1\` + name, Password: secret.New(berthPassword)}
	return target
}

// attempt asks the host to do something to a service, and reports whether it let the asker:
// what else it answers is not about rights.
func attempt(t *testing.T, target connect.Target, method string, input ...wsman.Pair) bool {
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(target.TrustedCA)))
	client, err := wsman.New(wsman.Config{Endpoint: fmt.Sprintf("https://%s:%d/wsman", target.Address, target.Port), Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}, SignIn: wsman.Basic(target.Steward.Account, target.Steward.Password)})
	require.NoError(t, err)
	defer client.Close()
	out, err := client.Invoke(t.Context(), wsman.Resource{URI: "http://schemas.microsoft.com/wbem/wsman/1/wmi/root/cimv2/Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: "Tried"}}}, method, input)
	require.NoError(t, err)
	return out.Int("ReturnValue") != 2
}

// What is read of the descriptors of services is what the host then lets each account do.
func TestRightsOnServicesAgainstAttempts(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddGroup(windowshost.Group{Name: "Shift", Members: []string{`NORTH1\svc-b`}})
	var sids []string
	for _, name := range []string{"svc-a", "svc-b"} {
		h.AddUser(windowshost.User{Name: name, Password: berthPassword})
		h.AddMember(windowshost.Operators, `NORTH1\`+name)
		sids = append(sids, h.SIDOf(`NORTH1\`+name))
	}
	sids = append(sids, h.SIDOf(`NORTH1\Shift`), "S-1-1-0", "S-1-5-11", "S-1-5-18", h.SIDOf(`LARKMOOR\svc-berth`))
	h.AddService(windowshost.Service{Name: "Tried", Account: "LocalSystem", Mode: windowshost.Manual, Idle: true, Public: true})
	random := rand.New(rand.NewPCG(15, 17))
	masks := []uint32{0x10, 0x20, 0x2, 0x30, 0x4, 0xF01FF, 0x20094, descriptor.GenericAll, 0x10 | 0x2}
	asked := 0
	for range 60 {
		var entries []descriptor.Entry
		for range 1 + random.IntN(4) {
			sid, err := descriptor.ParseSID(sids[random.IntN(len(sids))])
			require.NoError(t, err)
			entries = append(entries, descriptor.Entry{Type: byte(random.IntN(4) / 3), Mask: masks[random.IntN(len(masks))], Trustee: sid})
		}
		owner, err := descriptor.ParseSID("S-1-5-32-544")
		require.NoError(t, err)
		h.UpdateService("Tried", func(s *windowshost.Service) { s.Descriptor = descriptor.Build(owner, entries...) })
		m, problems, _ := rightsOn(t, target)
		for _, p := range problems {
			assert.NotContains(t, p.Place, "services", p.What)
		}
		for i, name := range []string{"svc-a", "svc-b"} {
			for verb, method := range map[string]string{"start": "StartService", "stop": "StopService", "change": "ChangeStartMode"} {
				var input []wsman.Pair
				if verb == "change" {
					input = []wsman.Pair{{Name: "StartMode", Value: "Manual"}}
				}
				d := m.Decide(sids[i], privilege.Question{Verb: verb, Object: privilege.Object{Kind: "service", Name: "Tried"}})
				assert.Equal(t, attempt(t, operator(target, name), method, input...), d.Allowed, "%s %s by %v", name, verb, entries)
				assert.Empty(t, d.Unsure)
				asked++
			}
		}
	}
	assert.Equal(t, 360, asked)
	m, _, _ := rightsOn(t, target)
	var named []string
	for _, holder := range m.Who(privilege.Question{Verb: "start", Object: privilege.Object{Kind: "service", Name: "Spooler"}}, privilege.KindAccount, privilege.KindGroup) {
		named = append(named, holder.Principal.Name)
	}
	slices.Sort(named)
	assert.Equal(t, []string{"Administrator", "Administrators", `LARKMOOR\mossmgr`, "mossmgr"}, named, "one without a descriptor of its own")
	_, problems, _ := rightsOn(t, operator(target, "svc-a"))
	words := fmt.Sprint(problems)
	assert.Contains(t, words, "permissions of services", "whom the host shows a part is told so")
	assert.Contains(t, words, "RSOP_UserPrivilegeRight")
}

// Whether an account may be logged on as a service is read as the host then decides at the
// start.
func TestUserRightsAgainstStarts(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddGroup(windowshost.Group{Name: "Shift", Members: []string{`NORTH1\svc-a`, `LARKMOOR\svc-berth`}})
	h.AddUser(windowshost.User{Name: "svc-a", Password: berthPassword})
	accounts := map[string]string{`.\svc-a`: h.SIDOf(`NORTH1\svc-a`), `.\svc-local`: h.SIDOf(`NORTH1\svc-local`), `LARKMOOR\svc-berth`: `name:larkmoor\svc-berth`}
	for account := range accounts {
		h.AddService(windowshost.Service{Name: "Runs" + account[len(account)-1:], Account: account, Password: berthPassword, Mode: windowshost.Manual, Idle: true})
	}
	listed := []string{`NORTH1\svc-a`, "svc-local", `LARKMOOR\svc-berth`, "Shift", `BUILTIN\Shift`, "*" + h.SIDOf(`NORTH1\svc-a`), "*" + h.SIDOf(`LARKMOOR\svc-berth`), "Administrators", `NT SERVICE\ALL SERVICES`}
	random := rand.New(rand.NewPCG(15, 18))
	some := func() (out []string) {
		for _, one := range listed {
			if random.IntN(3) == 0 {
				out = append(out, one)
			}
		}
		return out
	}
	ask := privilege.Question{Verb: privilege.VerbSignIn, What: privilege.AsService}
	certain := 0
	for range 40 {
		h.SetPolicy(windowshost.LogOnAsService, some()...)
		h.SetPolicy(windowshost.DenyLogOnAsService)
		if random.IntN(2) == 0 {
			h.SetPolicy(windowshost.DenyLogOnAsService, listed[random.IntN(len(listed))])
		}
		m, _, _ := rightsOn(t, target)
		for account, id := range accounts {
			h.Stop("Runs"+account[len(account)-1:], "")
			starts := h.Start("Runs"+account[len(account)-1:]) == 0
			d := m.Decide(id, ask)
			if d.Unsure != "" {
				continue // an account of the domain is listed, which might as well be a group
			}
			certain++
			assert.Equal(t, starts, d.Allowed, "%s", account)
			assert.True(t, d.Alone)
		}
	}
	assert.Greater(t, certain, 70)
}

// Where no policy says who may be logged on as a service, those as whom services run could
// when these started, and nobody is said not to.
func TestUserRightsWithoutAPolicy(t *testing.T) {
	_, target, _ := startWindows(t, "basic")
	m, problems, coverage := rightsOn(t, target)
	assert.False(t, coverage.Complete)
	assert.NotEmpty(t, problems)
	ask := privilege.Question{Verb: privilege.VerbSignIn, What: privilege.AsService}
	d := m.Decide(`name:larkmoor\svc-berth`, ask)
	assert.False(t, d.Allowed)
	assert.Contains(t, d.Unsure, "it could when BerthStore started")
	assert.False(t, m.Decide("name:larkmoor\\nobody", ask).Alone)
}
