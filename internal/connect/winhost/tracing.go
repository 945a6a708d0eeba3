package winhost

import (
	"errors"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/wsman"
)

// traced tells messages to whoever wants to see them.
func traced(to connect.Trace, target connect.Target) func(text string, begun time.Time, err error) {
	return func(text string, begun time.Time, err error) {
		if !to.On() {
			return
		}
		to.Tell(connect.Ended("ws-management", text, begun, err, func(err error) bool {
			var fault *wsman.Fault
			return errors.As(err, &fault) && (fault.Subcode == wsman.AccessDenied || fault.Number == wsman.NumberAccessDenied)
		}), target.Steward.Password)
	}
}
