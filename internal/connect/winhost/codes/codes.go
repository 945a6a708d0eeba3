// Package codes has the meanings of what methods of a windows host return, and services exit with.
package codes

import "fmt"

// returnWords are the meanings of what the service class's methods return.
var returnWords = map[int64]string{
	0: "success", 1: "not supported", 2: "access denied", 3: "services that depend on it are running", 4: "invalid control", 5: "it cannot accept the control in its state",
	6: "it is not running", 7: "it did not answer the start request in time", 8: "unknown failure while starting it", 9: "the path of its program was not found", 10: "it is running already",
	11: "the service database is locked", 12: "a service that it depends on is not there", 13: "a service that it depends on failed to start", 14: "it is disabled",
	15: "the log-on failed", 16: "it is marked for deletion", 17: "it has no thread", 18: "its dependencies form a circle", 19: "the name is used twice", 20: "the name is invalid", 21: "a parameter was invalid",
	22: "the account is invalid, or has no right to log on as a service", 23: "it exists already", 24: "it is paused already",
}

// Returned tells a return code with its meaning.
func Returned(method string, code int64) string {
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

// Exited is an exit code with its meaning; "" for none.
func Exited(code int64) string {
	if code <= 0 {
		return ""
	}
	if words := exitWords[code]; words != "" {
		return fmt.Sprintf("%d: %s", code, words)
	}
	return fmt.Sprintf("%d", code)
}

// PendingReboot are the registry keys whose presence says that a restart of
// the host is due, with what they mean.
var PendingReboot = []struct{ Key, Why string }{
	{`SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`, "components were changed"},
	{`SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired`, "updates were installed"},
}

// Restarted tells what a request to restart a host returned: a system error code ([MS-ERREF],
// section 2.2), and none of the service class.
func Restarted(code int64) string {
	words := map[int64]string{5: "access denied", 1115: "it is shutting down already", 1314: "the privilege for it is not held"}[code]
	if words == "" {
		words = "a code without a known meaning"
	}
	return fmt.Sprintf("Reboot returned %d: %s", code, words)
}
