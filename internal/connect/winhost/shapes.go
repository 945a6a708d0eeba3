package winhost

import (
	"fmt"
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

// returnWords are the meanings of what the service class's methods return.
var returnWords = map[int64]string{
	0: "success", 1: "not supported", 2: "access denied", 3: "services that depend on it are running", 4: "invalid control", 5: "it cannot accept the control in its state",
	6: "it is not running", 7: "it did not answer the start request in time", 8: "unknown failure while starting it", 9: "the path of its program was not found", 10: "it is running already",
	11: "the service database is locked", 12: "a service that it depends on is not there", 13: "a service that it depends on failed to start", 14: "it is disabled",
	15: "the log-on failed", 16: "it is marked for deletion", 17: "it has no thread", 18: "its dependencies form a circle", 19: "the name is used twice", 20: "the name is invalid", 21: "a parameter was invalid",
	22: "the account is invalid, or has no right to log on as a service", 23: "it exists already", 24: "it is paused already",
}

// returned tells a return code with its meaning.
func returned(method string, code int64) string {
	words := returnWords[code]
	if words == "" {
		words = "a code without a known meaning"
	}
	return fmt.Sprintf("%s returned %d: %s", method, code, words)
}

// exitWords are the meanings of exit codes of services worth telling.
var exitWords = map[int64]string{
	1053: "it did not answer the start request in time", 1058: "it is disabled", 1066: "it ended with an error of its own", 1067: "its process ended unexpectedly", 1068: "a service that it depends on failed to start",
	1069: "the log-on failed", 1070: "it hung after starting", 1075: "a service that it depends on is not there", 1077: "nobody tried to start it since the host started",
}

func exited(code int64) string {
	if code <= 0 {
		return ""
	}
	if words := exitWords[code]; words != "" {
		return fmt.Sprintf("%d: %s", code, words)
	}
	return fmt.Sprintf("%d", code)
}

// pendingReboot are the registry keys whose presence says that a restart of
// the host is due, with what they mean.
var pendingReboot = []struct{ key, why string }{
	{`SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`, "components were changed"},
	{`SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired`, "updates were installed"},
}

const localMachine = "2147483650" // HKEY_LOCAL_MACHINE
