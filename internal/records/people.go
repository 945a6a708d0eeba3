package records

import (
	"encoding/json"
	"time"

	"mossledger.example/moss/internal/core/ledger"
)

// States of an approval.
const (
	ApprovalAsked      = "asked"
	ApprovalApproved   = "approved"
	ApprovalRefused    = "refused"
	ApprovalWithdrawn  = "withdrawn" // by who asked
	ApprovalSuperseded = "superseded"
	ApprovalExpired    = "expired" // nobody approved it in time // something else was asked for in its place
)

// Approval is something that one person asks for and another one approves.
type Approval struct {
	ID        ApprovalID      `json:"id"`
	Kind      string          `json:"kind" enum:"endpoint,rotation,person,requirement"`
	Subject   string          `json:"subject"`
	What      string          `json:"what" doc:"In words"`
	Changes   []ledger.Change `json:"changes" nullable:"false" doc:"Before and after"`
	Systems   []string        `json:"systems" nullable:"false" doc:"That wait for it"`
	Reason    string          `json:"reason"`
	AskedBy   string          `json:"asked_by"`
	Asked     time.Time       `json:"asked"`
	State     string          `json:"state" enum:"asked,approved,refused,withdrawn,superseded,expired"`
	Expires   time.Time       `json:"expires,omitzero" doc:"It cannot be approved after that"`
	DecidedBy string          `json:"decided_by,omitempty"`
	Decided   time.Time       `json:"decided,omitzero"`
	Words     string          `json:"words" doc:"Of who decided, or what came of it"`
	Digest    string          `json:"digest" doc:"To be sent with an approval: what was seen is what is approved"`
	Detail    json.RawMessage `json:"-"`
	SystemIDs []SystemID      `json:"-"`
}

// Duty is something that the service does regularly, as it was done last.
type Duty struct {
	Name  string    `json:"name"`
	Begun time.Time `json:"begun,omitzero" doc:"When it was begun last, or counted as begun"`
	Ended time.Time `json:"ended,omitzero" doc:"When that ended; nothing while it runs, or when it was interrupted"`
	Words string    `json:"words,omitempty" doc:"What came of it"`
}

// User is a person who signs in.
type User struct {
	Name     string    `json:"name"`
	Roles    []string  `json:"roles" nullable:"false"`
	Created  time.Time `json:"created"`
	Disabled bool      `json:"disabled"`
	Password string    `json:"-"` // argon2id in PHC form
}

// Session is somebody who is signed in to the console.
type Session struct {
	ID      string    `json:"id"`
	User    string    `json:"user"`
	Address string    `json:"address" doc:"Where it was begun from; empty for one from before this was kept"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Current bool      `json:"current" doc:"It is the one that asks"`
}

// Token is an API token; the token itself is shown once and stored hashed.
type Token struct {
	ID      TokenID   `json:"id"`
	User    string    `json:"user"`
	Label   string    `json:"label"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Used    time.Time `json:"used,omitzero"`
	Revoked time.Time `json:"revoked,omitzero"`
	Only    string    `json:"only,omitempty" doc:"What alone it is for: calendar, to read the schedule as one; absent for all that its owner may"`
}

// OnlyCalendar is of a token that reads the schedule as a calendar, and nothing else.
const OnlyCalendar = "calendar"
