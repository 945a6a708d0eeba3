package standin_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/windowshost"
)

// partReader is a target signed in to as somebody who may use WS-Management and is no
// administrator.
func partReader(h *windowshost.Host, target connect.Target) connect.Target {
	h.AddUser(windowshost.User{Name: "reader", Password: "Reader-Passw0rd"})
	h.AddMember(windowshost.Operators, `NORTH1\reader`)
	target.Steward = connect.Steward{Account: `NORTH1\reader`, Password: secret.New("Reader-Passw0rd")}
	return target
}

// Whoever is no administrator is shown a part, and the host does not say so. Nothing of
// it counts as complete, or what is not shown would be taken for gone.
func TestWindowsShowsAPartToOthers(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	target = partReader(h, target)
	seen, coverage := visited(t, target)
	assert.Equal(t, "hidden", seen[service("BerthStore")].State, "the stand-in hides it, as a real host does")
	assert.Equal(t, `LARKMOOR\svc-berth`, seen[service("BerthStore")].RunsAs, "the registry does not")
	assert.Equal(t, "running", seen[service("RpcSs")].State)
	for _, scope := range []string{connect.ScopeAccounts, connect.ScopeServices, connect.ScopeTasks, connect.ScopePools} {
		assert.False(t, coverage.Complete[scope], scope)
		assert.NotEmpty(t, coverage.Why[scope], scope)
	}
	assert.Contains(t, coverage.Why[connect.ScopeTasks], "not an administrator")
	assert.Contains(t, coverage.Why[connect.ScopePools], "denied")
	report := winhost.Connector{}.Check(t.Context(), target)
	assert.Contains(t, report.Stages[len(report.Stages)-2].Detail, "shows this steward a part only")
	for _, line := range (winhost.Connector{}).Rehearse(t.Context(), target, []connect.Intention{{LogOn: &connect.LogOnChange{Place: service("BerthStore"), Account: `LARKMOOR\svc-berth`, Was: `LARKMOOR\svc-berth`}}})[1:] {
		assert.Equal(t, connect.CheckFailed, line.Result, line.Words)
	}
}

// A service's own descriptor counts, also for administrators: what it hides is known
// from the registry only, and the visit says so.
func TestWindowsHiddenServicesAreMissed(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddService(windowshost.Service{Name: "TideAudit", Display: "Tide audit", Path: `C:\Tide\audit.exe`, Account: `LARKMOOR\svc-berth`, Password: berthPassword, Private: true})
	seen, coverage := visited(t, target)
	d := seen[service("TideAudit")]
	assert.Equal(t, `LARKMOOR\svc-berth`, d.RunsAs, "its log-on would break with the others")
	assert.True(t, d.Stores)
	assert.Equal(t, "hidden", d.State)
	assert.Equal(t, `C:\Tide\audit.exe`, d.Executable)
	assert.False(t, coverage.Complete[connect.ScopeServices])
	assert.Contains(t, coverage.Why[connect.ScopeServices], "1 services are hidden")
	assert.True(t, coverage.Complete[connect.ScopeTasks], "the others were read whole")
	assert.NotContains(t, seen, service("HTTP"), "a driver is no service")
	assert.NotContains(t, seen, service(".NET Memory Cache 4.0"))
}

// A service may need a driver. That is neither missing nor a service.
func TestWindowsDriversAreNotBlamed(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddDriver(windowshost.Driver{Name: "BerthFilter", Display: "Berth filter"})
	h.AddService(windowshost.Service{Name: "BerthScan", Account: `LARKMOOR\svc-berth`, Password: "not-this-one", Needs: []string{"BerthFilter"}})
	seen, _ := visited(t, target)
	assert.Empty(t, seen[service("BerthScan")].Requires, "nothing that could be restarted")
	d, err := winhost.Connector{}.Diagnose(t.Context(), target, service("BerthScan"))
	require.NoError(t, err)
	require.Len(t, d.Needs, 1)
	assert.Equal(t, "running", d.Needs[0].State)
	// One that is down is to blame, and found.
	h.AddDriver(windowshost.Driver{Name: "BerthDown", Stopped: true})
	h.AddService(windowshost.Service{Name: "BerthBroken", Account: "LocalSystem", Needs: []string{"BerthDown"}})
	d, err = winhost.Connector{}.Diagnose(t.Context(), target, service("BerthBroken"))
	require.NoError(t, err)
	require.Len(t, d.Needs, 1)
	assert.Equal(t, "stopped", d.Needs[0].State)
	assert.Equal(t, diagnosis.Dependency, d.Records[0].Hint)
}

