package winhost

import (
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
)

// bare are identities of every host that tasks name without a domain, in the language
// of the host, by what they are. A name of an account that somebody made has a domain,
// or the host, before it.
var bare = map[string]string{
	"local service": `NT AUTHORITY\LOCAL SERVICE`, "lokaler dienst": `NT AUTHORITY\LOCAL SERVICE`, "service local": `NT AUTHORITY\LOCAL SERVICE`, "servicio local": `NT AUTHORITY\LOCAL SERVICE`, "servizio locale": `NT AUTHORITY\LOCAL SERVICE`, "servi\u00e7o local": `NT AUTHORITY\LOCAL SERVICE`,
	"network service": `NT AUTHORITY\NETWORK SERVICE`, "netzwerkdienst": `NT AUTHORITY\NETWORK SERVICE`, "service r\u00e9seau": `NT AUTHORITY\NETWORK SERVICE`, "servicio de red": `NT AUTHORITY\NETWORK SERVICE`, "servizio di rete": `NT AUTHORITY\NETWORK SERVICE`,
	"syst\u00e8me": `NT AUTHORITY\SYSTEM`, "interactive": `NT AUTHORITY\INTERACTIVE`, "interaktiv": `NT AUTHORITY\INTERACTIVE`, "interactif": `NT AUTHORITY\INTERACTIVE`,
}

// principal says what a task runs as, and in words whoever it runs as where that is
// nobody in particular: a task of a group runs as those of its members who are signed
// in, and has no password.
func principal(user, group string) (runsAs, whoever string) {
	if user != "" {
		if known, found := bare[naming.Fold(user)]; found {
			return known, ""
		}
		return user, ""
	}
	if group == "" {
		return "", ""
	}
	whoever = "(as whoever of " + group + " is signed in)"
	switch {
	case naming.IdentityOf(group) != estate.IdentityNamed:
		return group, whoever
	case !strings.ContainsAny(group, `\@`) && !strings.HasPrefix(strings.ToUpper(group), "S-1-"):
		return `BUILTIN\` + group, whoever // a local group without its host's name: Users, Benutzer
	}
	return "", whoever
}
