package lab_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/standin/windowshost/domain"
)

// TestKerberos signs in to a windows host with tickets of a real domain, whose
// passwords the host's services stand and fall with.
func TestKerberos(t *testing.T) {
	samba := lab.Samba(t, "127.0.0.61", "svc-tidefeed")
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	h := windowshost.New(windowshost.Config{
		Name: "TERMINAL1", Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Keytab: lab.Keytab(t), Service: lab.HTTPService, Admins: []string{`LARKMOOR\mossmgr`},
		Authority: &domain.Domain{Address: samba.Address + ":636", CA: samba.CA, Base: samba.Base, Name: "larkmoor.example", Account: samba.Manager, Secret: lab.ManagerPassword},
	})
	h.AddService(windowshost.Service{Name: "TideBoard", Account: `LARKMOOR\svc-tidefeed`, Password: lab.AccountPassword})
	require.Equal(t, windowshost.Running, h.State("TideBoard"), "the real domain accepts its password")
	address, err := h.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	host, port := larkmoor.Port(address)
	target := connect.Target{
		Name: "terminal1", Kind: estate.KindWindowsHost, Address: host, Port: port, TrustedCA: authority.PEM,
		Options: map[string]string{"kdc": samba.Address + ":88", "service": lab.HTTPService},
		Steward: connect.Steward{Account: "mossmgr@" + lab.Realm, Password: secret.New(lab.ManagerPassword)},
	}
	c := winhost.Connector{}
	report := c.Check(t.Context(), target)
	require.True(t, report.OK(), "%+v", report)
	_, err = c.Restart(t.Context(), target, estate.Place{Kind: estate.DependentService, Place: "TideBoard"})
	require.NoError(t, err)

	last := func(change func(*connect.Target)) connect.StageResult {
		other := target
		other.Options = map[string]string{"kdc": target.Options["kdc"], "service": target.Options["service"]}
		change(&other)
		report := c.Check(t.Context(), other)
		require.False(t, report.OK())
		return report.Stages[len(report.Stages)-1]
	}
	wrong := last(func(o *connect.Target) { o.Steward.Password = secret.New("surely-Wr0ng-value") })
	assert.Equal(t, connect.CodeStewardRefused, wrong.Code, "%+v", wrong)
	assert.NotContains(t, wrong.Detail, "surely-Wr0ng-value")
	nobody := last(func(o *connect.Target) { o.Steward.Account = "nobody-here@" + lab.Realm })
	assert.Equal(t, connect.CodeStewardRefused, nobody.Code, "%+v", nobody)
	service := last(func(o *connect.Target) { o.Options["service"] = "HTTP/elsewhere.larkmoor.example" })
	assert.Equal(t, connect.StageSignIn, service.Stage, "%+v", service)
	dead := last(func(o *connect.Target) { o.Options["kdc"] = "127.0.0.250:88" })
	assert.Equal(t, connect.StageSignIn, dead.Stage, "%+v", dead)
	assert.Contains(t, dead.Next, "key distribution center")
	plain := last(func(o *connect.Target) {
		o.Steward.Account = "svc-tidefeed@" + lab.Realm
		o.Steward.Password = secret.New(lab.AccountPassword)
	})
	assert.Equal(t, connect.StagePermitted, plain.Stage, "signed in, but no administrator: %+v", plain)
	assert.Equal(t, connect.CodeNotPermitted, plain.Code)

	// A clock that is off shows in the check.
	h.Skew = 20 * time.Minute
	report = c.Check(t.Context(), target)
	require.True(t, report.OK(), "%+v", report)
	assert.InDelta(t, (20 * time.Minute).Seconds(), report.Facts.ClockOff.Seconds(), 5)
}
