// Package expiry says what ends, and when.
//
// Passwords, accounts, roles, tokens, keys, certificates and memberships end, each by a rule
// of its own system. What they have in common stands here: an End, which is a moment, or
// never, or not known with the reason; the parts of a timeline; the acts by which a person
// makes something end, last longer or go away; and what a holder of it will see. Never is a
// value of its own: systems write it as a year that nobody will live to see, and such a
// moment is never here.
package expiry

import (
	"fmt"
	"time"
)

// What is it that ends.
type What string

// What ends.
const (
	Password    What = "password"
	Account     What = "account"
	Role        What = "role" // of a data store: what it signs in with ends, other ways of proof do not
	Token       What = "token"
	Key         What = "key" // also an entry that lets the holder of a key in
	Certificate What = "certificate"
	Membership  What = "membership" // that is given for a while
	Right       What = "right"      // that its own entry gives for a while
)

// Whats are all of them.
func Whats() []What {
	return []What{Password, Account, Role, Token, Key, Certificate, Membership, Right}
}

// State of an end.
type State string

// States.
const (
	Ends    State = "ends"  // at a moment, which may have passed
	Ended   State = "ended" // it is refused already, whatever the clock says: a password that must be changed
	Never   State = "never"
	Unknown State = "unknown" // and why
)

// States are all of them.
func States() []State { return []State{Ends, Ended, Never, Unknown} }

// End is when something ends.
type End struct {
	State State     `json:"state" enum:"ends,ended,never,unknown"`
	At    time.Time `json:"at,omitzero"`   // of Ends; where known of Ended
	Why   string    `json:"why,omitempty"` // of Unknown; of the others how it is known, where that is not plain
}

// farYear is from which year on an end is none: systems write never as the year 9999, as the
// largest number they know, or as some round year beyond all planning.
const farYear = 2200

// Far reports whether a moment means never.
func Far(t time.Time) bool { return t.Year() >= farYear }

// At is the end at a moment, to the second: not every system keeps more, and nobody means more.
// It is never for one that is far, unknown for none.
func At(t time.Time) End {
	switch {
	case t.IsZero():
		return End{State: Unknown, Why: "its system does not say"}
	case Far(t):
		return End{State: Never}
	}
	return End{State: Ends, At: t.UTC().Truncate(time.Second)}
}

// Past reports whether it has ended.
func (e End) Past(now time.Time) bool {
	return e.State == Ended || e.State == Ends && !e.At.After(now)
}

// Same reports whether two ends are one, whatever is said of them.
func (e End) Same(other End) bool { return e.State == other.State && e.At.Equal(other.At) }

// String says it in words.
func (e End) String() string {
	switch e.State {
	case Ends:
		return e.At.UTC().Format(time.RFC3339)
	case Unknown:
		if e.Why != "" {
			return "unknown: " + e.Why
		}
	}
	return string(e.State)
}

// Part of a timeline.
type Part string

// Parts, in their order.
const (
	PartPast    Part = "past"
	PartWeek    Part = "7"
	PartMonth   Part = "30"
	PartQuarter Part = "90"
	PartLater   Part = "later"
	PartNever   Part = "never"
	PartUnknown Part = "unknown"
)

// Parts are all of them, in order.
func Parts() []Part {
	return []Part{PartPast, PartWeek, PartMonth, PartQuarter, PartLater, PartNever, PartUnknown}
}

// Day is as long as a day of a timeline.
const Day = 24 * time.Hour

// Part is where on a timeline it stands.
func (e End) Part(now time.Time) Part {
	switch {
	case e.State == Never:
		return PartNever
	case e.State == Unknown || e.State == "":
		return PartUnknown
	case e.Past(now):
		return PartPast
	}
	switch left := e.At.Sub(now); {
	case left <= 7*Day:
		return PartWeek
	case left <= 30*Day:
		return PartMonth
	case left <= 90*Day:
		return PartQuarter
	}
	return PartLater
}

// Left says in words how far away an end is.
func (e End) Left(now time.Time) string {
	switch {
	case e.State == Never:
		return "never ends"
	case e.State == Ended && e.At.IsZero():
		return "has ended"
	case e.State == Unknown || e.State == "":
		return "end not known"
	case e.Past(now):
		return "ended " + distance(now.Sub(e.At)) + " ago"
	}
	return "ends in " + distance(e.At.Sub(now))
}

func distance(d time.Duration) string {
	one := func(n int64, unit string) string {
		if n == 1 {
			return "1 " + unit
		}
		return fmt.Sprintf("%d %ss", n, unit)
	}
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < 2*time.Hour:
		return one(int64(d/time.Minute), "minute")
	case d < 2*Day:
		return one(int64(d/time.Hour), "hour")
	}
	return one(int64(d/Day), "day")
}
