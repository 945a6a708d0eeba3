package standin_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/conformance"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/windowshost"
	"mossledger.example/moss/internal/standin/windowshost/domain"
)

const berthPassword = "Berth-Passw0rd-1"

// startWindows starts a host in a domain whose directory is a stand-in too.
func startWindows(t *testing.T, signIn string) (*windowshost.Host, connect.Target, func(name string, change func(locked, disabled, expired, mustChange *bool, password *string))) {
	server, directory := startDirectory(t, true)
	authority, err := standin.NewAuthority()
	require.NoError(t, err)
	config, err := authority.Server("127.0.0.1")
	require.NoError(t, err)
	h := windowshost.New(windowshost.Config{
		Name: "NORTH1", Domain: "larkmoor.example", NetBIOS: "LARKMOOR", TLS: config, Basic: true, Admins: []string{`LARKMOOR\mossmgr`},
		Responses: server,
		Authority: &domain.Domain{Address: fmt.Sprintf("%s:%d", directory.Address, directory.Port), CA: directory.TrustedCA, Base: "DC=larkmoor,DC=example", Name: "larkmoor.example", Account: directory.Steward.Account, Secret: directory.Steward.Password.RevealString()},
	})
	h.AddUser(windowshost.User{Name: "mossmgr", Password: "Manager-Passw0rd", Admin: true})
	h.AddUser(windowshost.User{Name: "svc-local", Password: berthPassword, FullName: "Local service"})
	h.AddService(windowshost.Service{Name: "BerthStore", Display: "Berth store", Account: `LARKMOOR\svc-berth`, Password: berthPassword, StopTime: 200 * time.Millisecond, StartTime: 200 * time.Millisecond})
	h.AddService(windowshost.Service{Name: "BerthBoard", Display: "Berth board", Account: "LocalSystem", Needs: []string{"BerthStore"}})
	h.AddService(windowshost.Service{Name: "BerthSign", Display: "Berth sign", Account: `.\svc-local`, Password: berthPassword, Needs: []string{"BerthBoard", "RpcSs"}})
	h.AddTask(windowshost.Task{Name: "Nightly", Path: `\Berth\`, User: "svc-local", LogOn: windowshost.TaskPassword, Execute: `C:\Berth\night.cmd`, Start: "2026-01-01T02:00:00", Interval: "PT1H", Password: berthPassword})
	h.AddPool(windowshost.Pool{Name: "BerthWeb", Identity: 3, User: `NORTH1\svc-local`, Password: berthPassword})
	h.AddPool(windowshost.Pool{Name: "DefaultAppPool", Identity: 4})
	address, err := h.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	name, port := split(t, address)
	target := connect.Target{
		SystemID: "w", Name: "north1", Kind: estate.KindWindowsHost, Address: name, Port: port, TrustedCA: authority.PEM, Options: map[string]string{"signin": signIn},
		Steward: connect.Steward{Account: `NORTH1\mossmgr`, Password: secret.New("Manager-Passw0rd")},
	}
	return h, target, func(name string, change func(locked, disabled, expired, mustChange *bool, password *string)) {
		server.Update("CN="+name+",DC=larkmoor,DC=example", func(entry *standindir.Entry) {
			change(&entry.Locked, &entry.Disabled, &entry.Expired, &entry.MustChange, &entry.Password)
		})
	}
}

func service(name string) estate.Place {
	return estate.Place{Kind: estate.DependentService, Place: name}
}

func TestWindowsStandInConforms(t *testing.T) {
	for name, logOn := range map[string]estate.Place{
		"basic": service("BerthSign"), "ntlm": {Kind: estate.DependentTask, Place: `\Berth\Nightly`}, "ntlm ": {Kind: estate.DependentPool, Place: "BerthWeb"},
	} {
		t.Run(name+" "+string(logOn.Kind), func(t *testing.T) {
			h, target, _ := startWindows(t, strings.TrimSpace(name))
			conformance.Run(t, conformance.Fixture{
				Connector: winhost.Connector{}, Target: target, Account: "svc-local", Password: secret.New(berthPassword),
				Unit: service("BerthStore"), Along: []estate.Place{service("BerthBoard"), service("BerthSign")}, LogOn: logOn, DeadAddress: "127.0.0.250",
				Stores: func() (string, string) {
					switch logOn.Kind {
					case estate.DependentTask:
						// The scheduler checks: the password must be right there first.
						return h.TaskStores("Nightly")
					case estate.DependentPool:
						return h.PoolStores("BerthWeb")
					}
					return h.Stores("BerthSign")
				},
				Prepare: func(password string) {
					if logOn.Kind == estate.DependentTask {
						h.UpdateUser("svc-local", func(u *windowshost.User) { u.Password = password })
					}
				},
			})
		})
	}
}

// visited reads a host and returns its dependents by place.
func visited(t *testing.T, target connect.Target) (map[estate.Place]estate.Dependent, connect.Coverage) {
	out := map[estate.Place]estate.Dependent{}
	coverage, err := winhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{FingerprintKey: secret.New("0123456789abcdef0123456789abcdef")}, func(b connect.Batch) error {
		for _, d := range b.Dependents {
			out[d.At()] = d
		}
		raw, err := json.Marshal(b)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), berthPassword)
		return nil
	})
	require.NoError(t, err)
	return out, coverage
}

func TestWindowsVisit(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddService(windowshost.Service{Name: "Managed", Account: `LARKMOOR\gmsa-tide$`, Mode: windowshost.Manual, Idle: true})
	h.AddService(windowshost.Service{Name: "Virtual", Account: `NT SERVICE\Virtual`, Mode: windowshost.Off})
	h.SetPendingReboot(true)
	seen, coverage := visited(t, target)
	for _, scope := range []string{connect.ScopeAccounts, connect.ScopeServices, connect.ScopeTasks, connect.ScopePools} {
		assert.True(t, coverage.Complete[scope], "%s: %s", scope, coverage.Why[scope])
	}
	store := seen[service("BerthStore")]
	assert.Equal(t, `LARKMOOR\svc-berth`, store.RunsAs)
	assert.True(t, store.Stores && store.Up() && store.ByItself())
	assert.WithinDuration(t, time.Now().AddDate(0, 0, -40), store.Started, 48*time.Hour)
	assert.Equal(t, []string{"BerthBoard", "RpcSs"}, seen[service("BerthSign")].Requires)
	assert.False(t, seen[service("BerthBoard")].Stores)
	assert.False(t, seen[service("Managed")].Stores, "a managed account has no password to store")
	assert.Equal(t, "manual", seen[service("Managed")].StartMode)
	assert.Equal(t, "disabled", seen[service("Virtual")].StartMode)
	task := seen[estate.Place{Kind: estate.DependentTask, Place: `\Berth\Nightly`}]
	assert.True(t, task.Stores)
	assert.Contains(t, task.Schedule, "every PT1H")
	pool := seen[estate.Place{Kind: estate.DependentPool, Place: "BerthWeb"}]
	assert.Equal(t, "started", pool.State)
	assert.NotEmpty(t, pool.Stored, "a pool shows its password: its fingerprint is kept")
	assert.Equal(t, `IIS APPPOOL\DefaultAppPool`, seen[estate.Place{Kind: estate.DependentPool, Place: "DefaultAppPool"}].RunsAs)
	assert.NotEmpty(t, coverage.Facts.Reboot)
	assert.Equal(t, []string{"NORTH1"}, coverage.Facts.Domains)
}

// TestWindowsLogOnsFailAsTheyDo: what is changed shows at the next start, with
// the code and the record of its cause.
func TestWindowsLogOnsFailAsTheyDo(t *testing.T) {
	h, target, account := startWindows(t, "basic")
	c := winhost.Connector{}
	restart := func(name string) (string, error) { return c.Restart(t.Context(), target, service(name)) }
	type flags = func(locked, disabled, expired, mustChange *bool, password *string)
	for name, cause := range map[string]struct {
		change flags
		words  string
	}{
		"wrong":       {func(_, _, _, _ *bool, p *string) { *p = "Somebody-Changed-1" }, "user name or password is incorrect"},
		"locked":      {func(l, _, _, _ *bool, _ *string) { *l = true }, "locked out"},
		"disabled":    {func(_, d, _, _ *bool, _ *string) { *d = true }, "currently disabled"},
		"expired":     {func(_, _, e, _ *bool, _ *string) { *e = true }, "account has expired"},
		"must change": {func(_, _, _, m *bool, _ *string) { *m = true }, "must be changed"},
	} {
		account("svc-berth", cause.change)
		_, password := h.Uses("BerthStore")
		assert.Equal(t, berthPassword, password, "%s: it runs on with its old log-on", name)
		_, err := restart("BerthStore")
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), "StartService of BerthStore returned 15: the log-on failed", name)
		assert.Contains(t, err.Error(), "record 7038", name)
		assert.Contains(t, err.Error(), "down until it runs: BerthSign, BerthBoard", name)
		assert.Contains(t, err.Error(), cause.words, name)
		assert.False(t, connect.IsUnclear(err), name)
		d, err := c.Diagnose(t.Context(), target, service("BerthSign"))
		require.NoError(t, err)
		require.NotEmpty(t, d.Needs)
		assert.Equal(t, "1069: the log-on failed", d.Needs[0].Result)
		account("svc-berth", func(l, d, e, m *bool, p *string) { *l, *d, *e, *m, *p = false, false, false, false, berthPassword })
		_, err = restart("BerthStore")
		require.NoError(t, err, name)
		require.Equal(t, 0, h.Start("BerthSign"))
	}
	h.Grant(`LARKMOOR\svc-berth`, false)
	_, err := restart("BerthStore")
	assert.ErrorContains(t, err, "record 7041")
	h.Grant(`LARKMOOR\svc-berth`, true)
	_, err = restart("BerthSign")
	require.NoError(t, err, "what it needs is started with it")

	// A log-on that nobody checked.
	words, err := c.ReplaceLogOn(t.Context(), target, connect.LogOnChange{Place: service("BerthStore"), Account: `LARKMOOR\svc-berth`, Value: secret.New("Quite-Wr0ng-Value")})
	require.NoError(t, err, "the host takes any password")
	assert.Contains(t, words, "Change returned 0: success")
	_, err = c.ReplaceLogOn(t.Context(), target, connect.LogOnChange{Place: service("BerthStore"), Account: `LARKMOOR\svc-nobody`, Value: secret.New("x")})
	assert.ErrorContains(t, err, "returned 22: the account is invalid")
	_, err = c.ReplaceLogOn(t.Context(), target, connect.LogOnChange{Place: estate.Place{Kind: estate.DependentTask, Place: `\Berth\Nightly`}, Account: "svc-local", Value: secret.New("Quite-Wr0ng-Value")})
	assert.ErrorContains(t, err, "checked the password and refused it")
	assert.NotContains(t, err.Error(), "Quite-Wr0ng-Value")
}

func TestWindowsRestartsInOrder(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	c := winhost.Connector{}
	words, err := c.Restart(t.Context(), target, service("BerthStore"))
	require.NoError(t, err)
	assert.Contains(t, words, "with it BerthSign, BerthBoard")
	for _, name := range []string{"BerthStore", "BerthBoard", "BerthSign"} {
		assert.Equal(t, windowshost.Running, h.State(name))
	}
	for _, line := range (winhost.Connector{}).Rehearse(t.Context(), target, []connect.Intention{{Restart: service("BerthStore"), Along: []estate.Place{service("BerthBoard")}}}) {
		if strings.HasPrefix(line.What, "restart") {
			assert.Equal(t, connect.CheckFailed, line.Result, "the plan does not know of BerthSign")
		}
	}
	h.UpdateService("BerthSign", func(s *windowshost.Service) { s.Mode = windowshost.Off })
	_, err = c.Restart(t.Context(), target, service("BerthStore"))
	assert.ErrorContains(t, err, "BerthSign, which needs it, did not come back")
	assert.True(t, connect.IsUnclear(err), "the restart itself took effect")
	h.UpdateService("BerthSign", func(s *windowshost.Service) { s.Mode = windowshost.Automatic })

	// One that hangs while it stops: what was stopped before it comes back.
	require.Equal(t, 0, h.Start("BerthSign"))
	h.UpdateService("BerthStore", func(s *windowshost.Service) { s.Hangs = true })
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	_, err = c.Restart(ctx, target, service("BerthStore"))
	require.Error(t, err)
	assert.True(t, connect.IsUnclear(err))
	assert.Contains(t, err.Error(), "stop pending")
	state, err := c.UnitState(t.Context(), target, service("BerthStore"))
	require.NoError(t, err)
	assert.Equal(t, "deactivating", state.Active)

	// One that comes back by itself before anybody looks.
	h.UpdateService("Spooler", func(s *windowshost.Service) { s.ComesBack = time.Nanosecond })
	words, err = c.Restart(t.Context(), target, service("Spooler"))
	require.NoError(t, err)
	assert.Contains(t, words, "10: it is running already")

	h.RemoveService("Spooler")
	_, err = c.Restart(t.Context(), target, service("Spooler"))
	assert.Equal(t, connect.CodeGone, connect.CodeOf(err))
}

// TestWindowsVisitIncomplete: what was not read completely is not complete.
func TestWindowsVisitIncomplete(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	for range 2000 {
		h.AddService(windowshost.Service{Name: fmt.Sprintf("Filler%04d", h.Calls("")+len(h.Events())), Account: "LocalSystem", Idle: true})
		h.Log(windowshost.Event{Code: 1})
	}
	h.SetFault(windowshost.Fault{Forget: true})
	coverage, err := winhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
	require.NoError(t, err, "the rest is read")
	assert.False(t, coverage.Complete[connect.ScopeServices])
	assert.Contains(t, coverage.Why[connect.ScopeServices], "InvalidEnumerationContext")
	assert.True(t, coverage.Complete[connect.ScopeTasks])
	h.SetFault(windowshost.Fault{Cut: func(action string) bool { return strings.HasSuffix(action, "/Pull") }})
	coverage, err = winhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
	require.Error(t, err)
	assert.False(t, coverage.Complete[connect.ScopeServices])
	assert.True(t, coverage.Complete[connect.ScopePools], "what was read over the other connection counts")
}

// A host says 401 to a wrong password, to a missing account and to one that it does not
// let in, and to all of them the same. So nothing is told of the value, and nobody is
// told that somebody changed it.
func TestWindowsSaysNoMoreThanRefused(t *testing.T) {
	_, target, _ := startWindows(t, "ntlm")
	for name, v := range map[string]struct{ account, value string }{
		"wrong":      {"svc-local", "Wrong-Passw0rd.9"},
		"no account": {"svc-nobody", berthPassword},
	} {
		verdict, err := winhost.Connector{}.Verify(t.Context(), target, connect.AccountRef{Name: v.account}, secret.New(v.value))
		require.NoError(t, err, name)
		assert.Equal(t, connect.VerdictNotKnown, verdict.Code, name)
		assert.Equal(t, connect.AnswerBlind, verdict.Says(), name)
		for _, cause := range []string{"wrong", "disabled or locked", "Remote Management Users", "LocalAccountTokenFilterPolicy", "denied access from the network"} {
			assert.Contains(t, verdict.Words, cause, name)
		}
	}
	verdict, err := winhost.Connector{}.Verify(t.Context(), target, connect.AccountRef{Name: "svc-local"}, secret.New(berthPassword))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, verdict.Words)
}
