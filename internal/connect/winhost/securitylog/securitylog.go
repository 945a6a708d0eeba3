// Package securitylog reads events of a windows host's log of security: who signed in, and
// who changed a local account.
package securitylog

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/change"
)

// account says where in an event's strings an account stands: its name, and its domain
// after it.
type account int

// events of a log of security that tell who signed in or changed a local account: which
// account it was done to, and who did it.
var events = map[int]struct {
	act     change.Act
	of, who account
}{
	4624: {act: change.SignedIn, who: 5},
	4720: {change.Altered, 0, 4}, // made
	4722: {change.Altered, 0, 4}, // enabled
	4723: {change.SetPassword, 0, 4},
	4724: {change.SetPassword, 0, 4},
	4725: {change.Altered, 0, 4}, // disabled
	4726: {change.Altered, 0, 4}, // removed
	4738: {change.Altered, 1, 5},
}

// Strings of 4624: the kind of log-on, and from where.
const (
	kindOfLogOn = 8
	fromAddress = 18
)

// byPeople are the kinds of log-on that a person or a program elsewhere makes: at the
// console, over the network, unlocked, with a password in clear, remote and with a kept
// password. Services and tasks of the host itself are not among them.
var byPeople = []string{"2", "3", "7", "8", "10", "11"}

// Which is the condition that chooses the events that are read.
func Which() string {
	var codes []string
	for _, code := range slices.Sorted(maps.Keys(events)) {
		codes = append(codes, fmt.Sprintf("EventCode=%d", code))
	}
	return strings.Join(codes, " or ")
}

// Read reads one event by its number and its strings.
func Read(code int, list []string) (change.Record, bool) {
	event, known := events[code]
	text := func(at account, after int) string {
		if i := int(at) + after; i < len(list) && list[i] != "-" {
			return list[i]
		}
		return ""
	}
	name, domain := text(event.who, 0), text(event.who, 1)
	if !known || name == "" || strings.HasSuffix(name, "$") {
		return change.Record{}, false // a machine
	}
	r := change.Record{Act: event.act, Who: name}
	if domain != "" {
		r.Who = domain + `\` + name
	}
	if event.act == change.SignedIn {
		r.From = text(fromAddress, 0)
		return r, slices.Contains(byPeople, text(kindOfLogOn, 0)) && !ofTheSystem(domain)
	}
	r.Of = text(event.of, 0)
	return r, r.Of != ""
}

// ofTheSystem are the domains of identities that no person has.
func ofTheSystem(domain string) bool {
	return slices.ContainsFunc([]string{"NT AUTHORITY", "Window Manager", "Font Driver Host", "NT SERVICE", "IIS APPPOOL"}, func(own string) bool { return strings.EqualFold(own, domain) })
}
