// Package building makes the plan of a rotation or an assignment: which steps, and
// what each of them waits for. It is given what is known of a credential, its points,
// its holders and the dependents around them, and changes nothing.
package building

import (
	"time"

	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
)

// Steward is a system that we ourselves reach with the account.
type Steward struct {
	SystemID, System, Name string
}

// Point is where a credential is accepted: an account at its authority, or a file
// of entries that lets the holder of a key in.
type Point struct {
	SystemID string
	System   string
	Account  string // that it proves; "" when that is not known
	Path     string // of the file of entries; "" where the system itself decides
	Via      string // see Door
	Overlap  bool   // it accepts two values at once
	Issuer   bool   // see Door
	// Certifies and Shows: see Door.
	Certifies, Shows bool
	Names            string // of a certificate, in words
	Unit             string // of a port: the place of the unit that listens there; "" where that is not known
	Next             string // where two accounts take turns: the other one, which accepts the new value
}

// File is a file that holds copies.
type File struct {
	SystemID string
	System   string
	Path     string
	Places   []held.Locator
	Holds    string // fingerprint of what stands there, when it is not the current value
}

// LogOn is a log-on that a system keeps for a dependent.
type LogOn struct {
	SystemID string
	System   string
	Place    estate.Place
	Account  string // to write
	Was      string // as written now
	WasID    string // id of that account, when it is another one
	Moved    bool   // it is another identity
	Back     string // how the former one is written when it is given back; "" for as it was
}

// Unit is a dependent that runs: it reads held copies, or logs on itself.
type Unit struct {
	SystemID string
	System   string
	Kind     estate.DependentKind // unit when empty
	Name     string               // its place
	Running  bool
	Start    bool          // bring it up although it is down
	Reads    []string      // paths of files on the same system
	After    []string      // names of units on the same system that start before it
	Requires []string      // names of units that take it down with them
	Behind   []Unit        // of any system, by kind and name: each is proven before this one is restarted
	Groups   []string      // of which only some are restarted at the same time
	Window   string        // in which it is restarted; "" for at any time
	Expected time.Duration // how long it stood still in earlier rotations; 0 where that is not known
	Check    *rotation.AppCheck
	Reloads  bool // it can be told to read its files again while it runs
}

// Place is the unit's place.
func (u Unit) Place() estate.Place { return estate.Place{Kind: u.Kind, Place: u.Name} }

func (u Unit) key() string { return u.SystemID + "\x00" + u.Place().Key() }

// Input is what Build needs to know.
type Input struct {
	Kind                rotation.PlanKind
	Managed             bool // of an assignment: nobody here knows the value, see Plan
	When                rotation.RestartPolicy
	NotBefore, NotAfter time.Time
	LogOns              []LogOn
	CredentialID        string
	Credential          string // name
	Of                  credential.Kind
	Type                string        // of the new value, where a kind has types
	Length              int           // of a new password
	Without             string        // characters that it must not have
	Lasts               time.Duration // of a new key that an issuer is given; 0 for without end
	Limits              []credential.Limit
	Given, GivenBy      string // fingerprint of a value that a person gave, and who; "" when it is made
	Points              []Point
	Shown               []Point             // ports that show a certificate
	NoReload            bool                // what reads its files again while it runs is restarted all the same
	Turn                *rotation.Successor // two accounts take turns; nil for a value that changes at its account
	Authority           string              // the systems that decide, in words
	OnFailure           rotation.OnFailure
	Patience            time.Duration // see Plan; 0 for DefaultPatience
	Stewards            []Steward     // systems that we reach with the account ourselves
	Files               []File
	Units               []Unit
	Windows             map[string]rotation.Openings
	Window              string // in which the authority is changed; "" for at any time
	AtWindowEnd         rotation.WindowEnd
	FirstAlone          bool           // one dependent is changed and proven before all others
	Groups              map[string]int // how many of a group at the same time; 1 where it does not say
	StopFirst           bool           // what would go on with the old value is stopped before the change, where restarts are now
}
