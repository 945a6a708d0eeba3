package expiry

import "mossledger.example/moss/internal/core/estate"

// Way is how a holder uses what ends.
type Way string

// Ways.
const (
	SignsIn  Way = "signs in" // a program that gives the value anew
	LogsOn   Way = "logs on"  // a service, task or pool whose system logs it on
	RunsUnit Way = "unit"     // a system unit that runs as the account
	RunsJob  Way = "job"      // a line of a crontab
	OpensKey Way = "key"      // who comes with a key
	Open     Way = "open"     // who is signed in already
)

// Sight is what a holder of it sees from then on.
type Sight struct {
	Way   Way    `json:"way"`
	When  string `json:"when"`  // at which moment of its own: "at its next sign-in"
	Stops bool   `json:"stops"` // it is refused
	Words string `json:"words"` // the system's own, where it is refused
}

// WayOf is how a dependent uses an account or its credential. Files hold what a program
// signs in with.
func WayOf(kind estate.DependentKind) Way {
	switch {
	case kind.LogsOn():
		return LogsOn
	case kind == estate.DependentUnit:
		return RunsUnit
	case kind == estate.DependentCron:
		return RunsJob
	case kind == estate.DependentKey || kind == estate.DependentAuthorized || kind == estate.DependentCloudKey || kind == estate.DependentIssued:
		return OpensKey
	}
	return SignsIn
}

// Seen finds what a holder sees that uses it in a way; false when nothing is said of that way.
func Seen(sights []Sight, way Way) (Sight, bool) {
	for _, s := range sights {
		if s.Way == way {
			return s, true
		}
	}
	return Sight{}, false
}
