package winhost

import (
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/connect/wsman"
)

// Name spaces and the family of resource URIs. Hosts of the Windows family
// accept this one for all classes.
const (
	resourceBase = "http://schemas.microsoft.com/wbem/wsman/1/wmi/"
	spaceCIM     = "root/cimv2"
	spaceTasks   = "root/Microsoft/Windows/TaskScheduler"
	spaceWeb     = "root/WebAdministration"
	spaceCluster = "root/MSCluster"
	registryURI  = resourceBase + "root/cimv2/StdRegProv"
)

func serviceResource(name string) wsman.Resource {
	return wsman.Resource{URI: resourceBase + spaceCIM + "/Win32_Service", Selectors: []wsman.Pair{{Name: "Name", Value: name}}}
}

func poolResource(name string) wsman.Resource {
	return wsman.Resource{URI: resourceBase + spaceWeb + "/ApplicationPool", Selectors: []wsman.Pair{{Name: "Name", Value: name}}}
}

// taskMethod is how a task is given a log-on. That the method exists is sure,
// its name and parameters are likely: both stand only here.
func taskMethod(folder, name, account, password string) (wsman.Resource, string, []wsman.Pair) {
	input := []wsman.Pair{{Name: "TaskName", Value: name}, {Name: "TaskPath", Value: folder}, {Name: "User", Value: account}}
	if password != "" {
		input = append(input, wsman.Pair{Name: "Password", Value: password})
	}
	return wsman.Resource{URI: resourceBase + spaceTasks + "/PS_ScheduledTask"}, "SetByUser", input
}

// principalMethod is how a task is given a managed account, of which nobody knows the
// password: by its principal, as one that stands on a password that the host fetches
// itself. present is the principal as it is now; what else it says stays.
func principalMethod(folder, name, account string, present *wsman.Node) (wsman.Resource, string, []wsman.Pair, wsman.Embedded) {
	principal := *present
	principal.Children = slices.Clone(present.Children)
	for i, c := range principal.Children {
		copied := *c
		principal.Children[i] = &copied
	}
	principal.Set("UserId", account)
	principal.Set("LogonType", strconv.Itoa(taskPassword))
	input := []wsman.Pair{{Name: "TaskName", Value: name}, {Name: "TaskPath", Value: folder}}
	return wsman.Resource{URI: resourceBase + spaceTasks + "/PS_ScheduledTask"}, "SetByPrincipal", input, wsman.Embedded{Name: "Principal", Instance: &principal}
}

// managed: the directory makes the account's password, and hosts fetch it.
func managed(account string) bool { return strings.HasSuffix(account, "$") }

// taskPlace is a task's folder and name in one.
func taskPlace(folder, name string) string { return folder + name }

func splitTask(place string) (folder, name string) {
	i := strings.LastIndexByte(place, '\\')
	return place[:i+1], place[i+1:]
}

// Kinds of log-on of a task's principal; only these keep a password.
const (
	taskPassword              = 1
	taskInteractiveOrPassword = 6
)

// Identities of an application pool.
const poolNamed = 3

var poolIdentities = map[int64]string{0: "LocalSystem", 1: `NT AUTHORITY\LocalService`, 2: `NT AUTHORITY\NetworkService`}

// States of an application pool, as its method GetState tells them.
var poolStates = map[int64]string{0: "starting", 1: "started", 2: "stopping", 3: "stopped"}

var taskStates = map[int64]string{0: "unknown", 1: "disabled", 2: "queued", 3: "ready", 4: "running"}

// startModes in the words of this program.
var startModes = map[string]string{"Auto": "automatic", "Manual": "manual", "Disabled": "disabled", "Boot": "boot", "System": "system"}

const localMachine = "2147483650" // HKEY_LOCAL_MACHINE
