package standin_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/standin/windowshost"
)

// One class that answers nothing in time is one scope that was not read; every other
// one is, whichever it is.
func TestWindowsScopesFailAlone(t *testing.T) {
	scopes := map[string]string{
		"Win32_UserAccount": connect.ScopeAccounts, "Win32_Group": connect.ScopeAccounts, "Win32_GroupUser": connect.ScopeAccounts,
		"Win32_BaseService": connect.ScopeServices, "MSFT_ScheduledTask": connect.ScopeTasks, "ApplicationPool": connect.ScopePools,
	}
	for slow, scope := range scopes {
		t.Run(slow, func(t *testing.T) {
			h, target, _ := startWindows(t, "ntlm")
			h.SetFault(windowshost.Fault{Slow: func(class string) bool { return class == slow }})
			coverage, err := winhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
			require.NoError(t, err)
			for _, other := range []string{connect.ScopeAccounts, connect.ScopeServices, connect.ScopeTasks, connect.ScopePools} {
				assert.Equal(t, other != scope, coverage.Complete[other], "%s with a slow %s: %s", other, slow, coverage.Why[other])
			}
			assert.NotEmpty(t, coverage.Why[scope])
		})
	}
}

// Members are asked for by group, so that a host in a large domain is read at all, and
// names are what administrators make of them.
func TestWindowsGroupsOfLocalAccounts(t *testing.T) {
	h, target, _ := startWindows(t, "ntlm")
	var want []string
	for i := range 70 {
		name := fmt.Sprintf("Berth staff %02d", i)
		if i == 7 {
			name = "Harbour master's staff"
		}
		h.AddGroup(windowshost.Group{Name: name, Members: []string{`NORTH1\svc-local`, `LARKMOOR\svc-berth`}})
		want = append(want, name)
	}
	var local estate.Account
	coverage, err := winhost.Connector{}.Visit(t.Context(), target, connect.VisitRequest{}, func(b connect.Batch) error {
		if i := slices.IndexFunc(b.Accounts, func(a estate.Account) bool { return a.Name == "svc-local" }); i >= 0 {
			local = b.Accounts[i]
		}
		return nil
	})
	require.NoError(t, err)
	assert.True(t, coverage.Complete[connect.ScopeAccounts], coverage.Why[connect.ScopeAccounts])
	assert.Subset(t, local.Groups, want)
}