// Records in the host's language are read by their numbers and data, and those of what
// took too long name the service second.
func TestWindowsRecordsInAnyLanguage(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.German = true
	require.Zero(t, h.Stop("BerthSign", `LARKMOOR\ines`))
	require.Zero(t, h.Start("BerthSign"))
	require.Zero(t, h.Stop("BerthSign", `LARKMOOR\ines`))
	h.Log(windowshost.Event{Source: "Service Control Manager", Code: 7009, Strings: []string{"30000", "BerthSign"}, Message: "Zeit\u00fcberschreitung (30000 ms)"})
	h.Log(windowshost.Event{Source: "Service Control Manager", Code: 7011, Strings: []string{"30000", "BerthStore"}, Message: "eines anderen"})
	d, err := winhost.Connector{}.Diagnose(t.Context(), target, service("BerthSign"))
	require.NoError(t, err)
	var starts, stops, slow int
	for _, r := range d.Records {
		assert.NotContains(t, r.Words, "eines anderen")
		switch {
		case r.Start:
			starts++
			assert.Equal(t, 7036, r.Code)
		case r.Hint == diagnosis.StoppedBy:
			stops++
			assert.Equal(t, `LARKMOOR\ines`, r.By)
		case r.Hint == diagnosis.Program:
			slow++
		}
	}
	assert.GreaterOrEqual(t, starts, 1, "%+v", d.Records)
	assert.Equal(t, 2, stops)
	assert.Equal(t, 1, slow)
}

// A resource of a cluster is not restarted behind the cluster's back.
func TestWindowsClusterResources(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.SetCluster(&windowshost.Cluster{Nodes: []string{"NORTH1", "NORTH2", "NORTH3"}, Services: []string{"BerthSign"}})
	_, err := winhost.Connector{}.Restart(t.Context(), target, service("BerthSign"))
	require.ErrorContains(t, err, "failover cluster")
	assert.Equal(t, windowshost.Running, h.State("BerthSign"), "nothing was stopped")
	lines := winhost.Connector{}.Rehearse(t.Context(), target, []connect.Intention{
		{Restart: service("BerthSign")},
		{LogOn: &connect.LogOnChange{Place: service("BerthSign"), Account: `.\svc-local`, Was: `.\svc-local`}},
		{LogOn: &connect.LogOnChange{Place: service("BerthStore"), Account: `LARKMOOR\svc-berth`, Was: `LARKMOOR\svc-berth`}},
	})
	require.Len(t, lines, 4)
	assert.Equal(t, connect.CheckFailed, lines[1].Result)
	assert.Equal(t, connect.CheckWarning, lines[2].Result)
	assert.Contains(t, lines[2].Next, "NORTH2, NORTH3")
	assert.Equal(t, connect.CheckOK, lines[3].Result, "it is none of the cluster's")
	_, err = winhost.Connector{}.Restart(t.Context(), target, service("BerthStore"))
	assert.ErrorContains(t, err, "failover cluster", "one that needs it is the cluster's")
}

