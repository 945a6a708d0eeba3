package service

import (
	"strings"
	"time"
)

// A device that signed in once holds a token that says so: drawn at random,
// bound to the name by a key of the service. It signs nobody in; it only keeps
// others who know the name from making this device wait.
const (
	deviceCookie = "moss_device"
	deviceTime   = 365 * 24 * time.Hour
)

func (s *Service) newDevice(name string) (string, error) {
	drawn, err := newBearer()
	if err != nil {
		return "", err
	}
	return drawn + "." + s.app.Base.Mark("device", name+"\x00"+drawn), nil
}

// knownDevice returns what a device is counted by.
func (s *Service) knownDevice(name string, in *signInInput) (string, bool) {
	for _, token := range []string{in.Body.Device, in.Cookie} {
		drawn, mark, found := strings.Cut(token, ".")
		if found && name != "" && mark == s.app.Base.Mark("device", name+"\x00"+drawn) {
			return mark, true
		}
	}
	return "", false
}
