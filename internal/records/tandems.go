package records

import "time"

// TandemID numbers a tandem.
type TandemID int64

// TandemSide is one of two accounts that take turns.
type TandemSide struct {
	CredentialID CredentialID `json:"credential_id"`
	AccountID    AccountID    `json:"account_id"`
	Account      string       `json:"account"` // name
}

// States of a tandem.
const (
	TandemReady   = "ready"   // it has not turned yet: the other one may sign in, as its system has it
	TandemRests   = "rests"   // the one that rests was proven to be refused
	TandemTurning = "turning" // a rotation of it is not finished
)

// Tandem is two accounts of one authority that take turns.
type Tandem struct {
	ID      TandemID   `json:"id"`
	System  string     `json:"system"`
	Working TandemSide `json:"working" doc:"What uses the tandem uses this account"`
	Resting TandemSide `json:"resting" doc:"It gets a new value and takes the other one's place when its turn comes"`
	State   string     `json:"state" enum:"ready,rests,turning" doc:"ready: it has not turned yet, and the other one may sign in as its system has it; rests: the other one was proven to be refused; turning: a rotation is not finished"`
	Turned  time.Time  `json:"turned,omitzero" doc:"When they last changed places"`
	Reason  string     `json:"reason"`
	Added   time.Time  `json:"added"`
	AddedBy string     `json:"added_by"`
}

// TandemIs is what a rotation made of a tandem.
type TandemIs struct {
	Working, Resting CredentialID
	Rests            bool // proven
}