// Whether the method that gives a task its log-on is there is found out in the
// rehearsal, without a sign-in and without touching a task.
func TestWindowsTaskMethodIsProvenBefore(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	intent := []connect.Intention{{LogOn: &connect.LogOnChange{Place: estate.Place{Kind: estate.DependentTask, Place: `\Berth\Nightly`}, Account: "svc-local", Was: "svc-local"}}}
	lines := winhost.Connector{}.Rehearse(t.Context(), target, intent)
	require.Len(t, lines, 2)
	assert.Equal(t, connect.CheckOK, lines[1].Result, lines[1].Words)
	h.SetFault(windowshost.Fault{Reply: func(action string) (int, string, bool) {
		if !strings.HasSuffix(action, "/SetByUser") {
			return 0, "", false
		}
		return 500, `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing"><s:Header><a:RelatesTo>{id}</a:RelatesTo></s:Header><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>a:ActionNotSupported</s:Value></s:Subcode></s:Code><s:Reason><s:Text>Die Aktion wird nicht unterst\u00fctzt.</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`, true
	}})
	lines = winhost.Connector{}.Rehearse(t.Context(), target, intent)
	require.Len(t, lines, 2)
	assert.Equal(t, connect.CheckFailed, lines[1].Result, lines[1].Words)
	user, password := h.TaskStores("Nightly")
	assert.Equal(t, "svc-local/"+berthPassword, user+"/"+password)
}

// A pool's workers end when its identity changes, whatever was chosen about restarts.
func TestWindowsPoolsRestartByThemselves(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	pool := estate.Place{Kind: estate.DependentPool, Place: "BerthWeb"}
	lines := winhost.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{LogOn: &connect.LogOnChange{Place: pool, Account: `NORTH1\svc-local`, Was: `NORTH1\svc-local`}}})
	assert.Contains(t, lines[1].Words, "cannot be left running")
	require.True(t, h.PoolServes("BerthWeb"))
	_, err := winhost.Connector{}.ReplaceLogOn(t.Context(), target, connect.LogOnChange{Place: pool, Account: `NORTH1\svc-local`, Was: `NORTH1\svc-local`, Value: secret.New("Not-Known-There-9")})
	require.NoError(t, err)
	assert.False(t, h.PoolServes("BerthWeb"), "the next request starts it with the new value")
}

// A service that says how long it needs, and that it gets on, is waited for.
func TestWindowsSlowServicesAreWaitedFor(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.AddService(windowshost.Service{Name: "BerthArchive", Account: "LocalSystem", StopTime: 900 * time.Millisecond, WaitHint: 200 * time.Millisecond})
	words, err := winhost.Connector{}.Restart(t.Context(), target, service("BerthArchive"))
	require.NoError(t, err)
	assert.NotEmpty(t, words)
	assert.Equal(t, windowshost.Running, h.State("BerthArchive"))
}

// oneMore is a domain with a managed account besides.
type oneMore struct{ windowshost.Authority }

func (a oneMore) Exists(account string) bool {
	return strings.HasSuffix(account, `gmsa-tide$`) || a.Authority.Exists(account)
}

// A managed account has no password that could be given: a task gets it by its principal,
// keeps what else that says, and gets its former account back with a password. Whether the
// host can do that is found out before.
func TestWindowsTasksOfManagedAccounts(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	h.Authority = oneMore{h.Authority}
	task := estate.Place{Kind: estate.DependentTask, Place: `\Berth\Nightly`}
	const gmsa = `LARKMOOR\gmsa-tide$`
	give := connect.LogOnChange{Place: task, Account: gmsa, Was: "svc-local"}
	lines := winhost.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{LogOn: &give}})
	require.Len(t, lines, 2)
	assert.Equal(t, connect.CheckOK, lines[1].Result, lines[1].Words)
	words, err := winhost.Connector{}.ReplaceLogOn(t.Context(), target, give)
	require.NoError(t, err)
	assert.Contains(t, words, "SetByPrincipal succeeded: the host fetches the password itself")
	user, password := h.TaskStores("Nightly")
	assert.Equal(t, gmsa+"/", user+"/"+password)
	state, err := winhost.Connector{}.ReadLogOn(t.Context(), target, task)
	require.NoError(t, err)
	assert.Equal(t, gmsa, state.Account)
	assert.False(t, state.Stores, "there is nothing that a rotation would have to give it")

	back := connect.LogOnChange{Place: task, Account: "svc-local", Was: gmsa, Value: secret.New(berthPassword)}
	words, err = winhost.Connector{}.ReplaceLogOn(t.Context(), target, back)
	require.NoError(t, err)
	assert.Contains(t, words, "SetByUser succeeded")
	user, password = h.TaskStores("Nightly")
	assert.Equal(t, "svc-local/"+berthPassword, user+"/"+password)

	h.SetFault(windowshost.Fault{Reply: func(action string) (int, string, bool) {
		return 500, `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing"><s:Header><a:RelatesTo>{id}</a:RelatesTo></s:Header><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>a:ActionNotSupported</s:Value></s:Subcode></s:Code><s:Reason><s:Text>The action is not supported.</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`, strings.HasSuffix(action, "/SetByPrincipal")
	}})
	lines = winhost.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{LogOn: &give}})
	assert.Equal(t, connect.CheckFailed, lines[1].Result, lines[1].Words)
	own := connect.LogOnChange{Place: task, Account: "svc-local", Was: "svc-local"}
	lines = winhost.Connector{}.Rehearse(t.Context(), target, []connect.Intention{{LogOn: &own}})
	assert.Equal(t, connect.CheckOK, lines[1].Result, "one that has no managed account does not need it")
}

