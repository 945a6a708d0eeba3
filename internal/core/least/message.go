package least

import (
	"encoding/xml"
	"strings"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/privilege"
)

// services are the rights on a service that the methods of its class take.
var services = map[string]string{"startservice": "start", "stopservice": "stop", "change": "change", "changestartmode": "change"}

// message reads a message of WS-Management (DSP0226): who sends one at all must be let in so;
// what is done to a service is a right on that service. All else is shown and let be done to
// local administrators.
func message(o Operation, add func(charter.Item), doubt func(Operation, string)) {
	var envelope struct {
		Header struct {
			Action    string `xml:"Action"`
			Resource  string `xml:"ResourceURI"`
			Selectors []struct {
				Name  string `xml:"Name,attr"`
				Value string `xml:",chardata"`
			} `xml:"SelectorSet>Selector"`
		} `xml:"Header"`
	}
	if err := xml.Unmarshal([]byte(o.Text), &envelope); err != nil {
		doubt(o, "it is no message of WS-Management")
		return
	}
	h := envelope.Header
	if h.Action == "" {
		return // it asks what answers there, which everyone may
	}
	add(charter.Item{Do: privilege.VerbSignIn, What: "by remote management"})
	method := strings.ToLower(h.Action[strings.LastIndexByte(h.Action, '/')+1:])
	class := strings.ToLower(h.Resource[strings.LastIndexByte(h.Resource, '/')+1:])
	switch {
	case method == "enumerate" || method == "pull" || method == "get" || method == "release":
		return // it is shown what each thing's own descriptor shows
	case class == "win32_service" && services[method] != "":
		for _, s := range h.Selectors {
			if strings.EqualFold(s.Name, "Name") {
				add(charter.Item{Do: services[method], To: "service:" + s.Value})
			}
		}
	case class == "stdregprov":
		return // it reads keys, each by its own descriptor
	default:
		o.Text = class + " " + method
		doubt(o, "local administrators alone may do this")
	}
}

// Helpers are the commands of items that are no part of the system's own packages: what they
// do is what their file says, so that a rule for one should name the file's digest.
func Helpers(items []charter.Item) (paths []string) {
	seen := map[string]bool{}
	for _, i := range items {
		command, _, _ := strings.Cut(i.Run, " ")
		if !strings.HasPrefix(command, "/") || seen[command] || packaged(command) {
			continue
		}
		seen[command] = true
		paths = append(paths, command)
	}
	return paths
}

func packaged(command string) bool {
	for _, folder := range []string{"/usr/bin/", "/usr/sbin/", "/bin/", "/sbin/", "/usr/lib/", "/usr/libexec/", "/lib/"} {
		if strings.HasPrefix(command, folder) {
			return true
		}
	}
	return false
}

// Pin puts the digests of helpers before their commands; sums are by path.
func Pin(items []charter.Item, sums map[string]string) {
	for i := range items {
		command, _, _ := strings.Cut(items[i].Run, " ")
		if sum := sums[command]; sum != "" {
			items[i].Run = "sha256:" + sum + " " + items[i].Run
		}
	}
}
