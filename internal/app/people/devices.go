package people

import "strings"

// A device that signed in once holds a token that says so: drawn at random,
// bound to the name by a key of the service. It signs nobody in; it only keeps
// others who know the name from making this device wait.

func (people *People) newDevice(name string) (string, error) {
	drawn, err := newBearer()
	if err != nil {
		return "", err
	}
	return drawn + "." + people.base.Mark("device", name+"\x00"+drawn), nil
}

// knownDevice returns what a device is counted by.
func (people *People) knownDevice(name string, devices []string) (string, bool) {
	for _, token := range devices {
		drawn, mark, found := strings.Cut(token, ".")
		if found && name != "" && mark == people.base.Mark("device", name+"\x00"+drawn) {
			return mark, true
		}
	}
	return "", false
}
