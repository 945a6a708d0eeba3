package records

import (
	"time"

	"mossledger.example/moss/internal/core/privilege"
)

// GivenRight is one entry of a list of rights: what is given to one principal, or taken
// from it, at one place.
type GivenRight struct {
	ID         GivenRightID   `json:"id"`
	System     string         `json:"system"`
	SystemID   SystemID       `json:"system_id"`
	To         string         `json:"to" doc:"The principal that it is given to, by name"`
	ToKind     privilege.Kind `json:"to_kind" enum:"account,group,role,everyone,unknown"`
	AccountID  AccountID      `json:"account_id,omitempty" doc:"Where it is an account that is known"`
	Verb       string         `json:"verb"`
	Deny       bool           `json:"deny" doc:"It takes the right"`
	May        string         `json:"may" doc:"The verb in words: with not where it takes the right, with perhaps where that cannot be said"`
	On         string         `json:"on" doc:"The objects in words"`
	As         string         `json:"as,omitempty" doc:"Whose rights a command runs with"`
	What       string         `json:"what,omitempty" doc:"A command, a column, a pattern of keys"`
	ObjectKind string         `json:"object_kind" doc:"Of the first object"`
	Object     string         `json:"object" doc:"The first object, as its system names it"`
	Terms      []string       `json:"terms,omitempty" doc:"What else must be so"`
	Unsure     string         `json:"unsure,omitempty" doc:"Why it cannot be said whether it applies"`
	Text       string         `json:"text,omitempty" doc:"In the system's own language"`
	Source     string         `json:"source,omitempty" doc:"Where it stands"`
	FirstSeen  time.Time      `json:"first_seen"`
	Taken      time.Time      `json:"taken,omitzero" doc:"When it was seen to be there no longer"`
}

// GivenRightID numbers a GivenRight.
type GivenRightID int64

// RightsRead says how much of a system's rights was read, and when.
type RightsRead struct {
	Completed time.Time `json:"completed,omitzero" doc:"When all of them were read"`
	Why       string    `json:"why,omitempty" doc:"What was not read the last time, and why"`
	Whole     time.Time `json:"whole,omitzero" doc:"When also that was read which is not read each time, such as who may do what to services"`
	Never     bool      `json:"never,omitempty" doc:"Nothing was read yet"`
}

// HeldRight is one thing that an account may do on a system.
type HeldRight struct {
	System   string   `json:"system"`
	SystemID SystemID `json:"system_id"`
	privilege.Right
	May       string `json:"may" doc:"The verb in words"`
	On        string `json:"on" doc:"The objects in words"`
	Through   string `json:"through" doc:"The path in one line; empty where it is given to the account itself"`
	OfObjects int    `json:"of_objects" doc:"How many objects share the list; objects has the first of them"`
	Void      string `json:"void,omitempty" doc:"Why it counts for nothing: another entry decides"`
}

// AccountRights are all that an account may do, as far as it is known.
type AccountRights struct {
	AccountID AccountID   `json:"account_id"`
	Account   string      `json:"account"`
	System    string      `json:"system"`
	Groups    []InGroup   `json:"groups" nullable:"false"`
	Rights    []HeldRight `json:"rights" nullable:"false"`
	More      int         `json:"more,omitempty" doc:"So many more rights it has that are not listed: those of an administrator of a large directory have no end"`
	Read      RightsRead  `json:"read"`

	Elsewhere []RightsElsewhere `json:"elsewhere" nullable:"false" doc:"What it may do on hosts that know it by its name, such as those of its domain"`
}

// RightsElsewhere are what an account may do on a system that it does not belong to.
type RightsElsewhere struct {
	System string      `json:"system"`
	Name   string      `json:"name" doc:"Who it is there"`
	Groups []InGroup   `json:"groups" nullable:"false"`
	Rights []HeldRight `json:"rights" nullable:"false"`
	More   int         `json:"more,omitempty" doc:"So many more rights it has there that are not listed"`
	Read   RightsRead  `json:"read"`
}

// InGroup is a group or role that an account lies in.
type InGroup struct {
	Name    string           `json:"name"`
	Kind    privilege.Kind   `json:"kind" enum:"account,group,role,everyone,unknown"`
	Through string           `json:"through" doc:"The path in one line; empty where it is listed in it"`
	Path    []privilege.Link `json:"path" nullable:"false"`
}

// RightHolder is somebody who may do what was asked for.
type RightHolder struct {
	Name      string         `json:"name"`
	Kind      privilege.Kind `json:"kind" enum:"account,group,role,everyone,unknown"`
	AccountID AccountID      `json:"account_id,omitempty"`
	Allowed   bool           `json:"allowed"`
	Unsure    string         `json:"unsure,omitempty" doc:"Why it cannot be said for sure"`
	Rights    []HeldRight    `json:"rights" nullable:"false" doc:"The entries by which it may"`
}

// RightHolders answer who may do something on a system.
type RightHolders struct {
	System  string        `json:"system"`
	Holders []RightHolder `json:"holders" nullable:"false"`
	Read    RightsRead    `json:"read"`
}