// What is stopped before a change: services that nothing needs, and pools; what a cluster
// or another service would take for a fault is left running.
func TestWindowsStops(t *testing.T) {
	h, target, _ := startWindows(t, "basic")
	c := winhost.Connector{}
	pool, task := estate.Place{Kind: estate.DependentPool, Place: "BerthWeb"}, estate.Place{Kind: estate.DependentTask, Place: `\Berth\Nightly`}
	for place, down := range map[estate.Place]string{service("BerthSign"): "inactive", pool: "inactive"} {
		for n, want := range []string{"stopped", "already"} {
			words, err := c.Stop(t.Context(), target, place)
			require.NoError(t, err, "%v", place)
			assert.Contains(t, words, want, "%v, %d", place, n)
			state, err := c.UnitState(t.Context(), target, place)
			require.NoError(t, err)
			assert.Equal(t, down, state.Active)
		}
	}
	assert.False(t, h.PoolServes("BerthWeb"))
	_, err := c.Restart(t.Context(), target, pool)
	require.NoError(t, err)
	assert.True(t, h.PoolServes("BerthWeb"), "a restart starts it")
	_, err = c.Restart(t.Context(), target, service("BerthSign"))
	require.NoError(t, err)
	assert.Equal(t, windowshost.Running, h.State("BerthSign"))

	_, err = c.Stop(t.Context(), target, service("BerthStore"))
	require.ErrorContains(t, err, "BerthBoard needs it, runs, and would go down with it")
	assert.False(t, connect.IsUnclear(err))
	assert.Equal(t, windowshost.Running, h.State("BerthStore"))
	lines := c.Rehearse(t.Context(), target, []connect.Intention{
		{Stop: service("BerthStore")},
		{Stop: service("BerthStore"), Along: []estate.Place{service("berthboard"), service("BerthSign")}},
		{Stop: pool},
		{Stop: task},
		{Stop: service("Gone")},
	})
	require.Len(t, lines, 6)
	for i, want := range []string{connect.CheckFailed, connect.CheckOK, connect.CheckOK, connect.CheckFailed, connect.CheckFailed} {
		assert.Equal(t, want, lines[i+1].Result, "%+v", lines[i+1])
	}
	assert.Contains(t, lines[4].Words, "a scheduled task runs when it is due")
	_, err = c.Stop(t.Context(), target, task)
	require.Error(t, err)
	h.SetCluster(&windowshost.Cluster{Nodes: []string{"NORTH1", "NORTH2"}, Services: []string{"BerthSign"}})
	_, err = c.Stop(t.Context(), target, service("BerthSign"))
	require.ErrorContains(t, err, "failover cluster")
	assert.Equal(t, windowshost.Running, h.State("BerthSign"))
}
